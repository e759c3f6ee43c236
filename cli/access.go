package cli

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ullage/client"
	"ullage/core/person"
	"ullage/core/value"
)

func roleOr(r person.Role) string {
	if r == "" {
		return "none"
	}
	return string(r)
}

// reaches says so where an access reaches no device, or all of them, unless that was
// said to be right.
func reaches(c *cobra.Command, cl *client.Client, access string, yes bool) error {
	if access == "" || yes {
		return nil
	}
	r, err := cl.PreviewAccess(c.Context(), access)
	if err != nil {
		return err
	}
	if r.Count == 0 || r.Count == r.Of {
		return fmt.Errorf("%s Nothing was changed; say --yes if that is meant", r.Says)
	}
	fmt.Fprintln(c.ErrOrStderr(), r.Says)
	return nil
}

type changing func(ctx context.Context, cl *client.Client, name string, change func(person.Grants) person.Grants) error

func changePerson(ctx context.Context, cl *client.Client, name string, change func(person.Grants) person.Grants) error {
	p, tag, err := cl.People().Get(ctx, name)
	if err != nil {
		return err
	}
	p.Grants = change(p.Grants)
	_, err = cl.People().Put(ctx, p, tag)
	return err
}

func changeTeam(ctx context.Context, cl *client.Client, name string, change func(person.Grants) person.Grants) error {
	t, tag, err := cl.Teams().Get(ctx, name)
	if err != nil {
		return err
	}
	t.Grants = change(t.Grants)
	_, err = cl.Teams().Put(ctx, t, tag)
	return err
}

// granting returns the verbs that give a grant and take it back.
func granting(word string, names cobra.CompletionFunc, change changing) (giving, taking *cobra.Command) {
	verb := func(use, short, long string, do func(gs person.Grants, g client.Grant) (person.Grants, string)) *cobra.Command {
		var role, access string
		var yes bool
		c := &cobra.Command{Use: use + " NAME", Short: short, Long: long, Args: exactly(1, "one "+word), ValidArgsFunction: names,
			Example: fmt.Sprintf("  ullage %s %s %s --role operator --access 'label.site == \"Fennimore\"'", word, use,
				map[string]string{"person": "cellar-master", "team": "cellars"}[word]),
			RunE: func(c *cobra.Command, args []string) error {
				cl, err := connect(c)
				if err != nil {
					return err
				}
				if use == "grant" {
					if err := reaches(c, cl, access, yes); err != nil {
						return err
					}
				}
				says := ""
				if err := change(c.Context(), cl, args[0], func(gs person.Grants) person.Grants {
					gs, says = do(gs, client.Grant{Role: person.Role(role), Access: strings.TrimSpace(access)})
					return gs
				}); err != nil {
					return err
				}
				fmt.Fprintf(c.OutOrStdout(), "%s %s\n", args[0], says)
				return nil
			}}
		wordFlag(c, &role, "role", "", "the role", "viewer", "operator", "engineer", "owner")
		c.MarkFlagRequired("role")
		c.Flags().StringVar(&access, "access", "", "for these devices, a condition over labels, device.id and device.model; for all if empty")
		if use == "grant" {
			c.Flags().BoolVar(&yes, "yes", false, "also where the access reaches no device, or all of them")
		}
		return c
	}
	giving = verb("grant", "Give a "+word+" a role, for all devices or for some", `Adds a grant. A role that the same access has already is replaced. Where the access
reaches no device, or all of them, it says so first. A comparison with a label that a
device lacks reaches nothing, whichever way it is written.`,
		func(gs person.Grants, g client.Grant) (person.Grants, string) {
			gs = slices.DeleteFunc(gs, func(x person.Grant) bool { return x.Access == g.Access })
			return append(gs, g), "is " + person.Grants{g}.Words() + " now"
		})
	taking = verb("withdraw", "Take a grant back from a "+word, "Takes the grant of that role and that access back. It is in force at once, also for what is open.",
		func(gs person.Grants, g client.Grant) (person.Grants, string) {
			left := slices.DeleteFunc(slices.Clone(gs), func(x person.Grant) bool { return x == g })
			if len(left) == len(gs) {
				return gs, "has no such grant: " + g.Words()
			}
			return left, "is not " + g.Words() + " any more"
		})
	return giving, taking
}

