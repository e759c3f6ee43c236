package cli

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"ullage/core/handbook"
	"ullage/core/model"
)

// offlineDoors are the addresses of a service as it starts without options.
func offlineDoors(device string) handbook.Doors {
	return handbook.Doors{Device: device, HTTP: "http://127.0.0.1:8461", Host: "127.0.0.1", Port: "1883"}
}

func modelPage() *cobra.Command {
	var format, device string
	c := &cobra.Command{
		Use:   "page MODEL[@VERSION]|FILE",
		Short: "Write the page that authors of firmware work from",
		Long: `Writes what a device of a model sends, is sent and has to answer: topics,
payloads, ranges, settings and commands, with curl and mosquitto_pub lines that
work when they are pasted. Of a file, no service is needed; of a model of the
service, the lines have its addresses.`,
		Example: "  ullage model page tank-probe > tank-probe.html\n  ullage model page tank-probe.tm.json --format markdown",
		Args:    exactly(1, "one model or file"), ValidArgsFunction: modelNames,
		RunE: func(c *cobra.Command, args []string) error {
			if format != "html" && format != "markdown" {
				return usageError{fmt.Errorf("--format is %q; it is html or markdown", format)}
			}
			if !isFile(args[0]) {
				cl, err := connect(c)
				if err != nil {
					return err
				}
				b, err := cl.ModelPage(c.Context(), args[0], format, device)
				if err != nil {
					return err
				}
				_, err = c.OutOrStdout().Write(b)
				return err
			}
			m, err := readModel(args[0])
			if err != nil {
				return err
			}
			p := handbook.Of(m, offlineDoors(device), time.Now())
			write := p.HTML
			if format == "markdown" {
				write = p.Markdown
			}
			s, err := write()
			if err != nil {
				return err
			}
			_, err = io.WriteString(c.OutOrStdout(), s)
			return err
		},
	}
	c.Flags().StringVar(&format, "format", "html", "html or markdown")
	c.RegisterFlagCompletionFunc("format", cobra.FixedCompletions([]string{"html", "markdown"},
		cobra.ShellCompDirectiveNoFileComp))
	c.Flags().StringVar(&device, "device", "", "the device in the lines to paste (default MODEL-1)")
	return c
}

func modelExamples() *cobra.Command {
	var device string
	c := &cobra.Command{
		Use:     "examples MODEL[@VERSION]|FILE",
		Short:   "Print payloads that a device of a model sends and gets",
		Long:    "Prints messages of readings (JSON, with a time, and as SenML), attributes, settings\nand inputs of commands with sane values. With -o json they are one object.",
		Example: "  ullage model examples tank-probe\n  ullage model examples tank-probe.tm.json -o json | jq .senml",
		Args:    exactly(1, "one model or file"), ValidArgsFunction: modelNames,
		RunE: func(c *cobra.Command, args []string) error {
			var m *model.Model
			var err error
			if isFile(args[0]) {
				m, err = readModel(args[0])
			} else {
				cl, e := connect(c)
				if e != nil {
					return e
				}
				src, e := cl.ModelSource(c.Context(), args[0], true)
				if e != nil {
					return e
				}
				m, err = model.Parse(src)
			}
			if err != nil {
				return err
			}
			if device == "" {
				device = m.Name + "-1"
			}
			x := m.Examples(device, time.Now())
			return show(c, x, func(w io.Writer) { printExamples(w, device, x) })
		},
	}
	c.Flags().StringVar(&device, "device", "", "the device in the SenML names (default MODEL-1)")
	return c
}

