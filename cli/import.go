package cli

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"ullage/client"
	"ullage/core/exchange"
)

// perPart is how many lines of a file are sent at a time, so that an import
// that was interrupted goes on where it was.
const perPart = 100_000

func importCommand() *cobra.Command {
	var format string
	var evaluate, resume bool
	c := &cobra.Command{
		Use:   "import FILE",
		Short: "Take readings of the past in from a file",
		Long: `Takes readings in from CSV with the columns device, metric, at, value and, if
wanted, unit; from JSON Lines with members of those names; or from a SenML pack
(RFC 8428) whose names are device/metric; or from Parquet. That is what "ullage query --export"
writes. The devices must be there. Readings have the checks of live ones, units
are converted, and a reading that is stored already is replaced.

Lines are sent in parts of 100,000; how far it is stands beside the file in
FILE.imported, and --resume goes on from there. It exits with 3 if some rows were
refused.`,
		Example: "  ullage import harvest.csv\n  ullage import harvest.csv --resume\n  ullage import harvest.senml --evaluate",
		GroupID: groupConnect, Args: exactly(1, "one file"),
		RunE: func(c *cobra.Command, args []string) error {
			f := exchange.Format(format)
			if f == "" {
				f = exchange.FormatOf(args[0])
			}
			if !f.Known() {
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
			im := &importing{cl: cl, format: f, evaluate: evaluate, mark: args[0] + ".imported", size: info.Size(), bar: newProgress(c.ErrOrStderr(), "import", "kB")}
			err = im.run(c, file, resume)
			if im.bar.bar != nil {
				im.bar.bar.Finish()
			}
			if err != nil {
				if im.done > 0 {
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
				fmt.Fprintf(w, "%s: %s stored, %s refused.\n", counted(im.sum.Rows, "row"), counted(im.sum.Kept, "reading"), count(int64(im.sum.Refused)))
			}); err != nil {
				return err
			}
			if im.sum.Refused > 0 {
				return findings{fmt.Errorf("%s refused", plural(im.sum.Refused, "row"))}
			}
			return nil
		},
	}
	c.Flags().StringVar(&format, "format", "", "csv, wide, jsonl, senml, cbor or parquet; by the name of the file if left out")
	c.Flags().BoolVar(&evaluate, "evaluate", false, "let the alarms judge the readings, into the journal where they are over")
	c.Flags().BoolVar(&resume, "resume", false, "go on where the last import of this file ended")
	c.RegisterFlagCompletionFunc("format", cobra.FixedCompletions([]string{"csv", "wide", "jsonl", "senml", "cbor", "parquet"}, cobra.ShellCompDirectiveNoFileComp))
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
	if im.format != exchange.CSV && im.format != exchange.Wide && im.format != exchange.Lines { // these cannot be cut into lines
		return im.send(c, file, nil)
	}
	in := bufio.NewReaderSize(file, 1<<20)
	var head []byte
	if im.format != exchange.Lines {
		line, err := in.ReadBytes('\n')
		if err != nil && !errors.Is(err, io.EOF) {
			return err
		}
		head, im.done, im.lines = line, int64(len(line)), 1
	}
	if resume {
		if b, err := os.ReadFile(im.mark); err == nil {
			fields := strings.Fields(string(b))
			if len(fields) != 2 {
				return fmt.Errorf("%s is not readable; remove it and begin again", im.mark)
			}
			im.done, _ = strconv.ParseInt(fields[0], 10, 64)
			im.lines, _ = strconv.Atoi(fields[1])
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
		im.done += size
		im.lines += n
		im.bar.set(int(im.done/1000), int(im.size/1000))
		if err := os.WriteFile(im.mark, []byte(fmt.Sprintln(im.done, im.lines)), 0o600); err != nil {
			return err
		}
	}
	os.Remove(im.mark)
	return nil
}

func (im *importing) send(c *cobra.Command, part io.Reader, head []byte) error {
	if head != nil {
		part = io.MultiReader(bytes.NewReader(head), part)
	}
	res, err := im.cl.Import(c.Context(), part, string(im.format), im.evaluate)
	if err != nil {
		return err
	}
	im.sum.Rows += res.Rows
	im.sum.Kept += res.Kept
	im.sum.Refused += res.Refused
	before := im.lines
	if head != nil {
		before-- // the names of the columns came with this part too
	}
	for _, x := range res.Findings {
		if len(im.sum.Findings) < 100 {
			x.Line += before
			im.sum.Findings = append(im.sum.Findings, x)
		}
	}
	return nil
}