var teamThings = things[client.Team]{
	group: groupService, word: "team", words: "teams", short: "People who share grants, such as those of one customer",
	of: (*client.Client).Teams, name: func(t client.Team) string { return t.Name },
	columns: []column[client.Team]{
		{"team", func(t client.Team) string { return t.Name }},
		{"grants", func(t client.Team) string { return t.Grants.Words() }},
		{"people", func(t client.Team) string { return strings.Join(t.People, ", ") }},
		{"note", func(t client.Team) string { return t.Note }},
	},
	none: "There are no teams. Make one with: ullage team save cellars people=night-duty",
	read: person.ParseTeam, yaml: func(t client.Team) []byte { return t.YAML() },
	removed: "its people lose what it granted, at once", example: "cellars", folder: "teams", set: "people=night-duty",
}

func teamCommand() *cobra.Command {
	c := teamThings.command()
	giving, taking := granting("team", teamThings.names(), changeTeam)
	c.AddCommand(giving, taking, starting("team", teamThings.names(), func(ctx context.Context, cl *client.Client, name string, s *person.Start) error {
		t, tag, err := cl.Teams().Get(ctx, name)
		if err == nil {
			t.Start = s
			_, err = cl.Teams().Put(ctx, t, tag)
		}
		return err
	}), teamMembers("join", "Put people into a team", func(all []string, name string) []string {
		if slices.Contains(all, name) {
			return all
		}
		return append(all, name)
	}), teamMembers("leave", "Take people out of a team", func(all []string, name string) []string {
		return slices.DeleteFunc(all, func(x string) bool { return x == name })
	}))
	return c
}

func teamMembers(use, short string, change func(all []string, name string) []string) *cobra.Command {
	return &cobra.Command{Use: use + " TEAM PERSON…", Short: short, Args: atLeast(2, "a team and at least one person"),
		Example: "  ullage team " + use + " cellars night-duty",
		ValidArgsFunction: func(c *cobra.Command, args []string, p string) ([]string, cobra.ShellCompDirective) {
			if len(args) == 0 {
				return teamThings.names()(c, args, p)
			}
			return personThings.names()(c, nil, p)
		},
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			t, tag, err := cl.Teams().Get(c.Context(), args[0])
			if err != nil {
				return err
			}
			for _, name := range args[1:] {
				t.People = change(t.People, name)
			}
			if _, err := cl.Teams().Put(c.Context(), t, tag); err != nil {
				return err
			}
			who := "nobody"
			if len(t.People) > 0 {
				who = strings.Join(t.People, ", ")
			}
			fmt.Fprintf(c.OutOrStdout(), "In %s: %s\n", t.Name, who)
			return nil
		}}
}

var keyThings = things[client.Key]{
	group: groupService, word: "key", words: "keys", short: "Credentials of programs that call the API",
	of: (*client.Client).Keys, name: func(k client.Key) string { return k.Name },
	columns: []column[client.Key]{
		{"key", func(k client.Key) string { return k.Name }},
		{"role", func(k client.Key) string { return string(k.Role) }},
		{"access", func(k client.Key) string {
			if k.Access == "" {
				return "all devices"
			}
			return k.Access
		}},
		{"page", func(k client.Key) string { return k.Page }},
		{"screens", func(k client.Key) string {
			if k.Page == "" {
				return ""
			}
			return strconv.Itoa(k.Screens)
		}},
		{"until", func(k client.Key) string { return day(k.ExpiresAt, "always") }},
		{"last used", func(k client.Key) string {
			if k.UsedAt == nil {
				return "never"
			}
			return k.UsedAt.Local().Format("2006-01-02 15:04") + " from " + k.UsedFrom
		}},
		{"note", func(k client.Key) string { return k.Note }},
	},
	none: "There are no keys. Make one with: ullage key make NAME --role viewer",
	yaml: func(k client.Key) []byte { return k.YAML() }, removed: "programs that use it are out within a second",
	example: "press-hall-screen",
}

func day(t *time.Time, none string) string {
	if t == nil {
		return none
	}
	return t.Local().Format("2006-01-02")
}

func keyCommand() *cobra.Command {
	return noun(groupService, "key", keyThings.short, keyThings.list(), keyThings.show(), keyMake(), keyCode(), keyLetIn(), keyPage(), keyThings.remove())
}

// codeSaid tells how a screen is let in with a code.
func codeSaid(w io.Writer, base string, m client.ScreenCodeMade) {
	fmt.Fprintf(w, "Open on the screen, until %s:\n%s%s\nor open %s/screen there and type the code %s\n", m.ExpiresAt.Local().Format("15:04"), base, m.Path, base, m.Code)
}

