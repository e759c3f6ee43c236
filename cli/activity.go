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
and for how long at most, what it runs, when its newest reading is from, and what passed:
messages both ways, their bytes in a month of 30 days if it goes on like that, how often it
connected, readings that came late, and messages of which something was refused. That is
counted by the hour and kept for 35 days; a month is known after six hours.`,
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
				column[client.Activity]{"first", func(a client.Activity) string { return day(a.FirstAt, "") }},
				column[client.Activity]{"last", func(a client.Activity) string { return ago(a.LastAt) }},
				column[client.Activity]{"model", func(a client.Activity) string { return a.Model + " " + a.Version }},
				column[client.Activity]{"firmware", func(a client.Activity) string { return a.Firmware }},
				column[client.Activity]{"messages", func(a client.Activity) string { return fmt.Sprint(a.Messages) }},
				column[client.Activity]{"a month", func(a client.Activity) string {
					if a.Monthly == 0 {
						return ""
					}
					return size(int64(a.Monthly))
				}},
				column[client.Activity]{"connects", func(a client.Activity) string { return fmt.Sprint(a.Connects) }},
				column[client.Activity]{"late", func(a client.Activity) string { return fmt.Sprint(a.Late) }},
				column[client.Activity]{"refused", func(a client.Activity) string { return fmt.Sprint(a.Refused) }})
		},
	}
	c.Flags().StringVar(&span, "span", "30d", "how far back")
	where = whereFlag(c)
	return c
}
