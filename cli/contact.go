package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"github.com/spf13/cobra"

	"ullage/client"
)

// marks of the states of a step, for people.
var stepMarks = map[string]string{"done": "✓", "failed": "✗", "waiting": "…"}

// watchEvery is how often a watched device is asked about.
const watchEvery = 500 * time.Millisecond

func deviceWatch() *cobra.Command {
	var wait time.Duration
	c := &cobra.Command{
		Use:   "watch DEVICE",
		Short: "Show how a device gets in, step by step, until it is or a time is over",
		Long: `Shows the first contact of a device while it happens: reached us, encrypted, known,
first message, first valid reading, settings confirmed, each with its time, or the
reason why it stops there and what to do. It ends with 0 when all steps are done, and
with 3 when the time is over before.`,
		Example: "  ullage device watch tank-fennimore-07",
		Args:    exactly(1, "one device"), ValidArgsFunction: deviceNames,
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			ctx, cancel := context.WithTimeout(c.Context(), wait)
			defer cancel()
			return watchDevice(ctx, c, cl, args[0])
		},
	}
	c.Flags().DurationVar(&wait, "wait", 10*time.Minute, "how long to watch")
	return c
}

func watchDevice(ctx context.Context, c *cobra.Command, cl *client.Client, id string) error {
	w := newSafe(c.OutOrStdout(), rawOutput(c))
	format, _ := c.Flags().GetString("output")
	told := map[string]string{}
	var first time.Time
	for {
		x, err := cl.Contact(ctx, id)
		if err != nil && ctx.Err() == nil {
			return err
		}
		done := err == nil
		for _, s := range x.Steps {
			if s.State != "done" {
				done = false
			}
			if s.At != nil && first.IsZero() {
				first = *s.At
			}
			line := s.State + s.Says
			if told[s.Step] == line || s.State == "waiting" && s.Step != nextStep(x) {
				continue
			}
			told[s.Step] = line
			if format == "table" {
				printStep(w, s, first)
			}
		}
		if done || ctx.Err() != nil {
			if format != "table" {
				if x, err = cl.Contact(c.Context(), id); err != nil {
					return err
				}
				if err := show(c, x, nil); err != nil {
					return err
				}
			}
			switch {
			case done:
				return nil
			case errors.Is(c.Context().Err(), context.Canceled):
				return c.Context().Err()
			}
			return findings{fmt.Errorf("%s is not in yet; see ullage doctor %s", id, id)}
		}
		select {
		case <-ctx.Done():
		case <-time.After(watchEvery):
		}
	}
}

// nextStep is the one that is waited for.
func nextStep(x client.Contact) string {
	for _, s := range x.Steps {
		if s.State != "done" {
			return s.Step
		}
	}
	return ""
}

func printStep(w io.Writer, s client.ContactStep, first time.Time) {
	when := ""
	if s.At != nil {
		when = s.At.Local().Format("15:04:05")
		if d := s.At.Sub(first); d > 0 && d < time.Minute {
			when = "+ " + d.Round(time.Millisecond).String()
		}
	}
	fmt.Fprintf(w, "%s %-20s %-10s %s\n", stepMarks[s.State], s.Step, when, s.Says)
	if s.Next != "" {
		fmt.Fprintf(w, "  %-20s %-10s %s\n", "", "", s.Next)
	}
}

func doctorCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "doctor DEVICE",
		Short:   "Say why a device is not in, or not well, and what to do",
		GroupID: groupConnect,
		Long: `Looks at the credentials of a device, its clock, its address, what was refused of it,
its model, its settings and its link, and says what is wrong and what to do. It ends
with 0 when nothing is, and with 3 when something is.`,
		Example: "  ullage doctor tank-fennimore-07",
		Args:    exactly(1, "one device"), ValidArgsFunction: deviceNames,
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			x, err := cl.Contact(c.Context(), args[0])
			if err != nil {
				return err
			}
			if err := show(c, x, func(w io.Writer) {
				for _, f := range x.Findings {
					fmt.Fprintf(w, "%s: %s\n", f.About, f.Says)
					if f.Next != "" {
						fmt.Fprintf(w, "  → %s\n", f.Next)
					}
				}
				if len(x.Findings) == 0 {
					fmt.Fprintf(w, "%s is well: nothing is wrong with its credentials, clock, messages, model, settings or link\n", args[0])
				}
			}); err != nil || len(x.Findings) == 0 {
				return err
			}
			return findings{fmt.Errorf("%s", plural(len(x.Findings), "finding"))}
		},
	}
}
