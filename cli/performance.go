package cli

import (
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ullage/client"
)

func alarmPerformance() *cobra.Command {
	var span string
	var operators int
	c := &cobra.Command{
		Use: "performance", Short: "Measure how well the alarms themselves work, after ISA-18.2", Args: cobra.NoArgs,
		Long: `Measures the alarms after ISA-18.2, IEC 62682 and EEMUA 191: how many an operator
gets, peaks and floods, what chatters, is fleeting or stale, and which few rules
and devices make most of it, each beside the standard's target.`,
		Example: "  ullage alarm performance --span 30d\n  ullage alarm performance --span 7d --operators 2 -o json",
		RunE: func(c *cobra.Command, _ []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			p, err := cl.AlarmPerformance(c.Context(), span, operators)
			if err != nil {
				return err
			}
			return show(c, p, func(w io.Writer) { printPerformance(w, p) })
		},
	}
	c.Flags().StringVar(&span, "span", "7d", "over which time")
	amountFlag(c, &operators, "operators", 1, 1, "how many operators share the alarms")
	return c
}

func printPerformance(w io.Writer, p client.AlarmPerformance) {
	fmt.Fprintf(w, "%s to %s, for each of %s\n\n", p.From.Local().Format("2006-01-02 15:04"), p.To.Local().Format("2006-01-02 15:04"), plural(p.Operators, "operator"))
	percent := func(x float64) string { return fmt.Sprintf("%.1f %%", x*100) }
	rows := [][]string{{"", "MEASURED", "TARGET", ""}}
	row := func(what, is, target string, good bool) {
		mark := ""
		if !good {
			mark = "over it"
		}
		rows = append(rows, []string{what, is, target, mark})
	}
	row("alarms a day", fmt.Sprintf("%.1f", p.ADay), fmt.Sprintf("%.0f, %.0f at most", p.Targets.ADay, p.Targets.MostADay), p.ADay <= p.Targets.ADay)
	row("alarms an hour", fmt.Sprintf("%.1f", p.AnHour), fmt.Sprintf("%.0f", p.Targets.ADay/24), p.AnHour <= p.Targets.ADay/24)
	row("most in 10 minutes", fmt.Sprint(p.Peak), fmt.Sprint(p.Targets.Peak), p.Peak <= p.Targets.Peak)
	row("floods", fmt.Sprintf("%d, %s", p.Floods, short(time.Duration(p.InFlood*float64(time.Second)))), "", true)
	row("time in flood", percent(p.FloodShare), percent(p.Targets.FloodShare), p.FloodShare <= p.Targets.FloodShare)
	row("chattering", fmt.Sprint(p.Chattering), "0", p.Chattering == 0)
	row("fleeting", fmt.Sprint(p.Fleeting), "0", p.Fleeting == 0)
	row("stale, over 24 h", fmt.Sprint(p.Stale), fmt.Sprintf("%d", p.Targets.Stale), p.Stale <= p.Targets.Stale)
	row("ten worst together", percent(p.TopTen), percent(p.Targets.TopTen), p.TopTen <= p.Targets.TopTen || p.Alarms <= 10)
	for _, name := range []string{"urgent", "high", "medium", "low"} {
		share := 0.0
		if p.Alarms > 0 {
			share = float64(p.Priorities[name]) / float64(p.Alarms)
		}
		row(name, percent(share), percent(p.Targets.Priorities[name]), name == "low" || name == "medium" || share <= 2*p.Targets.Priorities[name])
	}
	acked := "nobody has"
	if p.Acknowledged > 0 {
		acked = fmt.Sprintf("%s, 95 %% within %s", short(time.Duration(p.TimeToAck*float64(time.Second))), short(time.Duration(p.TimeToAck95*float64(time.Second))))
	}
	row("until acknowledged", acked, "", true)
	row("shelved now", fmt.Sprint(p.Shelved), "", true)
	row("suppressed now", fmt.Sprint(p.Suppressed), "", true)
	row("out of service now", fmt.Sprint(p.OutOfService), "", true)
	table(w, rows)
	for _, x := range []struct {
		name string
		of   []client.WorstOf
	}{{"RULE", p.Rules}, {"DEVICE", p.Devices}} {
		if len(x.of) == 0 {
			continue
		}
		fmt.Fprintln(w)
		cells := [][]string{{x.name, "ALARMS", "SHARE", "CHATTERING", "FLEETING"}}
		for _, v := range x.of {
			cells = append(cells, []string{v.Name, fmt.Sprint(v.Alarms), percent(v.Share), fmt.Sprint(v.Chattering), fmt.Sprint(v.Fleeting)})
		}
		table(w, cells)
	}
	if len(p.Rules) > 0 {
		fmt.Fprintf(w, "\nSee how a rule would do better with: ullage rule suggest %s\n", p.Rules[0].Name)
	}
}

