package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ullage/client"
)

func commandCommand() *cobra.Command {
	return noun(groupSettings, "command", "Tell devices to do something, once", commandGive(), commandList(),
		commandWithdraw(), commandJobs(), commandResults())
}

func commandGive() *cobra.Command {
	var wait time.Duration
	var expires, input string
	var many change
	var atOnce int
	c := &cobra.Command{
		Use:   "give DEVICE COMMAND [NAME=VALUE…]",
		Short: "Give a device a command, or many, and wait for the reply",
		Long: `Gives a device a command of its model, with the input that the model asks for,
and waits for the device to reply. A device that is away gets it when it is back,
unless it has expired by then; one that sleeps gets it at its next contact with
--expires "next contact". It exits with 1 if the device could not do it or has
not replied.

With --where it goes to every device for which the condition is true now and whose
model has the command, at most so many at a time as --at-once says, those first of
which something is heard.`,
		Example: "  ullage command give tank-fennimore-07 identify\n  ullage command give tank-fennimore-07 zero_level reference_cm=30\n  ullage command give tank-fennimore-07 zero_level --input '{\"reference_cm\":30}' --expires 'next contact' --wait 0s\n  ullage command give --where 'label.site == \"Fennimore\"' identify --at-once 2 --dry-run",
		Args:    many.args("a device, a command and its input"), ValidArgsFunction: commandWords,
		RunE: func(c *cobra.Command, args []string) error {
			device, args := many.split(args)
			n := client.NewCommand{Name: args[0], Expires: expires}
			switch {
			case input != "" && len(args) > 1:
				return usageError{fmt.Errorf("the input is given as NAME=VALUE or with --input, not both")}
			case input != "":
				if err := json.Unmarshal([]byte(input), &n.Input); err != nil {
					return usageError{fmt.Errorf("--input is not JSON: %w", err)}
				}
			case len(args) > 1:
				fields := map[string]any{}
				for _, a := range args[1:] {
					name, text, ok := strings.Cut(a, "=")
					if !ok {
						return usageError{fmt.Errorf("%q is no input; write it like reference_cm=30", a)}
					}
					fields[name] = scalar(text)
				}
				n.Input = fields
			}
			if device == "" {
				return many.giveMany(c, n, atOnce, wait)
			}
			if atOnce > 0 {
				return usageError{fmt.Errorf("--at-once goes with --where")}
			}
			cl, err := connect(c)
			if err != nil {
				return err
			}
			out, err := giveAndWait(c.Context(), cl, device, n, wait)
			if err != nil {
				return err
			}
			if err := show(c, out, func(w io.Writer) { printCommand(w, out) }); err != nil {
				return err
			}
			if wait > 0 && out.Phase != "done" {
				return fmt.Errorf("%s has not done %s", out.Device, out.Name)
			}
			return nil
		},
	}
	many.flags(c)
	amountFlag(c, &atOnce, "at-once", 0, 0, "with --where: how many devices at most have it without having replied; all if 0")
	c.Flags().DurationVar(&wait, "wait", 10*time.Second, "how long to wait for the reply; 0s for not at all")
	c.Flags().StringVar(&expires, "expires", "",
		`when it is given up: a time such as 90s or 2h, or "next contact" (default 60s)`)
	c.Flags().StringVar(&input, "input", "", "the whole input as JSON")
	c.RegisterFlagCompletionFunc("expires", cobra.FixedCompletions([]string{"60s", "10min", "next contact"},
		cobra.ShellCompDirectiveNoFileComp))
	return c
}

// giveAndWait gives a command and waits for its end. Whoever stops waiting is told
// that the command does not.
func giveAndWait(ctx context.Context, cl *client.Client, device string, n client.NewCommand,
	wait time.Duration) (client.Command, error) {
	out, err := cl.Give(ctx, device, n, 0)
	if err != nil {
		return out, err
	}
	look := time.NewTicker(100 * time.Millisecond)
	defer look.Stop()
	for end := time.Now().Add(wait); out.Open() && time.Now().Before(end); {
		select {
		case <-look.C:
			if now, err := cl.Command(ctx, device, out.ID); err == nil {
				out = now
			} else if ctx.Err() == nil {
				return out, err
			}
		case <-ctx.Done():
			return out, fmt.Errorf("interrupted; %s still waits for %s, withdraw it with: ullage command withdraw %s %s",
				out.Name, device, device, out.ID)
		}
	}
	return out, nil
}

