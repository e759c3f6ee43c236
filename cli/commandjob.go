package cli

import (
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ullage/client"
)

// giveMany gives a command to many devices: it says who would get it, asks, and shows how
// far it is.
func (m *change) giveMany(c *cobra.Command, n client.NewCommand, atOnce int, wait time.Duration) error {
	cl, err := connect(c)
	if err != nil {
		return err
	}
	ask := client.ManyCommands{Where: *m.where, NewCommand: n, AtOnce: atOnce, Preview: true}
	would, err := cl.GiveMany(c.Context(), ask)
	if err != nil {
		return err
	}
	if m.dryRun {
		return show(c, would, func(w io.Writer) { printWouldGive(w, would) })
	}
	if !m.yes && would.Devices > 1 {
		for _, l := range would.Left {
			fmt.Fprintf(c.ErrOrStderr(), "Left out, %s: %s.\n", plural(l.Devices, "device"), l.Why)
		}
		if err := confirm(c, fmt.Sprintf("Give %s to %s%s?", n.Name, plural(would.Devices, "device"), offlineWords(would.Offline))); err != nil {
			return err
		}
	}
	ask.Preview, ask.Tag = false, would.Tag
	j, err := cl.GiveMany(c.Context(), ask)
	if err != nil {
		return err
	}
	if j, err = followJob(c, cl, j, wait); err != nil {
		return err
	}
	if err := showJob(c, cl, j); err != nil {
		return err
	}
	if wait > 0 && j.Counts["done"] < j.Devices {
		return fmt.Errorf("%d of %d devices have not done %s", j.Devices-j.Counts["done"], j.Devices, j.Name)
	}
	return nil
}

func offlineWords(n int) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprintf(", %d of them off line,", n)
}

func printWouldGive(w io.Writer, j client.CommandJob) {
	fmt.Fprintf(w, "%s would get %s%s.\n", plural(j.Devices, "device"), j.Name, strings.TrimSuffix(offlineWords(j.Offline), ","))
	for _, id := range j.Some {
		fmt.Fprintln(w, "  "+id)
	}
	if more := j.Devices - len(j.Some); more > 0 {
		fmt.Fprintf(w, "  and %d more\n", more)
	}
	for _, l := range j.Left {
		fmt.Fprintf(w, "Left out, %s: %s.\n", plural(l.Devices, "device"), l.Why)
	}
}

// followJob shows how far a command for many devices is until it is over, or the time is.
func followJob(c *cobra.Command, cl *client.Client, j client.CommandJob, wait time.Duration) (client.CommandJob, error) {
	if wait <= 0 {
		return j, nil
	}
	bar := newProgress(c.ErrOrStderr(), j.Name, "replies")
	defer bar.finish()
	for end := time.Now().Add(wait); j.EndedAt == nil && time.Now().Before(end); {
		bar.set(over(j), j.Devices)
		now, err := cl.CommandJob(c.Context(), j.ID, 0)
		if err != nil {
			if c.Context().Err() != nil {
				return j, fmt.Errorf("interrupted; the service goes on with it, see: ullage command results %s", j.ID)
			}
			return j, err
		}
		if j = now; j.EndedAt == nil {
			select {
			case <-c.Context().Done():
			case <-time.After(200 * time.Millisecond):
			}
		}
	}
	bar.set(over(j), j.Devices)
	return j, nil
}

// over is how many commands of a job have ended.
func over(j client.CommandJob) int {
	return j.Counts["done"] + j.Counts["failed"] + j.Counts["expired"] + j.Counts["withdrawn"]
}

// phases of commands in the order in which they are told.
var phases = []string{"done", "failed", "expired", "withdrawn", "sent", "waiting"}

func jobWords(j client.CommandJob) string {
	var out []string
	for _, p := range phases {
		if n := j.Counts[p]; n > 0 {
			out = append(out, fmt.Sprintf("%d %s", n, p))
		}
	}
	if more := j.Devices - j.Given; more > 0 && j.WithdrawnAt == nil {
		out = append(out, fmt.Sprintf("%d to come", more))
	} else if more > 0 {
		out = append(out, fmt.Sprintf("%d not given", more))
	}
	return strings.Join(out, ", ")
}

