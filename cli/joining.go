package cli

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ullage/client"
	"ullage/core/join"
	"ullage/core/value"
)

var joinKeyThings = things[client.JoinKey]{
	group: groupJoin, word: "join-key", words: "join keys", short: "Keys with which devices join by themselves",
	of: (*client.Client).JoinKeys, name: func(k client.JoinKey) string { return k.Name },
	columns: []column[client.JoinKey]{
		{"join key", func(k client.JoinKey) string { return k.Name }},
		{"model", func(k client.JoinKey) string { return k.Model }},
		{"joined", func(k client.JoinKey) string { return fmt.Sprintf("%d of %d", k.Joined, k.Cap) }},
		{"waiting", func(k client.JoinKey) string { return fmt.Sprint(k.Waiting) }},
		{"serials", func(k client.JoinKey) string {
			if k.Listed == 0 {
				return "any"
			}
			return fmt.Sprint(k.Listed)
		}},
		{"approval", func(k client.JoinKey) string { return k.Approval }},
		{"until", func(k client.JoinKey) string {
			if k.RevokedAt != nil {
				return "revoked " + day(k.RevokedAt, "")
			}
			return day(k.ExpiresAt, "")
		}},
		{"note", func(k client.JoinKey) string { return k.Note }},
	},
	none: "There are no join keys. Make one with: ullage join-key make NAME --model MODEL --cap 40 --expires 30d",
	yaml: func(k client.JoinKey) []byte { return k.YAML() }, removed: "devices that have joined by it stay",
	example: "fennimore-pallet", set: "cap=60", made: true,
}

func joinKeyCommand() *cobra.Command {
	change := joinKeyThings.save()
	change.Use, change.Short = "change NAME FIELD=VALUE…", "Change fields of a join key; its secret stays"
	change.Long = "Changes the fields that are given; the others stay, and an empty value takes one away.\nThe fields are\n" + strings.Join(joinKeyThings.settable(), ", ") + "."
	change.Example = "  ullage join-key change fennimore-pallet cap=60"
	return noun(groupJoin, "join-key", joinKeyThings.short, joinKeyThings.list(), joinKeyThings.show(), joinKeyMake(), change, joinKeyLabels(), joinKeyRevoke(), joinKeyThings.remove())
}

func joinKeyMake() *cobra.Command {
	var k client.JoinKey
	var pairs []string
	var expires, serials string
	c := &cobra.Command{
		Use:   "make NAME --model MODEL --cap N --expires 30d",
		Short: "Make a join key for a batch of devices",
		Long: `Makes a join key: each device that shows the secret of its serial gets a credential of
its own, at once or when a person lets it in. The secrets of the serials are printed
by "ullage join-key labels". The secret of the whole key, from which a factory can make
them by itself, is shown this once.

Ids and labels may hold {serial}, {part1} to {part9} for the parts of the serial
between its hyphens, dots and the like, and {first4} and {last4}.`,
		Example: "  ullage join-key make fennimore-pallet --model tank-probe --cap 40 --expires 30d \\\n" +
			"    --serials serials.txt --device 'tank-fennimore-{last2}' --label site=Fennimore",
		Args: exactly(1, "a name"),
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			k.Name = args[0]
			if k.Labels, err = newLabels(pairs); err != nil {
				return err
			}
			d, err := value.ParseDuration(expires)
			if err != nil {
				return usageError{fmt.Errorf("--expires: %w", err)}
			}
			at := time.Now().Add(d.Std()).UTC().Truncate(time.Second)
			k.ExpiresAt = &at
			if k.Serials, err = readSerials(c, serials); err != nil {
				return err
			}
			made, err := cl.MakeJoinKey(c.Context(), k)
			if err != nil {
				return err
			}
			return show(c, made, func(w io.Writer) {
				fmt.Fprintf(w, "The join key %s lets %s of %s join until %s; %s.\n\n", k.Name, plural(k.Cap, "device"), k.Model, soon(at, d.Std()),
					map[string]string{join.ByPerson: "a person lets each in", join.ByNobody: "each comes in by itself"}[made.JoinKey.Approval])
				fmt.Fprintf(w, "Secret of the whole key (shown this once):\n  %s\n\nLabels with the secret of each serial:\n  ullage join-key labels %s --sheet labels.html\nSee who asks to join:\n  ullage join-request list\n", made.Secret, k.Name)
			})
		},
	}
	c.Flags().StringVar(&k.Model, "model", "", "model of its devices")
	c.Flags().StringVar(&k.Device, "device", "", "ids of its devices, with placeholders for the serial; {serial} if empty")
	c.Flags().StringArrayVar(&pairs, "label", nil, "label as key=value, with the same placeholders; may be given several times")
	amountFlag(c, &k.Cap, "cap", 1, 0, "how many devices may join")
	c.Flags().StringVar(&expires, "expires", "", "how long devices may join, like 30d")
	c.Flags().StringVar(&serials, "serials", "", "file with the serials that may join, one a line; - for standard input; any if empty")
	wordFlag(c, &k.Approval, "approval", join.ByPerson, "who lets devices in", join.ByPerson, join.ByNobody)
	c.Flags().StringVar(&k.Note, "note", "", "what it is for, for other people")
	for _, name := range []string{"model", "cap", "expires"} {
		needed(c, name)
	}
	c.RegisterFlagCompletionFunc("model", func(c *cobra.Command, _ []string, p string) ([]string, cobra.ShellCompDirective) {
		return modelNames(c, nil, p)
	})
	return c
}

