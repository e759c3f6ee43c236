package cli

import (
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"ullage/client"
)

func responseCommand() *cobra.Command {
	c := &cobra.Command{Use: "response", Short: "See and stop what rules do by themselves", GroupID: groupAlarm,
		Long: `A rule may set settings while it is raised, or give commands when it is raised or
returns. These commands show what rules keep on devices now, release it, and stop
all responses at once.`}
	c.AddCommand(&cobra.Command{
		Use: "list", Short: "List what rules keep on devices now", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			r, err := cl.Responses(c.Context())
			if err != nil {
				return err
			}
			return show(c, r, func(w io.Writer) { printResponses(w, r) })
		},
	}, &cobra.Command{
		Use: "release ID", Short: "Take what a response keeps off its devices; its alarm stays",
		Long: `Takes what a response keeps off its devices. The alarm stays, and the response acts
again when it is raised anew.`,
		Example: `  ullage response release "co2_high air-kilnside-2 0"`, Args: exactly(1, "one response, by its id in: ullage response list"),
		ValidArgsFunction: responseIDs,
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			r, err := cl.ReleaseResponse(c.Context(), args[0])
			if err != nil {
				return err
			}
			return show(c, r, func(w io.Writer) {
				fmt.Fprintf(w, "%s gives nothing any more on %s; the alarm stays.\n", r.Rule, fewOf(r.Devices))
			})
		},
	}, responseTurn("stop", "Stop all responses of all rules", true), responseTurn("start", "Let responses act again", false))
	return c
}

func responseTurn(verb, short string, stop bool) *cobra.Command {
	var release bool
	var why string
	c := &cobra.Command{
		Use: verb, Short: short, Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			r, err := cl.TurnResponses(c.Context(), client.ResponsesTurn{Stopped: stop, Release: release, Why: why})
			if err != nil {
				return err
			}
			return show(c, r, func(w io.Writer) {
				if stop {
					fmt.Fprintln(w, "No rule sets anything or gives commands any more; alarms go on.")
				} else {
					fmt.Fprintln(w, "Responses act again, those of alarms that hold now too.")
				}
				if n := held(r); n > 0 && stop {
					fmt.Fprintf(w, "What they had set stays on: %d. Take it off with: ullage response stop --release\n", n)
				}
			})
		},
	}
	if stop {
		c.Long = `Stops all responses: no rule sets a setting or gives a command until they are
started again. What they keep on devices stays, unless --release takes it off.`
		c.Flags().BoolVar(&release, "release", false, "take off what they keep on devices, too")
	}
	c.Flags().StringVar(&why, "why", "", "why, for the journal")
	return c
}

func held(r client.ResponseEntries) int {
	n := 0
	for _, x := range r.Responses {
		if x.State != "released" {
			n++
		}
	}
	return n
}

func responseIDs(c *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	cl, err := connect(c)
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	r, err := cl.Responses(c.Context())
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	var out []string
	for _, x := range r.Responses {
		out = append(out, x.ID)
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

func printResponses(w io.Writer, r client.ResponseEntries) {
	if r.Stopped {
		by := ""
		if r.StoppedBy != "" {
			by = " by " + r.StoppedBy
		}
		if r.Why != "" {
			by += ": " + r.Why
		}
		fmt.Fprintf(w, "All responses are stopped%s. Let them act again with: ullage response start\n", by)
	}
	if len(r.Responses) == 0 {
		if !r.Stopped {
			fmt.Fprintln(w, "No rule keeps anything on a device now. Rules say what they do in: responses")
		}
		return
	}
	rows := [][]string{{"ID", "KEEPS", "ON", "SINCE", "STATE"}}
	for _, x := range r.Responses {
		state := x.State
		if x.Left != "" {
			state += ", " + x.Left
		}
		rows = append(rows, []string{x.ID, valuesSaid(x.Set), fewOf(x.Devices), ago(&x.Since), state})
	}
	table(w, rows)
}

// valuesSaid writes values by name as in a file.
func valuesSaid(set map[string]any) string {
	var parts []string
	for _, name := range slices.Sorted(maps.Keys(set)) {
		if set[name] == nil {
			parts = append(parts, name+" as before")
			continue
		}
		parts = append(parts, fmt.Sprintf("%s=%v", name, set[name]))
	}
	return strings.Join(parts, " ")
}

// fewOf names the first few of many.
func fewOf(ids []string) string {
	const most = 3
	if len(ids) <= most {
		return strings.Join(ids, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(ids[:most], ", "), len(ids)-most)
}