func keyCode() *cobra.Command {
	return &cobra.Command{
		Use:     "code KEY",
		Short:   "Make a code that lets one more screen in to show the page of a key",
		Long:    "Makes a code that works once and for 15 minutes. A screen that has used it stays let\nin for months, by itself, until the key is removed.",
		Example: "  ullage key code press-hall-screen",
		Args:    exactly(1, "a key"), ValidArgsFunction: keyThings.names(),
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			m, err := cl.MakeCode(c.Context(), args[0])
			if err != nil {
				return err
			}
			return show(c, m, func(w io.Writer) { codeSaid(w, cl.Base(), m) })
		},
	}
}

func keyLetIn() *cobra.Command {
	return &cobra.Command{
		Use:     "let-in KEY CODE",
		Short:   "Let in the screen that shows a code",
		Long:    "A screen on which the page /screen of the console is open shows a code. With that it\nis let in from here, where it has no keyboard.",
		Example: "  ullage key let-in press-hall-screen 4F7K-9TZM",
		Args:    exactly(2, "a key and the code that the screen shows"), ValidArgsFunction: keyThings.names(),
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			in, err := cl.LetScreenIn(c.Context(), args[0], args[1])
			if err != nil {
				return err
			}
			return show(c, in, func(w io.Writer) { fmt.Fprintf(w, "The screen at %s shows the page of %s\n", in.From, args[0]) })
		},
	}
}

func keyPage() *cobra.Command {
	var yes, dry bool
	c := &cobra.Command{
		Use:     "page KEY PAGE",
		Short:   "Have the screens of a key show another page",
		Long:    "Says first what they would show that they do not show now, and asks.",
		Example: "  ullage key page press-hall-screen /boards/safe-air",
		Args:    exactly(2, "a key and a page"), ValidArgsFunction: keyThings.names(),
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			would, err := cl.SetKeyPage(c.Context(), args[0], client.ScreenPage{Page: args[1], Preview: true})
			if err != nil {
				return err
			}
			if dry {
				return show(c, would, func(w io.Writer) { fmt.Fprintln(w, would.Says) })
			}
			if would.MoreCount > 0 {
				if !yes {
					if err := confirm(c, would.Says+" Go on?"); err != nil {
						return err
					}
				}
			}
			done, err := cl.SetKeyPage(c.Context(), args[0], client.ScreenPage{Page: args[1]})
			if err != nil {
				return err
			}
			return show(c, done, func(w io.Writer) { fmt.Fprintf(w, "Screens of %s show %s\n", args[0], done.Page) })
		},
	}
	c.Flags().BoolVar(&yes, "yes", false, "without asking")
	c.Flags().BoolVar(&dry, "dry-run", false, "only say what they would show more")
	return c
}

func keyMake() *cobra.Command {
	var role, access, note, expires, page string
	var yes bool
	c := &cobra.Command{
		Use:   "make NAME",
		Short: "Make a key for a program, whose secret is shown this once, or for screens",
		Long: `Makes a key and prints its secret, which is not kept. A program sends it in the
Authorization header, behind Bearer; the command line takes it with
"ullage login --key-stdin" or in ULLAGE_TOKEN. A key is no owner.

With --page it is for screens on a wall, which show that page of the console and may
ask for nothing else. It has no secret: each screen is let in with a code of its own.`,
		Example: "  ullage key make nightly-report --role viewer --expires 90d\n" +
			"  ullage key make press-hall-screen --role viewer --access 'label.site == \"Kilnside\"' --page /devices/air-kilnside-2",
		Args: exactly(1, "a name"),
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			k := client.Key{Name: args[0], Grant: client.Grant{Role: person.Role(role), Access: access}, Note: note, Page: page}
			if expires != "" {
				d, err := value.ParseDuration(expires)
				if err != nil {
					return usageError{fmt.Errorf("--expires: %w", err)}
				}
				at := time.Now().Add(d.Std()).UTC().Truncate(time.Second)
				k.ExpiresAt = &at
			}
			if err := reaches(c, cl, access, yes); err != nil {
				return err
			}
			made, err := cl.MakeKey(c.Context(), k)
			if err != nil {
				return err
			}
			if page != "" {
				m, err := cl.MakeCode(c.Context(), k.Name)
				if err != nil {
					return err
				}
				return show(c, m, func(w io.Writer) {
					fmt.Fprintf(w, "The key %s lets screens in to show %s.\n", k.Name, page)
					codeSaid(w, cl.Base(), m)
				})
			}
			return show(c, made, func(w io.Writer) {
				fmt.Fprintf(w, "The secret of %s, shown this once:\n%s\n", made.Key.Name, made.Secret)
			})
		},
	}
	wordFlag(c, &role, "role", "", "what it may do", "viewer", "operator", "engineer")
	c.MarkFlagRequired("role")
	c.Flags().StringVar(&access, "access", "", "for these devices, a condition over labels, device.id and device.model; for all if empty")
	c.Flags().StringVar(&page, "page", "", "for screens, which show this page of the console: /, /alarms, /devices/ID, /boards/NAME, /boards/made/in-turn or /query, with its parameters")
	c.Flags().StringVar(&expires, "expires", "", "how long it holds, like 90d; always if empty")
	c.Flags().StringVar(&note, "note", "", "what it is for, for other people")
	c.Flags().BoolVar(&yes, "yes", false, "also where the access reaches no device, or all of them")
	return c
}

