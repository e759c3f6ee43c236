package cli

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ullage/client"
	"ullage/core/value"
)

func modelMove() *cobra.Command {
	var ids []string
	var where *string
	var dry, yes bool
	c := &cobra.Command{
		Use:   "move MODEL[@VERSION]",
		Short: "Give devices another version of their model",
		Long: `Publishing a new version of a model moves no device. This command gives devices
another version, the newest where none is named: one by one, by a selector, or
all that have the model. Overrides that the other version does not allow are
taken off, and said so; ullage device undo gives them back with the version. It
asks before it moves more than one device.`,
		Example: "  ullage model move tank-probe --device tank-fennimore-07\n  ullage model move tank-probe@1.3.0 --where 'label.site == \"Kilnside\"' --dry-run",
		Args:    exactly(1, "one model"), ValidArgsFunction: modelNames,
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			name, version, _ := strings.Cut(args[0], "@")
			ask := client.Move{Version: version, Devices: ids, Where: *where, Preview: true}
			m, err := cl.MoveDevices(c.Context(), name, ask)
			if err != nil {
				return err
			}
			if !dry && len(m.Devices) > 1 && !yes {
				printMoved(c.ErrOrStderr(), name, m)
				if err := confirm(c, fmt.Sprintf("Move %s to %s %s?", plural(len(m.Devices), "device"), name,
					m.Version)); err != nil {
					return err
				}
			}
			if !dry && len(m.Devices) > 0 {
				ask.Preview = false
				if m, err = cl.MoveDevices(c.Context(), name, ask); err != nil {
					return err
				}
			}
			return show(c, m, func(w io.Writer) { printMoved(w, name, m) })
		},
	}
	where = whereFlag(c)
	c.Flags().StringArrayVar(&ids, "device", nil, "a device by its id; may be given several times")
	c.RegisterFlagCompletionFunc("device", func(c *cobra.Command, _ []string, p string) ([]string, cobra.ShellCompDirective) {
		return deviceNames(c, nil, p)
	})
	c.Flags().BoolVar(&dry, "dry-run", false, "say what would happen and change nothing")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}

func printMoved(w io.Writer, name string, m client.Moved) {
	if len(m.Devices) == 0 {
		fmt.Fprintf(w, "No device has to move: all that were chosen have %s %s already.\n", name, m.Version)
		return
	}
	verb := "would move"
	if m.Moved {
		verb = "moved"
	}
	fmt.Fprintf(w, "%s %s to %s %s\n\n", plural(len(m.Devices), "device"), verb, name, m.Version)
	cells := [][]string{{"DEVICE", "FROM", "SAYS", "OVERRIDES LOST"}}
	for _, d := range m.Devices {
		cells = append(cells, []string{d.Device, d.From, orDash(d.Reported), orDash(strings.Join(d.Loses, ", "))})
	}
	table(w, cells)
	if len(m.Changes) > 0 {
		fmt.Fprintln(w, "\nWhat is different for them:")
		for _, c := range m.Changes {
			fmt.Fprintf(w, "  %-8s  %s\n", c.Weight, c.Sentence)
		}
	}
	if m.Change != "" {
		fmt.Fprintf(w, "\nTake it back with: ullage device undo %s\n", m.Change)
	}
}

func orDash(s string) string {
	if s == "" {
		return "–"
	}
	return s
}

func modelBackfill() *cobra.Command {
	var ids []string
	var back string
	c := &cobra.Command{
		Use:   "backfill MODEL",
		Short: "Compute derived telemetry of the past",
		Long: `Telemetry that a model derives is computed from each message as it comes in.
This command computes it for what is stored already, with the settings and
labels of now. It can be begun again at any time: what was computed before is
replaced.`,
		Example: "  ullage model backfill tank-probe\n  ullage model backfill tank-probe --back 7d --device tank-fennimore-07",
		Args:    exactly(1, "one model"), ValidArgsFunction: modelNames,
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			ask := client.Backfill{Devices: ids}
			if back != "" {
				d, err := value.ParseDuration(back)
				if err != nil {
					return usageError{fmt.Errorf("--back: %w", err)}
				}
				ask.Since = time.Now().Add(-d.Std())
			}
			j, err := cl.BackfillModel(c.Context(), args[0], ask)
			if err != nil {
				return err
			}
			if j, err = follow(c, cl, j); err != nil {
				return err
			}
			return show(c, j, func(w io.Writer) {
				fmt.Fprintf(w, "%d readings of %s computed.\n", j.Readings, plural(j.Done, "device"))
			})
		},
	}
	c.Flags().StringArrayVar(&ids, "device", nil, "a device by its id; may be given several times")
	c.RegisterFlagCompletionFunc("device", func(c *cobra.Command, _ []string, p string) ([]string, cobra.ShellCompDirective) {
		return deviceNames(c, nil, p)
	})
	c.Flags().StringVar(&back, "back", "", "how far back, like 7d (default everything)")
	return c
}

// follow shows how far a job is until it ends; an interrupt stops it.
func follow(c *cobra.Command, cl *client.Client, j client.Job) (client.Job, error) {
	bar := newProgress(c.ErrOrStderr(), "computing", "devices")
	tick := time.NewTicker(200 * time.Millisecond)
	defer tick.Stop()
	for j.EndedAt.IsZero() {
		select {
		case <-tick.C:
		case <-c.Context().Done():
			ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
			defer cancel()
			bar.finish()
			if err := cl.StopJob(ctx, j.ID); err != nil {
				return j, err
			}
			return j, wrong("stopped after %d of %d devices; what was computed is stored", j.Done, j.Devices)
		}
		var err error
		if j, err = cl.Job(c.Context(), j.ID); err != nil {
			if c.Context().Err() != nil {
				continue
			}
			return j, err
		}
		bar.set(j.Done, j.Devices)
	}
	bar.finish()
	if j.Error != "" {
		return j, fmt.Errorf("the history was not computed whole: %s", j.Error)
	}
	return j, nil
}

// versionsOf says which versions of a model devices have: "1.2.0 (12), 1.3.0 (2)".
func versionsOf(m client.Model) string {
	var out []string
	for _, v := range m.Versions {
		if v.Devices > 0 || v.Version == m.Version {
			out = append(out, fmt.Sprintf("%s (%d)", v.Version, v.Devices))
		}
	}
	slices.Reverse(out)
	return strings.Join(out, ", ")
}
