package cli

import (
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"ullage/client"
)

func deviceSendAs() *cobra.Command {
	var m client.SendAs
	c := &cobra.Command{
		Use:   "send-as DEVICE NAME MESSAGE",
		Short: "Send a message as a device, to try what becomes of it",
		Long: `Sends a message as if the device had: readings are kept, rules judge them. The traffic
and the journal say who did it. NAME is readings, about, applied, reply or event/NAME;
- for MESSAGE reads standard input.`,
		Example: "  ullage device send-as tank-fennimore-07 readings '{\"must_temp\":21.4}'",
		Args:    exactly(3, "a device, what the message is, and the message"),
		ValidArgsFunction: func(c *cobra.Command, args []string, p string) ([]string, cobra.ShellCompDirective) {
			switch len(args) {
			case 0:
				return deviceNames(c, args, p)
			case 1:
				return []string{"readings", "about", "applied", "reply", "log", "event/"}, cobra.ShellCompDirectiveNoFileComp
			}
			return nil, cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			if m.Name, m.Body = args[1], args[2]; args[2] == "-" {
				b, err := readFileOr(c, "-", 256<<10)
				if err != nil {
					return fmt.Errorf("the message cannot be read: %w", err)
				}
				m.Body = string(b)
			}
			out, err := cl.SendAs(c.Context(), args[0], m)
			if err != nil {
				return err
			}
			if err := show(c, out, func(w io.Writer) {
				fmt.Fprintf(w, "%s kept of %s, as %s.\n", plural(out.Kept, "value"), m.Name, args[0])
				for _, f := range out.Refused {
					fmt.Fprintf(w, "  %s %s\n", f.Pointer, oneLine(f.Sentence))
				}
			}); err != nil {
				return err
			}
			if out.Reason != "" {
				return findings{fmt.Errorf("it was refused: %s", strings.TrimSpace(out.Reason))}
			}
			if len(out.Refused) > 0 {
				return findings{fmt.Errorf("%s refused", plural(len(out.Refused), "value"))}
			}
			return nil
		},
	}
	c.Flags().StringVar(&m.ContentType, "content-type", "", "content type, such as application/senml+json; told by the first byte if empty")
	return c
}
