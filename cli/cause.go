package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ullage/client"
)

func causeCommand() *cobra.Command {
	return noun(groupSee, "cause", "What needs somebody now, and why", &cobra.Command{
		Use: "list", Short: "List the causes, the most pressing first: a silent hub with its devices is one", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			all, err := cl.Causes(c.Context())
			if err != nil {
				return err
			}
			return list(c, all, "Nothing needs anybody now.",
				column[client.Cause]{"priority", func(x client.Cause) string { return x.Priority }},
				column[client.Cause]{"what", func(x client.Cause) string { return x.Title }},
				column[client.Cause]{"why", func(x client.Cause) string { return x.Why }},
				column[client.Cause]{"devices", func(x client.Cause) string { return fmt.Sprint(len(x.Devices)) }},
				column[client.Cause]{"since", func(x client.Cause) string { return ago(&x.Since) }},
				column[client.Cause]{"who", func(x client.Cause) string { return strings.Join(x.By, ", ") }},
				column[client.Cause]{"do", func(x client.Cause) string { return x.Do }})
		},
	})
}