func printExamples(w io.Writer, device string, x model.Examples) {
	for _, e := range []struct {
		topic, what string
		body        json.RawMessage
	}{
		{"readings", "a reading", x.Readings}, {"readings", "with its time", x.Timed}, {"readings", "as SenML", x.Pack},
		{"about", "attributes", x.About}, {"intended", "what it is sent", x.Intended}, {"applied", "its answer", x.Applied},
	} {
		if e.body != nil {
			fmt.Fprintf(w, "ullage/%s/%s, %s\n  %s\n", device, e.topic, e.what, e.body)
		}
	}
	for _, name := range sortedKeys(x.Commands) {
		fmt.Fprintf(w, "command %s, its input\n  %s\n", name, x.Commands[name])
	}
	if x.Reply != nil {
		fmt.Fprintf(w, "reply to a command, with its id\n  %s\n", x.Reply)
	}
	for _, name := range sortedKeys(x.Events) {
		fmt.Fprintf(w, "event %s, its data\n  %s\n", name, x.Events[name])
	}
}

func modelNew() *cobra.Command {
	var from string
	c := &cobra.Command{
		Use:   "new NAME --from MESSAGE",
		Short: "Make a model of a message, to be edited",
		Long: `Reads a message as a device sends it, from a file or, with -, from standard input,
and prints a Thing Model with a property for each value: its type, and unit and
decimals as the name and the number tell. It is a beginning: add ranges, titles
and settings.`,
		Example: "  echo '{\"must_temp\":21.4,\"battery\":3.31}' | ullage model new tank-probe --from - > tank-probe.tm.json",
		Args:    exactly(1, "one name"),
		RunE: func(c *cobra.Command, args []string) error {
			var b []byte
			var err error
			if from == "-" {
				b, err = io.ReadAll(io.LimitReader(bufio.NewReader(c.InOrStdin()), model.MaxSource+1))
			} else {
				b, err = os.ReadFile(from)
			}
			if err != nil {
				return wrong("%s cannot be read: %v", from, err)
			}
			src, err := model.FromMessage(b, args[0])
			if err != nil {
				return err
			}
			_, err = c.OutOrStdout().Write(src)
			return err
		},
	}
	c.Flags().StringVar(&from, "from", "-", "file with the message, or - for standard input")
	return c
}

func deviceDescription() *cobra.Command {
	return &cobra.Command{
		Use:   "description DEVICE",
		Short: "Print a device's Thing Description",
		Long:  "Prints the W3C Thing Description of a device: its model with forms that say how\nits values are read and settings written over HTTP, and how the device itself\nsends over MQTT and HTTP.",
		Args:  exactly(1, "one device"), ValidArgsFunction: deviceNames,
		RunE: func(c *cobra.Command, args []string) error {
			cl, err := connect(c)
			if err != nil {
				return err
			}
			b, err := cl.Description(c.Context(), args[0])
			if err != nil {
				return err
			}
			var out bytes.Buffer
			if err := json.Indent(&out, b, "", "  "); err != nil {
				return err
			}
			_, err = c.OutOrStdout().Write(append(out.Bytes(), '\n'))
			return err
		},
	}
}

// fillings reads NAME=VALUE pairs.
func fillings(pairs []string) (map[string]string, error) {
	out := map[string]string{}
	for _, p := range pairs {
		k, v, ok := strings.Cut(p, "=")
		if !ok || k == "" {
			return nil, usageError{fmt.Errorf("--fill is %q; write it like OWNER=fennimore", p)}
		}
		out[k] = v
	}
	return out, nil
}

// answers reports whether somebody is there who can be asked.
func answers(c *cobra.Command) bool {
	in, ok := c.InOrStdin().(*os.File)
	return ok && term.IsTerminal(int(in.Fd()))
}

// confirm asks on the terminal; where there is none it refuses.
func confirm(c *cobra.Command, question string) error {
	if !answers(c) {
		return usageError{fmt.Errorf("this asks first, and nobody is there to answer; say --yes. It asks: %s", question)}
	}
	fmt.Fprintf(c.ErrOrStderr(), "\n%s [y/N] ", question)
	answer, err := bufio.NewReader(c.InOrStdin()).ReadString('\n')
	if err != nil && err != io.EOF {
		return err
	}
	if a := strings.ToLower(strings.TrimSpace(answer)); a != "y" && a != "yes" {
		return wrong("nothing was changed")
	}
	return nil
}