func alarmHandover() *cobra.Command {
	var hours string
	c := &cobra.Command{
		Use: "handover", Short: "Tell the next shift what calls, what is shelved, and what is coming", Args: cobra.NoArgs,
		Example: "  ullage alarm handover --for 8h",
		RunE: func(c *cobra.Command, _ []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			h, err := cl.Handover(c.Context(), hours)
			if err != nil {
				return err
			}
			return show(c, h, func(w io.Writer) { printHandover(w, h) })
		},
	}
	c.Flags().StringVar(&hours, "for", "8h", "how long the shift was")
	return c
}

func printHandover(w io.Writer, h client.Handover) {
	fmt.Fprintf(w, "Handover at %s, after %s\n%s raised, %d returned in that time\n", h.To.Local().Format("2006-01-02 15:04"), short(h.To.Sub(h.From)), plural(h.Raised, "alarm"), h.Returned)
	section := func(title string, n int) {
		fmt.Fprintf(w, "\n%s: %d\n", title, n)
	}
	section("Open", len(h.Open))
	for _, a := range h.Open {
		fmt.Fprintf(w, "  %-6s  %-24s  %s, raised %s\n", a.Priority, a.State, a.Message, ago(&a.RaisedAt))
	}
	section("Aside", len(h.Aside))
	for _, a := range h.Aside {
		fmt.Fprintf(w, "  %-6s  %-24s  %s; %s\n", a.Priority, a.State, a.Message, besides(a))
	}
	if len(h.Comments) > 0 {
		section("Said", len(h.Comments))
		for _, x := range h.Comments {
			fmt.Fprintf(w, "  %s  %s  %s\n", x.At.Local().Format("15:04"), x.Person, oneLine(x.Text))
		}
	}
	if len(h.Coming) > 0 {
		section("Maintenance", len(h.Coming))
		for _, m := range h.Coming {
			when := "on now"
			if m.Begins != nil {
				when = "begins " + localTime(*m.Begins)
			}
			fmt.Fprintf(w, "  %s  %s, %s  %s\n", m.Maintenance, when, plural(m.Devices, "device"), m.Why)
		}
	}
}

func ruleSuggest() *cobra.Command {
	var ask client.ReplayAsk
	c := &cobra.Command{
		Use: "suggest RULE|FILE", Short: "Work out from the data how a rule would do better",
		Long: `Computes a deadband beyond the noise, a delay longer than what is over before
anybody acts, and a limit from the distribution, and says if the rule is never or
always raised. Each is computed from some of the devices, or the first part of the
time, and judged on the others.`,
		Example: "  ullage rule suggest co2_high --span 30d",
		Args:    exactly(1, "one rule, by its name or its file"), ValidArgsFunction: ruleThings.names(),
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			if ask.Rule, err = ruleAt(c, cl, args[0]); err != nil {
				return err
			}
			found, err := cl.Suggest(c.Context(), ask)
			if err != nil {
				return err
			}
			return show(c, found, func(w io.Writer) {
				if len(found) == 0 {
					fmt.Fprintln(w, "The data gives nothing that would be better.")
				}
				for _, x := range found {
					if x.Value == "" {
						fmt.Fprintf(w, "%s raised: %s\n", x.Kind, x.Figures)
						continue
					}
					fmt.Fprintf(w, "%s %s\n  %s\n  %d → %d alarms, judged on %s\n", strings.ReplaceAll(x.Kind, "_", "-"), x.Value, x.Figures, x.Before.Alarms, x.After.Alarms, x.JudgedOn)
					if x.Kind != "limit" {
						fmt.Fprintf(w, "  take it with: ullage rule save %s %s=%s\n", x.Rule.Name, x.Kind, x.Value)
					} else {
						fmt.Fprintf(w, "  take it with: ullage rule save %s raise='%s'\n", x.Rule.Name, x.Rule.Raise)
					}
				}
			})
		},
	}
	c.Flags().StringVar(&ask.Span, "span", "30d", "over which time, 90d at most")
	return c
}