// showJob shows a command for many devices: how many have done it, and those that have not.
func showJob(c *cobra.Command, cl *client.Client, j client.CommandJob) error {
	cs, err := cl.Commands(c.Context(), client.CommandFilter{Job: j.ID})
	if err != nil {
		return err
	}
	byDevice(cs.Items)
	type whole struct {
		client.CommandJob
		Commands []client.Command `json:"commands"`
	}
	return show(c, whole{j, cs.Items}, func(w io.Writer) {
		fmt.Fprintf(w, "%s for %s: %s\n", j.Name, plural(j.Devices, "device"), jobWords(j))
		shown := slices.DeleteFunc(slices.Clone(cs.Items), func(x client.Command) bool { return x.Phase == "done" && len(x.Output) == 0 })
		if len(shown) > 0 {
			fmt.Fprintln(w)
			printTable(w, shown[:min(len(shown), 40)], jobResults...)
		}
		if len(shown) > 40 {
			fmt.Fprintf(w, "%d more are in: ullage command results %s\n", len(shown)-40, j.ID)
		}
		if j.EndedAt == nil {
			fmt.Fprintf(w, "It goes on. See it with: ullage command results %s; give it up with: ullage command withdraw %s\n", j.ID, j.ID)
		}
	})
}

func byDevice(cs []client.Command) {
	slices.SortFunc(cs, func(a, b client.Command) int { return strings.Compare(a.Device, b.Device) })
}

var jobResults = []column[client.Command]{
	{"device", func(x client.Command) string { return x.Device }},
	{"phase", func(x client.Command) string { return x.Phase }},
	{"after", func(x client.Command) string {
		if x.EndedAt == nil {
			return ""
		}
		return x.EndedAt.Sub(x.At).Round(time.Millisecond).String()
	}},
	{"reply", commandReply},
}

func commandReply(x client.Command) string {
	if x.Error != "" {
		return x.Error
	}
	return string(x.Output)
}

func commandJobs() *cobra.Command {
	return &cobra.Command{
		Use: "jobs", Short: "List the latest commands for many devices", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			js, err := cl.CommandJobs(c.Context())
			if err != nil {
				return err
			}
			return list(c, js, "No command was given to many devices yet. Give one with: ullage command give --where CONDITION COMMAND",
				column[client.CommandJob]{"job", func(j client.CommandJob) string { return j.ID }},
				column[client.CommandJob]{"name", func(j client.CommandJob) string { return j.Name }},
				column[client.CommandJob]{"input", func(j client.CommandJob) string { return string(j.Input) }},
				column[client.CommandJob]{"devices", func(j client.CommandJob) string { return fmt.Sprint(j.Devices) }},
				column[client.CommandJob]{"what came", jobWords},
				column[client.CommandJob]{"by", func(j client.CommandJob) string { return j.By }},
				column[client.CommandJob]{"when", func(j client.CommandJob) string { return ago(j.At) }})
		},
	}
}

func commandResults() *cobra.Command {
	var follow bool
	c := &cobra.Command{
		Use: "results JOB", Short: "Show what each device has replied to a command for many",
		Example: "  ullage command results 01KB0Q3V5W6X7Y8Z9A0B1C2D3E -o csv > replies.csv",
		Args:    exactly(1, "one job; see: ullage command jobs"), ValidArgsFunction: jobNames,
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			j, err := cl.CommandJob(c.Context(), args[0], 0)
			if err != nil {
				return err
			}
			if follow {
				if j, err = followJob(c, cl, j, 365*24*time.Hour); err != nil {
					return err
				}
			}
			cs, err := cl.Commands(c.Context(), client.CommandFilter{Job: j.ID})
			if err != nil {
				return err
			}
			byDevice(cs.Items)
			if format, _ := c.Flags().GetString("output"); format == "table" {
				fmt.Fprintf(c.OutOrStdout(), "%s for %s: %s\n\n", j.Name, plural(j.Devices, "device"), jobWords(j))
			}
			return list(c, cs.Items, "No device was given it yet.", jobResults...)
		},
	}
	c.Flags().BoolVar(&follow, "follow", false, "wait until it is over, and show how far it is meanwhile")
	return c
}

var jobNames = complete(func(c *cobra.Command, cl *client.Client) (out []string, err error) {
	js, err := cl.CommandJobs(c.Context())
	for _, j := range js {
		out = append(out, fmt.Sprintf("%s\t%s for %s: %s", j.ID, j.Name, plural(j.Devices, "device"), jobWords(j)))
	}
	return out, err
})
