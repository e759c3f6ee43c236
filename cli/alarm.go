package cli

import (
	"fmt"
	"io"
	"time"

	"github.com/spf13/cobra"

	"ullage/client"
)

func alarmCommand() *cobra.Command {
	var device string
	var all bool
	var limit int
	var where *string
	listing := &cobra.Command{
		Use: "list", Short: "List open alarms", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			as, err := cl.Alarms(c.Context(), device, *where, all, limit)
			if err != nil {
				return err
			}
			return list(c, as, "No alarm is open.",
				column[client.Alarm]{"alarm", func(a client.Alarm) string { return a.ID }},
				column[client.Alarm]{"priority", func(a client.Alarm) string { return a.Priority }},
				column[client.Alarm]{"state", func(a client.Alarm) string { return a.State }},
				column[client.Alarm]{"raised", func(a client.Alarm) string { return ago(&a.RaisedAt) }},
				column[client.Alarm]{"times", func(a client.Alarm) string { return fmt.Sprint(a.Times) }},
				column[client.Alarm]{"on", func(a client.Alarm) string { return a.Device + a.Group }},
				column[client.Alarm]{"message", func(a client.Alarm) string { return a.Message }})
		},
	}
	listing.Flags().StringVar(&device, "device", "", "only of this device")
	where = whereFlag(listing)
	listing.Flags().BoolVar(&all, "all", false, "closed ones too")
	listing.Flags().IntVar(&limit, "limit", 100, "at most this many")
	ack := &cobra.Command{
		Use: "acknowledge ALARM…", Short: "Acknowledge alarms", Args: atLeast(1, "one alarm or more"), ValidArgsFunction: alarmNames,
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			var out []client.Alarm
			for _, id := range args {
				a, err := cl.Acknowledge(c.Context(), id)
				if err != nil {
					return err
				}
				out = append(out, a)
			}
			return show(c, out, func(w io.Writer) {
				for _, a := range out {
					fmt.Fprintf(w, "%s on %s is %s\n", a.Rule, a.Device+a.Group, a.State)
					if a.Response != "" && a.State != "normal" {
						fmt.Fprintf(w, "  do: %s\n", a.Response)
					}
				}
			})
		},
	}
	return noun(groupAlarm, "alarm", "See and acknowledge alarms", listing, ack)
}

func journalCommand() *cobra.Command {
	var device, kind string
	var limit int
	var where *string
	listing := &cobra.Command{
		Use: "list", Short: "List what happened, the newest first", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			es, err := cl.Journal(c.Context(), device, *where, kind, limit)
			if err != nil {
				return err
			}
			return list(c, es, "The journal has nothing like that.",
				column[client.JournalEntry]{"at", func(e client.JournalEntry) string { return e.At.Local().Format(time.DateTime) }},
				column[client.JournalEntry]{"kind", func(e client.JournalEntry) string { return string(e.Kind) }},
				column[client.JournalEntry]{"device", func(e client.JournalEntry) string { return e.Device }},
				column[client.JournalEntry]{"what", func(e client.JournalEntry) string { return e.Text }})
		},
	}
	listing.Flags().StringVar(&device, "device", "", "only of this device")
	where = whereFlag(listing)
	listing.Flags().StringVar(&kind, "kind", "", `only of this kind, like "alarm raised"`)
	listing.Flags().IntVar(&limit, "limit", 50, "at most this many")
	return noun(groupService, "journal", "Read what happened", listing)
}
