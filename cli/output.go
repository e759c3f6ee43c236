package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"slices"
	"strconv"
	"strings"
	"text/tabwriter"
	"time"
	"unicode/utf8"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"ullage/client"
	"ullage/core/health"
)

// column is one column of a table.
type column[T any] struct {
	name string
	cell func(T) string
}

// list prints rows as the --output flag says: a table of the columns, or the
// API's own fields.
func list[T any](c *cobra.Command, rows []T, empty string, columns ...column[T]) error {
	return render(c, rows, func(w io.Writer) error {
		if len(rows) == 0 {
			fmt.Fprintln(w, empty)
			return nil
		}
		printTable(w, rows, columns...)
		return nil
	})
}

// printTable prints rows, without the columns in which nobody has anything.
func printTable[T any](w io.Writer, rows []T, columns ...column[T]) {
	cells := make([][]string, len(rows)+1)
	for i, col := range columns {
		column := []string{strings.ToUpper(col.name)}
		said := i == 0
		for _, r := range rows {
			cell := oneLine(col.cell(r))
			said = said || cell != ""
			column = append(column, cell)
		}
		if !said {
			continue // nobody has anything there
		}
		for k := range cells {
			cells[k] = append(cells[k], column[k])
		}
	}
	table(w, cells)
}

// logFlags adds what narrows the lists of what only grows.
func logFlags(c *cobra.Command, f *client.LogFilter, limit int) {
	c.Flags().StringVar(&f.Device, "device", "", "only of this device")
	c.Flags().StringVar(&f.Before, "before", "",
		"only what is older than this id or number, as the end of a list names it")
	limitFlag(c, &f.Limit, limit, "at most this many; all if 0")
	c.RegisterFlagCompletionFunc("device", deviceNames)
	whereInto(c, &f.Where)
}

// listPage is list for a page of what only grows. That there is more is said
// beside the output, which may be going into another program.
func listPage[T any](c *cobra.Command, p client.Page[T], empty string, columns ...column[T]) error {
	if err := list(c, p.Items, empty, columns...); err != nil || p.Next == "" {
		return err
	}
	fmt.Fprintf(c.ErrOrStderr(),
		"These are the newest %d. Older ones follow with --before %s, all of them with --limit 0.\n", len(p.Items), p.Next)
	return nil
}

// show prints one object: as people read it, or the API's own fields.
func show(c *cobra.Command, v any, people func(io.Writer)) error {
	return render(c, v, func(w io.Writer) error { people(w); return nil })
}

// rawOutput reports whether what devices wrote is printed as it is.
func rawOutput(c *cobra.Command) bool {
	raw, _ := c.Flags().GetBool("raw")
	return raw
}

func render(c *cobra.Command, v any, people func(io.Writer) error) error {
	w := c.OutOrStdout()
	format, _ := c.Flags().GetString("output")
	switch format {
	case "table":
		return people(newSafe(w, rawOutput(c)))
	case "json":
		e := json.NewEncoder(w)
		e.SetEscapeHTML(false)
		e.SetIndent("", "  ")
		return e.Encode(v)
	case "yaml":
		b, err := json.Marshal(v)
		if err != nil {
			return err
		}
		if b, err = yaml.JSONToYAML(b); err != nil {
			return err
		}
		_, err = w.Write(b)
		return err
	case "csv":
		return writeCSV(w, v, rawOutput(c))
	}
	return usageError{fmt.Errorf("--output is %q; it is table, json, yaml or csv", format)}
}

// spare are the columns that go first where a terminal is narrow: what something
// is called by programs, then what else can be looked up.
var spare = []string{"ALARM", "COMMAND", "ID", "TIMES", "BY", "VERSION", "GIVEN", "KIND", "STATE", "MODEL", "INPUT",
	"MODELS", "ON DELAY", "DEADBAND"}

// fitted leaves columns out until a table fits into a width; the first one that
// is left and the last one, which is cut where need be, stay.
func fitted(cells [][]string, width int) [][]string {
	for _, name := range spare {
		total := 0
		for k := range cells[0] {
			w := 0
			for _, line := range cells {
				if k < len(line) && k < len(cells[0])-1 {
					w = max(w, utf8.RuneCountInString(line[k]))
				}
			}
			total += w + 2
		}
		if total+30 <= width || len(cells[0]) <= 2 { // the last one has some room
			break
		}
		k := slices.Index(cells[0][:len(cells[0])-1], name)
		if k < 0 {
			continue
		}
		out := make([][]string, len(cells))
		for i, line := range cells {
			if k < len(line) {
				line = slices.Delete(slices.Clone(line), k, k+1)
			}
			out[i] = line
		}
		cells = out
	}
	return cells
}

// table writes aligned columns, the last one cut to the width of the terminal.
func table(w io.Writer, cells [][]string) {
	if width := terminalWidth(w); width > 0 && len(cells) > 0 {
		cells = fitted(cells, width)
	}
	var buf bytes.Buffer
	tw := tabwriter.NewWriter(&buf, 0, 8, 2, ' ', 0)
	for _, line := range cells {
		fmt.Fprintln(tw, strings.Join(line, "\t"))
	}
	tw.Flush()
	width := terminalWidth(w)
	for i, line := range strings.Split(strings.TrimRight(buf.String(), "\n"), "\n") {
		line = strings.TrimRight(line, " ")
		if width > 0 && utf8.RuneCountInString(line) > width {
			line = string([]rune(line)[:width-1]) + "…"
		}
		if i == 0 {
			line = paint(w, "2", line)
		}
		fmt.Fprintln(w, line)
	}
}

// terminalWidth returns 0 where w is no terminal.
func terminalWidth(w io.Writer) int {
	f := file(w)
	if f == nil || !term.IsTerminal(int(f.Fd())) {
		return 0
	}
	if width, _, err := term.GetSize(int(f.Fd())); err == nil && width > 20 {
		return width
	}
	return 0
}

// paint colours s with an SGR code, on a terminal only (https://no-color.org).
func paint(w io.Writer, code, s string) string {
	if terminalWidth(w) == 0 || os.Getenv("NO_COLOR") != "" || s == "" {
		return s
	}
	if x, ok := w.(*safe); ok {
		return x.own + code + ";" + s + x.own + "0;"
	}
	return "\x1b[" + code + "m" + s + "\x1b[0m"
}

// ago writes a past time relative to now.
func ago(t *time.Time) string {
	if t == nil || t.IsZero() {
		return "–"
	}
	d := time.Since(*t)
	if d < 0 {
		return "just now"
	}
	return health.Ago(d) + " ago"
}

func num(f float64, decimals int) string { return strconv.FormatFloat(f, 'f', decimals, 64) }

func plain(v any) string {
	switch v := v.(type) {
	case nil:
		return "–"
	case float64:
		return num(v, -1)
	case string:
		return v
	}
	return fmt.Sprint(v)
}

func labels(m map[string]string) string {
	var parts []string
	for _, k := range sortedKeys(m) {
		parts = append(parts, k+"="+m[k])
	}
	return strings.Join(parts, " ")
}