// soon is a time to come: the day, and the time of day where that matters.
func soon(at time.Time, in time.Duration) string {
	if in < 48*time.Hour {
		return at.Local().Format("2006-01-02 15:04")
	}
	return at.Local().Format("2006-01-02")
}

// readSerials reads a file with a serial a line; a spreadsheet's first column does too.
func readSerials(c *cobra.Command, path string) ([]string, error) {
	if path == "" {
		return nil, nil
	}
	b, err := readFileOr(c, path, join.MaxSource)
	if err != nil {
		return nil, fmt.Errorf("the serials cannot be read: %w", err)
	}
	var out []string
	for i, line := range strings.Split(strings.TrimPrefix(string(b), "\ufeff"), "\n") {
		s := strings.TrimSpace(line)
		if j := strings.IndexAny(s, ",;\t"); j >= 0 {
			s = s[:j]
		}
		if s = strings.Trim(strings.TrimSpace(s), `"`); s == "" || i == 0 && strings.EqualFold(s, "serial") {
			continue
		}
		if err := join.CheckSerial(s); err != nil {
			return nil, wrong("line %d of the serials: %s", i+1, err)
		}
		out = append(out, s)
	}
	if len(out) == 0 {
		return nil, wrong("there are no serials in %s", path)
	}
	return out, nil
}

func joinKeyLabels() *cobra.Command {
	var file, sheet string
	c := &cobra.Command{
		Use:   "labels NAME [SERIAL…]",
		Short: "Print the secret of each serial, or a sheet of labels with QR codes",
		Long: `Prints the secret with which each serial joins, of those that the key lists or of those
that are named. With --sheet they go into an HTML file, which prints on A4: a label
each, with a QR code that holds serial and secret. Handle both as passwords.`,
		Example: "  ullage join-key labels fennimore-pallet --sheet labels.html\n  ullage join-key labels fennimore-pallet -o csv > secrets.csv",
		Args:    atLeast(1, "a join key"), ValidArgsFunction: joinKeyThings.names(),
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			serials, err := readSerials(c, file)
			if err != nil {
				return err
			}
			serials = append(serials, args[1:]...)
			k, _, err := cl.JoinKeys().Get(c.Context(), args[0])
			if err != nil {
				return err
			}
			if len(serials) == 0 && k.Listed == 0 {
				return usageError{fmt.Errorf("%s lists no serials; name those that the labels are for, or give a file with --serials", args[0])}
			}
			ls, err := cl.JoinLabels(c.Context(), args[0], serials)
			if err != nil {
				return err
			}
			if sheet == "" {
				return list(c, ls, "no serials", column[client.JoinLabel]{"serial", func(l client.JoinLabel) string { return l.Serial }},
					column[client.JoinLabel]{"device", func(l client.JoinLabel) string { return l.Device }},
					column[client.JoinLabel]{"secret", func(l client.JoinLabel) string { return l.Secret }})
			}
			return writeSheet(c, sheet, join.Sheet{Key: k.Name, Model: k.Model, Expires: k.ExpiresAt.Local().Format("2006-01-02"), Labels: ls})
		},
	}
	c.Flags().StringVar(&file, "serials", "", "file with serials, one a line; - for standard input")
	c.Flags().StringVar(&sheet, "sheet", "", "HTML file for a sheet of labels")
	return c
}

// writeSheet writes a sheet into a new file, which holds secrets.
func writeSheet(c *cobra.Command, path string, s join.Sheet) error {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return fmt.Errorf("the sheet cannot be written: %w; name another file", err)
	}
	err = s.Write(f)
	if closed := f.Close(); err == nil {
		err = closed
	}
	if err != nil {
		return err
	}
	fmt.Fprintf(c.OutOrStdout(), "%s are in %s; open it in a browser and print it.\n", plural(len(s.Labels), "label"), filepath.Clean(path))
	return nil
}

func joinKeyRevoke() *cobra.Command {
	yes := false
	c := &cobra.Command{
		Use: "revoke NAME", Short: "End a join key for good; devices that have joined by it stay", Args: exactly(1, "one join key"), ValidArgsFunction: joinKeyThings.names(),
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			if !yes {
				if err := confirm(c, fmt.Sprintf("Revoke the join key %s? That cannot be undone.", args[0])); err != nil {
					return err
				}
			}
			k, err := cl.RevokeJoinKey(c.Context(), args[0])
			if err != nil {
				return err
			}
			return show(c, k, func(w io.Writer) {
				fmt.Fprintf(w, "%s is revoked; %s have joined by it, and stay.\n", k.Name, plural(k.Joined, "device"))
			})
		},
	}
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}

