package cli

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ullage/client"
	"ullage/core/exchange"
	"ullage/core/series"
)

// perPart is how many rows of a file are sent at a time, so that an import
// that was interrupted goes on where it was.
const perPart = 100_000

func importCommand() *cobra.Command {
	var format string
	var evaluate, resume bool
	c := &cobra.Command{
		Use:   "import FILE",
		Short: "Take readings of the past in from a file",
		Long: `Takes readings in from CSV with the columns device, metric, at, value and, if
wanted, unit, or device, at and one column for each metric; from JSON Lines with
members of those names; or from a SenML pack (RFC 8428) whose names are device/metric;
or from Parquet. That is what "ullage query --export" writes. Columns may be parted by
commas, semicolons (numbers may have a decimal comma then) or tabs; times are RFC 3339
or whole milliseconds since 1970. The devices must be there. Readings have the checks of live ones, units
are converted, and a reading that is stored already is replaced.

Rows are sent in parts of 100,000; how far it is stands beside the file in
FILE.imported, and --resume goes on from there. It exits with 3 if some rows were
refused.`,
		Example: "  ullage import harvest.csv\n  ullage import harvest.csv --resume\n  ullage import harvest.senml --evaluate",
		GroupID: groupConnect, Args: exactly(1, "one file"),
		RunE: func(c *cobra.Command, args []string) error {
			f := exchange.Format(format)
			if f == "" {
				f = exchange.FormatOf(args[0])
			}
			switch end := strings.ToLower(filepath.Ext(args[0])); {
			case f == "" && slices.Contains([]string{".xlsx", ".xls", ".ods"}, end):
				return usageError{fmt.Errorf("%s is a spreadsheet; save it as CSV and import that", args[0])}
			case !f.Known():
				return usageError{fmt.Errorf("the name of %s tells no format; say --format csv, wide, jsonl, senml, cbor or parquet", args[0])}
			}
			cl, err := connect(c)
			if err != nil {
				return err
			}
			file, err := os.Open(args[0])
			if err != nil {
				return fmt.Errorf("the file cannot be read: %w", err)
			}
			defer file.Close()
			info, err := file.Stat()
			if err != nil {
				return err
			}
			if info.Mode().IsRegular() && info.Size() == 0 {
				return fmt.Errorf("the file cannot be read: %s is empty", args[0])
			}
			im := &importing{cl: cl, format: f, evaluate: evaluate, mark: args[0] + ".imported", size: info.Size(),
				bar: newProgress(c.ErrOrStderr(), "import", "kB")}
			err = im.run(c, file, resume)
			if im.bar.bar != nil {
				im.bar.bar.Finish()
			}
			if err != nil {
				if _, begun := os.Stat(im.mark); begun == nil {
					return fmt.Errorf("%w; go on with: ullage import %s --resume", err, args[0])
				}
				return err
			}
			if err := show(c, im.sum, func(w io.Writer) {
				for _, x := range im.sum.Findings {
					fmt.Fprintf(w, "line %d: %s\n", x.Line, x.Sentence)
				}
				if more := im.sum.Refused - len(im.sum.Findings); more > 0 && len(im.sum.Findings) > 0 {
					fmt.Fprintf(w, "and %d more\n", more)
				}
				fmt.Fprintf(w, "%s: %s stored, %s refused.\n", counted(im.sum.Rows, "row"),
					counted(im.sum.Kept, "reading"), count(int64(im.sum.Refused)))
			}); err != nil {
				return err
			}
			if im.sum.Refused > 0 {
				return findings{fmt.Errorf("%s refused", plural(im.sum.Refused, "row"))}
			}
			return nil
		},
	}
	c.Flags().StringVar(&format, "format", "",
		"csv, wide, jsonl, senml, cbor or parquet; by the name of the file if left out")
	c.Flags().BoolVar(&evaluate, "evaluate", false,
		"let the alarms judge the readings, into the journal where they are over")
	c.Flags().BoolVar(&resume, "resume", false, "go on where the last import of this file ended")
	c.RegisterFlagCompletionFunc("format",
		cobra.FixedCompletions([]string{"csv", "wide", "jsonl", "senml", "cbor", "parquet"},
			cobra.ShellCompDirectiveNoFileComp))
	return c
}

// importing is an import under way.
type importing struct {
	cl       *client.Client
	format   exchange.Format
	evaluate bool
	mark     string // file that says how far it is
	size     int64
	done     int64 // bytes
	lines    int
	bar      *progress
	sum      client.Imported
}

