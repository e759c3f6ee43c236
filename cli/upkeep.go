package cli

import (
	"strconv"

	"github.com/spf13/cobra"

	"ullage/client"
)

func deviceUpkeep() *cobra.Command {
	var where *string
	c := &cobra.Command{
		Use: "upkeep", Short: "Show what batteries have left and until when, and how well devices are heard", Args: cobra.NoArgs,
		Long: `Shows for each device what its battery has left, when it gets to the limit of the rule that
watches it, and how well its radio is heard. The day is that of the trend of the battery's
days since it was last replaced or charged, eight at least; with 95 % confidence it lies
between early and late. The first to be empty come first.

A model says with ullage:tells which of its metrics is a battery or a signal.`,
		Example: "  ullage device upkeep\n  ullage device upkeep --where 'device.model == \"cask-bung\"' -o csv",
		RunE: func(c *cobra.Command, _ []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			all, err := cl.Upkeep(c.Context(), *where)
			if err != nil {
				return err
			}
			battery := func(f func(r *client.Reserve) string) func(client.Upkeep) string {
				return func(u client.Upkeep) string {
					if u.Battery == nil {
						return ""
					}
					return f(u.Battery)
				}
			}
			return list(c, all, "No device tells of a battery or a signal.",
				column[client.Upkeep]{"device", func(u client.Upkeep) string { return u.Device }},
				column[client.Upkeep]{"site", func(u client.Upkeep) string { return u.Site }},
				column[client.Upkeep]{"battery", battery(func(r *client.Reserve) string { return left(r, r.Value) })},
				column[client.Upkeep]{"a month", battery(func(r *client.Reserve) string {
					if r.PerMonth == 0 {
						return ""
					}
					return "-" + left(r, r.PerMonth)
				})},
				column[client.Upkeep]{"empty at", battery(func(r *client.Reserve) string {
					if r.Limit == nil {
						return ""
					}
					return left(r, *r.Limit)
				})},
				column[client.Upkeep]{"empty about", battery(func(r *client.Reserve) string { return day(r.Likely, "") })},
				column[client.Upkeep]{"early", battery(func(r *client.Reserve) string { return day(r.Early, "") })},
				column[client.Upkeep]{"late", battery(func(r *client.Reserve) string {
					if r.Likely != nil && r.Late == nil {
						return "never, perhaps"
					}
					return day(r.Late, "")
				})},
				column[client.Upkeep]{"replaced", battery(func(r *client.Reserve) string { return day(r.Replaced, "") })},
				column[client.Upkeep]{"signal", func(u client.Upkeep) string {
					if u.Signal == nil {
						return ""
					}
					return left(u.Signal, u.Signal.Value)
				}},
				column[client.Upkeep]{"least in a week", func(u client.Upkeep) string {
					if u.Signal == nil {
						return ""
					}
					return left(u.Signal, u.Signal.Low)
				}},
				column[client.Upkeep]{"", battery(func(r *client.Reserve) string { return r.Note })})
		},
	}
	where = whereFlag(c)
	return c
}

// left says a value of a battery or a signal.
func left(r *client.Reserve, x float64) string {
	return strconv.FormatFloat(x, 'f', max(r.Decimals, 0), 64) + " " + r.Display
}

func deviceVersions() *cobra.Command {
	var of, span string
	var where *string
	c := &cobra.Command{
		Use: "versions", Short: "Show how many devices run what, now and before", Args: cobra.NoArgs,
		Long: `Shows how many devices run each firmware, as they report it, or each version of their model:
now, and at moments of a span. Since is when the first had it that is known of.`,
		Example: "  ullage device versions --span 90d\n  ullage device versions --of model --where 'label.site == \"Fennimore\"'",
		RunE: func(c *cobra.Command, _ []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			all, err := cl.Course(c.Context(), *where, of, span)
			if err != nil {
				return err
			}
			last := len(all.At) - 1
			columns := []column[client.CoursePart]{{of, func(p client.CoursePart) string { return p.Name }}, {"now", func(p client.CoursePart) string { return strconv.Itoa(p.Counts[last]) }}}
			for _, back := range []int{last / 4, last / 2, last * 3 / 4, last} {
				at := last - back
				columns = append(columns, column[client.CoursePart]{all.At[at].Local().Format("2 Jan 15:04"),
					func(p client.CoursePart) string { return strconv.Itoa(p.Counts[at]) }})
			}
			return list(c, all.Parts, "There is no such device.", append(columns,
				column[client.CoursePart]{"since", func(p client.CoursePart) string { return day(&p.First, "") }})...)
		},
	}
	c.Flags().StringVar(&of, "of", "firmware", "what is counted: firmware or model")
	c.Flags().StringVar(&span, "span", "90d", "how far back")
	c.RegisterFlagCompletionFunc("of", cobra.FixedCompletions([]string{"firmware", "model"}, cobra.ShellCompDirectiveNoFileComp))
	where = whereFlag(c)
	return c
}