var joinRequestThings = things[client.JoinRequest]{
	group: groupJoin, word: "join-request", words: "join requests", short: "Devices that asked to join: let them in, or refuse them",
	of: (*client.Client).JoinRequests, name: func(r client.JoinRequest) string { return r.ID },
	columns: []column[client.JoinRequest]{
		{"serial", func(r client.JoinRequest) string { return r.Serial }},
		{"device", func(r client.JoinRequest) string { return r.Device }},
		{"join key", func(r client.JoinRequest) string { return r.Key }},
		{"state", func(r client.JoinRequest) string {
			if r.Again && r.State == join.Waiting {
				return "waiting, again"
			}
			return string(r.State)
		}},
		{"from", func(r client.JoinRequest) string { return r.From }},
		{"asked", func(r client.JoinRequest) string { return ago(&r.At) }},
		{"why", func(r client.JoinRequest) string { return r.Reason }},
	},
	none: "Nobody has asked to join. Devices do with: POST /device/v1/join, or by EST",
}

func joinRequestCommand() *cobra.Command {
	return noun(groupJoin, "join-request", joinRequestThings.short, joinRequestThings.list(), joinDecide(true), joinDecide(false))
}

// waitingSerials completes the serials that wait.
var waitingSerials = complete(func(c *cobra.Command, cl *client.Client) ([]string, error) {
	rs, err := cl.JoinRequests().List(c.Context(), client.ListOptions{Where: `state == "waiting"`})
	out := make([]string, len(rs))
	for i, r := range rs {
		out[i] = r.Serial
	}
	return out, err
})

func joinDecide(admit bool) *cobra.Command {
	d := client.JoinDecision{Admit: admit}
	var dry, yes bool
	verb, short, did := "refuse", "Refuse devices that asked to join", "refused"
	if admit {
		verb, short, did = "admit", "Let devices in that asked to join", "let in; each gets its credential when it asks again"
	}
	c := &cobra.Command{
		Use: verb + " SERIAL…", Short: short,
		Long:    short + ", by their serials, or those for which a condition over the\nfields of their requests is true; see \"ullage join-request list --help\" for those.",
		Example: fmt.Sprintf("  ullage join-request %s TP-fennimore-91\n  ullage join-request %s --where 'join_key == \"fennimore-pallet\" and not again' --dry-run", verb, verb),
		Args:    cobra.ArbitraryArgs, ValidArgsFunction: waitingSerials,
		RunE: func(c *cobra.Command, args []string) error {
			if (len(args) > 0) == (d.Where != "") {
				return usageError{fmt.Errorf("name serials, or give a condition with --where")}
			}
			cl, err := connect(c)
			if err != nil {
				return err
			}
			if d.Requests, err = requestsOf(c, cl, args); err != nil {
				return err
			}
			d.Preview = true
			would, err := cl.DecideJoins(c.Context(), d)
			if err != nil {
				return err
			}
			if dry {
				return list(c, would.Requests, "No device that waits is like that.", joinRequestThings.columns...)
			}
			if would.Count > 1 && !yes {
				if err := confirm(c, fmt.Sprintf("%s %s?", strings.ToUpper(verb[:1])+verb[1:], plural(would.Count, "device"))); err != nil {
					return err
				}
			}
			if would.Count == 0 {
				fmt.Fprintln(c.OutOrStdout(), "No device that waits is like that.")
				return nil
			}
			d.Preview = false
			done, err := cl.DecideJoins(c.Context(), d)
			if err != nil {
				return err
			}
			return show(c, done, func(w io.Writer) {
				fmt.Fprintf(w, "%s %s.\n", plural(done.Count, "device"), did)
			})
		},
	}
	c.Flags().StringVar(&d.Where, "where", "", "those that wait and for which this condition over their fields is true")
	c.Flags().BoolVar(&dry, "dry-run", false, "only show which they are")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask, also for several")
	if !admit {
		c.Flags().StringVar(&d.Reason, "reason", "", "why, for the device and the journal")
	}
	return c
}

// requestsOf finds the requests of serials. One that was refused can be let in still.
func requestsOf(c *cobra.Command, cl *client.Client, serials []string) ([]string, error) {
	if len(serials) == 0 {
		return nil, nil
	}
	all, err := cl.JoinRequests().List(c.Context(), client.ListOptions{})
	if err != nil {
		return nil, err
	}
	var out []string
	for _, s := range serials {
		i := slices.IndexFunc(all, func(r client.JoinRequest) bool { return (r.Serial == s || r.ID == s) && r.State != join.Joined })
		if i < 0 {
			return nil, fmt.Errorf("no device of the serial %s waits; see: ullage join-request list", s)
		}
		out = append(out, all[i].ID)
	}
	return out, nil
}