func (im *importing) run(c *cobra.Command, file *os.File, resume bool) error {
	im.sum.Findings = []client.ImportFinding{}
	if im.format != exchange.CSV && im.format != exchange.Wide &&
		im.format != exchange.Lines { // these cannot be cut into lines
		return im.runRows(c, file, resume)
	}
	in := bufio.NewReaderSize(file, 1<<20)
	var head []byte
	if im.format != exchange.Lines {
		line, err := in.ReadBytes('\n')
		if err != nil && !errors.Is(err, io.EOF) {
			return err
		}
		head, im.done, im.lines = line, int64(len(line)), 1
		if _, err := exchange.NewReader(bytes.NewReader(head), im.format, time.Now()); err != nil {
			return fmt.Errorf("the file cannot be read: %w", err)
		}
	}
	if resume {
		found, err := im.resume()
		if err != nil {
			return err
		}
		if found {
			if _, err := file.Seek(im.done, io.SeekStart); err != nil {
				return err
			}
			in.Reset(file)
		}
	}
	for more := true; more; {
		var part bytes.Buffer
		n := 0
		for ; n < perPart; n++ {
			line, err := in.ReadBytes('\n')
			part.Write(line)
			if err != nil {
				if !errors.Is(err, io.EOF) {
					return err
				}
				more = false
				break
			}
		}
		if part.Len() == 0 {
			break
		}
		size := int64(part.Len())
		if err := im.send(c, &part, head); err != nil {
			return err
		}
		im.lines += n
		if err := im.got(im.done + size); err != nil {
			return err
		}
	}
	os.Remove(im.mark)
	return nil
}

// resume reads how far an import before came, if there was one.
func (im *importing) resume() (found bool, err error) {
	b, err := os.ReadFile(im.mark)
	if err != nil {
		return false, nil
	}
	if _, err := fmt.Sscan(string(b), &im.done, &im.lines); err != nil {
		return false, fmt.Errorf("%s is not readable; remove it and begin again", im.mark)
	}
	return true, nil
}

// got notes how far it is.
func (im *importing) got(done int64) error {
	im.done = done
	im.bar.set(int(im.done/1000), int(im.size/1000))
	return os.WriteFile(im.mark, []byte(fmt.Sprintln(im.done, im.lines)), 0o600)
}

// runRows sends a file that cannot be cut into lines: its rows are read here
// and go as JSON Lines, in parts.
func (im *importing) runRows(c *cobra.Command, file *os.File, resume bool) error {
	if resume {
		if _, err := im.resume(); err != nil {
			return err
		}
	}
	count := &counting{r: file}
	in, err := exchange.NewReader(count, im.format, time.Now())
	if err != nil {
		return fmt.Errorf("the file cannot be read: %w", err)
	}
	begin := im.lines // rows that were sent before
	for n, more := 0, true; more; {
		var part bytes.Buffer
		w, err := exchange.NewWriter(&part, exchange.Lines)
		if err != nil {
			return err
		}
		var lines []int // where in the file the rows of this part stand
		for len(lines) < perPart {
			x, err := in.Next()
			var bad *exchange.BadLine
			if err == io.EOF {
				more = false
				break
			}
			if err != nil && !errors.As(err, &bad) {
				return fmt.Errorf("the file cannot be read on: %w", err)
			}
			if n++; n <= begin {
				continue
			}
			if bad != nil {
				im.sum.Rows++
				im.refuse(1, client.ImportFinding{Line: bad.Line, Sentence: bad.Sentence})
				continue
			}
			lines = append(lines, x.Line)
			if err := w.Write(x.Device, x.Name, x.Unit, series.Point{At: x.At, Value: x.Value, Quality: x.Quality,
				DeviceAt: x.DeviceAt}); err != nil {
				return err
			}
		}
		if len(lines) > 0 {
			if err := w.Close(); err != nil {
				return err
			}
			if err := im.post(c, &part, exchange.Lines, func(line int) int { return lines[line-1] }); err != nil {
				return err
			}
		}
		im.lines = n
		if err := im.got(count.n); err != nil {
			return err
		}
	}
	os.Remove(im.mark)
	return nil
}

// counting counts what is read.
type counting struct {
	r io.Reader
	n int64
}

func (c *counting) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.n += int64(n)
	return n, err
}

func (im *importing) send(c *cobra.Command, part io.Reader, head []byte) error {
	before := im.lines
	if head != nil {
		part = io.MultiReader(bytes.NewReader(head), part)
		before-- // the names of the columns came with this part too
	}
	return im.post(c, part, im.format, func(line int) int { return line + before })
}

// post sends a part; lineOf tells where in the file its lines stand.
func (im *importing) post(c *cobra.Command, part io.Reader, f exchange.Format, lineOf func(int) int) error {
	res, err := im.cl.Import(c.Context(), part, string(f), im.evaluate)
	if err != nil {
		return err
	}
	im.sum.Rows += res.Rows
	im.sum.Kept += res.Kept
	for i := range res.Findings {
		res.Findings[i].Line = lineOf(res.Findings[i].Line)
	}
	im.refuse(res.Refused, res.Findings...)
	return nil
}

func (im *importing) refuse(n int, why ...client.ImportFinding) {
	im.sum.Refused += n
	im.sum.Findings = append(im.sum.Findings, why[:min(len(why), max(0, 100-len(im.sum.Findings)))]...)
}