func accessCommand() *cobra.Command {
	preview := &cobra.Command{
		Use:     "preview ACCESS",
		Short:   "Show which devices an access reaches now",
		Example: "  ullage access preview 'label.site == \"Fennimore\"'",
		Args:    exactly(1, "one access"),
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			r, err := cl.PreviewAccess(c.Context(), args[0])
			if err != nil {
				return err
			}
			return show(c, r, func(w io.Writer) {
				for _, id := range r.Devices {
					fmt.Fprintln(w, id)
				}
				if more := r.Count - len(r.Devices); more > 0 {
					fmt.Fprintf(w, "… and %d more\n", more)
				}
				fmt.Fprintln(w, r.Says)
			})
		},
	}
	explain := &cobra.Command{
		Use:     "explain PERSON DEVICE",
		Short:   "Say what somebody may do to a device, and by which grant",
		Long:    "Lists every grant of a person, their own and those of their teams, with what it looks\nat on the device. For a key write \"key NAME\".",
		Example: "  ullage access explain cellar-master tank-fennimore-07\n  ullage access explain \"key press-hall-screen\" air-kilnside-01",
		Args:    exactly(2, "a person and a device"),
		ValidArgsFunction: func(c *cobra.Command, args []string, p string) ([]string, cobra.ShellCompDirective) {
			if len(args) == 0 {
				return personThings.names()(c, args, p)
			}
			return deviceNames(c, nil, p)
		},
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			x, err := cl.ExplainAccess(c.Context(), args[0], args[1])
			if err != nil {
				return err
			}
			format, _ := c.Flags().GetString("output")
			if format != "" && format != "table" {
				return show(c, x, nil)
			}
			fmt.Fprintln(c.OutOrStdout(), x.Says)
			return list(c, x.Grants, "They have no grants.",
				column[client.GrantOn]{"role", func(g client.GrantOn) string { return string(g.Role) }},
				column[client.GrantOn]{"access", func(g client.GrantOn) string {
					if g.Access == "" {
						return "all devices"
					}
					return g.Access
				}},
				column[client.GrantOn]{"from", func(g client.GrantOn) string {
					if g.Team == "" {
						return "their own"
					}
					return "team " + g.Team
				}},
				column[client.GrantOn]{"for this device", func(g client.GrantOn) string { return yesNo(g.Reaches) }},
				column[client.GrantOn]{"because", func(g client.GrantOn) string { return g.Why }})
		},
	}
	return noun(groupService, "access", "Who reaches which devices, and why", preview, explain)
}

// starting is the verb that sets the page with which people begin.
func starting(word string, names cobra.CompletionFunc, set func(ctx context.Context, cl *client.Client, name string, s *person.Start) error) *cobra.Command {
	only := false
	c := &cobra.Command{
		Use:   "start NAME [PAGE]",
		Short: "Set the page of the console with which they begin; none to leave it",
		Long: `Sets the page that is shown after signing in, with its parameters. With --only
nothing but that page is shown, over the full screen and without the way to others:
for a screen on a wall, or for somebody who looks at one thing. It stays awake,
connects again by itself, and says so when what it shows is old.`,
		Example:           fmt.Sprintf("  ullage %s start %s /devices/tank-fennimore-07 --only", word, map[string]string{"person": "cellar-master", "team": "casks"}[word]),
		Args:              between(1, 2, "a name and a page"),
		ValidArgsFunction: names,
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			var s *person.Start
			if len(args) == 2 {
				s = &person.Start{Page: args[1], Only: only}
			}
			if err := set(c.Context(), cl, args[0], s); err != nil {
				return err
			}
			if s == nil {
				fmt.Fprintf(c.OutOrStdout(), "%s begins with the fleet\n", args[0])
			} else {
				fmt.Fprintf(c.OutOrStdout(), "%s begins with %s\n", args[0], s.Page)
			}
			return nil
		},
	}
	c.Flags().BoolVar(&only, "only", false, "nothing but this page, over the full screen")
	return c
}