func printCommand(w io.Writer, c client.Command) {
	fmt.Fprintf(w, "%s %s", c.Device, c.Name)
	switch c.Phase {
	case "done":
		fmt.Fprintf(w, ": done after %s\n", c.EndedAt.Sub(c.At).Round(time.Millisecond))
	case "failed":
		fmt.Fprintf(w, ": it could not: %s\n", c.Error)
	case "sent":
		fmt.Fprintf(w, ": handed over, no reply yet; it waits until %s\n", clock(c.Expires))
	case "waiting":
		if c.Expires == nil {
			fmt.Fprintf(w, ": waits for its next contact\n")
		} else {
			fmt.Fprintf(w, ": not handed over yet; it waits until %s\n", clock(c.Expires))
		}
	default:
		fmt.Fprintf(w, ": %s\n", c.Phase)
	}
	var fields map[string]any
	if json.Unmarshal(c.Output, &fields) == nil {
		for _, k := range sortedKeys(fields) {
			if lines, ok := fields[k].([]any); ok {
				fmt.Fprintf(w, "  %s\n", k)
				for _, x := range lines {
					fmt.Fprintf(w, "    %s\n", plain(x))
				}
				continue
			}
			fmt.Fprintf(w, "  %s  %s\n", k, plain(fields[k]))
		}
	} else if len(c.Output) > 0 {
		fmt.Fprintf(w, "  %s\n", c.Output)
	}
	if c.Open() {
		fmt.Fprintf(w, "See what became of it with: ullage command list %s\n", c.Device)
	}
}

func clock(t *time.Time) string { return t.Local().Format("15:04:05") }

func commandList() *cobra.Command {
	var f client.CommandFilter
	c := &cobra.Command{
		Use: "list [DEVICE]", Short: "List commands and what became of them, the newest first", Args: between(0, 1, "one name at most"), ValidArgsFunction: deviceNames,
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			if len(args) > 0 {
				f.Device = args[0]
			}
			cs, err := cl.Commands(c.Context(), f)
			if err != nil {
				return err
			}
			return listPage(c, cs, "No command is like that. Give one with: ullage command give DEVICE COMMAND",
				column[client.Command]{"command", func(x client.Command) string { return x.ID }},
				column[client.Command]{"device", func(x client.Command) string { return x.Device }},
				column[client.Command]{"name", func(x client.Command) string { return x.Name }},
				column[client.Command]{"input", func(x client.Command) string { return string(x.Input) }},
				column[client.Command]{"given", func(x client.Command) string { return ago(&x.At) }},
				column[client.Command]{"by", func(x client.Command) string { return x.By }},
				column[client.Command]{"phase", func(x client.Command) string { return x.Phase }},
				column[client.Command]{"reply", func(x client.Command) string {
					return commandReply(x)
				}})
		},
	}
	logFlags(c, &f.LogFilter, 100)
	c.Flags().BoolVar(&f.Open, "open", false, "only those that wait for a reply")
	return c
}

func commandWithdraw() *cobra.Command {
	return &cobra.Command{
		Use: "withdraw DEVICE ID|JOB", Short: "Give a command up before its time, of one device or what is left of one for many",
		Args: between(1, 2, "a device and the id of a command, or a job of many"), ValidArgsFunction: deviceNames,
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			if len(args) == 1 {
				j, err := cl.WithdrawJob(c.Context(), args[0])
				if err != nil {
					return err
				}
				return show(c, j, func(w io.Writer) {
					fmt.Fprintf(w, "%s is withdrawn; what was handed over already, devices may do all the same: %s\n", j.Name, jobWords(j))
				})
			}
			out, err := cl.Withdraw(c.Context(), args[0], args[1])
			if err != nil {
				return err
			}
			return show(c, out, func(w io.Writer) { printCommand(w, out) })
		},
	}
}

// commandWords completes the device, then the names of its commands.
func commandWords(c *cobra.Command, args []string, prefix string) ([]string, cobra.ShellCompDirective) {
	if where, _ := c.Flags().GetString("where"); where != "" {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	if len(args) == 0 {
		return deviceNames(c, args, prefix)
	}
	cl, err := connect(c)
	if err != nil || len(args) > 1 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	d, err := cl.Device(c.Context(), args[0])
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	m, err := cl.Model(c.Context(), d.Model+"@"+d.ModelVersion)
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	return m.Commands, cobra.ShellCompDirectiveNoFileComp
}
