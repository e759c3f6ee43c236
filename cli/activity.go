package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"ullage/client"
)

func deviceActivity() *cobra.Command {
	var span string
	var where *string
	c := &cobra.Command{
		Use: "activity", Short: "Show how devices were in contact, the worst first", Args: cobra.NoArgs,
		Long: `Shows for each device in which share of a span it was on line, how often it was off line
and for how long at most, what it runs, and when its newest reading is from.`,
		Example: "  ullage device activity --span 30d\n  ullage device activity --where 'label.site == \"Saltmarsh\"' -o csv",
		RunE: func(c *cobra.Command, _ []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			all, err := cl.Activity(c.Context(), *where, span)
			if err != nil {
				return err
			}
			return list(c, all, "There is no such device.",
				column[client.Activity]{"device", func(a client.Activity) string { return a.Device }},
				column[client.Activity]{"site", func(a client.Activity) string { return a.Site }},
				column[client.Activity]{"on line", func(a client.Activity) string { return fmt.Sprintf("%.1f %%", a.Online) }},
				column[client.Activity]{"times off", func(a client.Activity) string { return fmt.Sprint(a.Spells) }},
				column[client.Activity]{"longest", func(a client.Activity) string {
					if a.Spells == 0 {
						return ""
					}
					return seconds(a.Longest)
				}},
				column[client.Activity]{"link", func(a client.Activity) string { return a.Link }},
				column[client.Activity]{"last", func(a client.Activity) string { return ago(a.LastAt) }},
				column[client.Activity]{"model", func(a client.Activity) string { return a.Model + " " + a.Version }},
				column[client.Activity]{"firmware", func(a client.Activity) string { return a.Firmware }},
				column[client.Activity]{"refused", func(a client.Activity) string { return fmt.Sprint(a.Refused) }})
		},
	}
	c.Flags().StringVar(&span, "span", "30d", "how far back")
	where = whereFlag(c)
	return c
}
