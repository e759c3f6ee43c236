package exchange

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"ullage/core/senml"
	"ullage/core/value"
)

// Row is one reading as it stands in a file.
type Row struct {
	Line         int // from 1; the record's number in a pack
	Device, Name string
	At           time.Time
	Value        value.Value
	// Written is the value as it stands in a file that has no types: what looks
	// like a number may be a text.
	Written  string
	Unit     string // empty for that of the model
	Quality  value.Quality
	DeviceAt time.Time // the device's own time where it was not believed, else zero
}

// BadLine is the error of one line that cannot be read; those after it can.
type BadLine struct {
	Line     int
	Sentence string
}

// Error says both.
func (b *BadLine) Error() string { return fmt.Sprintf("line %d: %s", b.Line, b.Sentence) }

// Reader reads rows one by one. Next gives io.EOF after the last, a *BadLine
// for a line to pass over, and any other error where it cannot go on.
type Reader interface{ Next() (Row, error) }

// NewReader returns a Reader of a format: of CSV with the columns device,
// metric, at, value and, if they are there, unit, quality and device_at, in any order; of JSON Lines with
// members of those names; of a SenML pack whose names are device/metric; of
// Parquet with the columns that are written; of CSV with a row a device and time.
func NewReader(r io.Reader, f Format, now time.Time) (Reader, error) {
	switch f {
	case CSV:
		return newCSV(r)
	case Lines:
		s := bufio.NewScanner(r)
		s.Buffer(make([]byte, 64<<10), maxRecord)
		return &lineReader{s: s}, nil
	case SenML:
		w := &window{r: r, left: maxRecord}
		d := json.NewDecoder(w)
		if t, err := d.Token(); err != nil || t != json.Delim('[') {
			return nil, errors.New("this is no SenML pack: it does not begin with a list")
		}
		return &packReader{d: d, w: w, now: now}, nil
	}
	switch f {
	case Parquet:
		return newParquetReader(r)
	case Wide:
		c, head, err := openCSV(r)
		if err != nil {
			return nil, err
		}
		return newWide(c, head)
	case CBOR:
		return newCBORReader(r, now)
	}
	return nil, fmt.Errorf("%q is no format; there are %s", f, formatNames())
}

type csvReader struct {
	r      *csv.Reader
	column map[string]int
}

// Separator returns what parts the columns of CSV, by its first line: a comma, or the
// semicolon or the tab that spreadsheets write instead.
func Separator(first []byte) rune {
	for _, sep := range []rune{';', '\t'} {
		if bytes.ContainsRune(first, sep) && !bytes.ContainsRune(first, ',') {
			return sep
		}
	}
	return ','
}

// openCSV reads the names of the columns.
func openCSV(r io.Reader) (c *csv.Reader, head []string, err error) {
	in := bufio.NewReaderSize(&lines{r: r}, 64<<10)
	begin, err := in.Peek(in.Size())
	if err != nil && err != io.EOF {
		return nil, nil, err
	}
	first, _, whole := bytes.Cut(begin, []byte("\n"))
	control := func(r rune) bool { return r < ' ' && r != '\t' && r != '\r' }
	switch {
	case bytes.HasPrefix(first, []byte("\xff\xfe")), bytes.HasPrefix(first, []byte("\xfe\xff")):
		return nil, nil, errors.New("it is written in UTF-16; save it as UTF-8")
	case bytes.ContainsFunc(first, control):
		return nil, nil, errors.New("this is no CSV: its first line is no text; a spreadsheet must be saved as CSV first")
	case (whole || err == io.EOF) && !utf8.Valid(first):
		return nil, nil, errors.New("it is not written in UTF-8; save it so")
	}
	c = csv.NewReader(in)
	c.ReuseRecord, c.FieldsPerRecord, c.Comma = true, -1, Separator(first)
	rec, err := c.Read()
	if err != nil {
		return nil, nil, errors.New("this is no CSV with a row of column names")
	}
	for _, name := range rec {
		head = append(head, strings.TrimSpace(strings.TrimPrefix(name, "\ufeff")))
	}
	return c, head, nil
}

// nextCSV reads a record and says on which line it begins; the record is good
// until the next.
func nextCSV(c *csv.Reader) (rec []string, line int, err error) {
	if rec, err = c.Read(); err == nil {
		line, _ = c.FieldPos(0)
	} else if err != io.EOF {
		err = notCSV(err)
	}
	return rec, line, err
}

func newCSV(r io.Reader) (Reader, error) {
	c, head, err := openCSV(r)
	if err != nil {
		return nil, err
	}
	out := &csvReader{c, map[string]int{}}
	for i, name := range head {
		out.column[strings.ToLower(name)] = i
	}
	has := func(name string) bool { _, ok := out.column[name]; return ok }
	if has("device") && has("at") && !has("metric") && !has("value") {
		return newWide(c, head)
	}
	for _, need := range []string{"device", "metric", "at", "value"} {
		if !has(need) {
			return nil, missing(need, head)
		}
	}
	return out, nil
}

// missing says that a column is not there, and what there is instead.
func missing(column string, head []string) error {
	for i := range head {
		head[i] = fmt.Sprintf("%q", value.Clip(head[i], 40))
	}
	const most = 8
	names := strings.Join(head[:min(len(head), most)], ", ")
	if len(head) > most {
		names += fmt.Sprintf(" and %d more", len(head)-most)
	}
	return fmt.Errorf("there is no column %s; the first line must name device, metric, at and value (and may name unit), "+
		"or device, at and one column for each metric; it names %s", column, names)
}

func (c *csvReader) Next() (Row, error) {
	rec, line, err := nextCSV(c.r)
	if err != nil {
		return Row{}, err
	}
	written := func(name string) string {
		if i, ok := c.column[name]; ok && i < len(rec) {
			return rec[i]
		}
		return ""
	}
	cell := func(name string) string { return strings.TrimSpace(written(name)) }
	x := Row{Line: line, Device: cell("device"), Name: cell("metric"), Unit: cell("unit"), Written: unguard(written("value"))}
	x.Value = readCell(x.Written, c.r.Comma)
	return x.stated(cell("at"), strings.Split(cell("quality"), "; "), cell("device_at"))
}

// notCSV makes an error of a line that can be passed over of one of the library.
func notCSV(err error) error {
	var bad *csv.ParseError
	if errors.As(err, &bad) {
		return &BadLine{bad.Line, "this is no CSV: " + bad.Err.Error()}
	}
	return err
}

// readCell reads a value as plainText writes it: a number or a boolean where it looks
// like one, else a text. Where semicolons part the columns, numbers have a decimal comma.
func readCell(s string, sep rune) value.Value {
	var v any
	if sep == ';' && decimalComma.MatchString(s) {
		s = strings.Replace(s, ",", ".", 1)
	}
	if s == "" {
		return value.OfText(s)
	}
	if json.Unmarshal([]byte(s), &v) == nil {
		switch v := v.(type) {
		case float64:
			return value.OfNumber(v)
		case bool:
			return value.OfBool(v)
		}
	}
	return value.OfText(s)
}

var decimalComma = regexp.MustCompile(`^-?[0-9]+,[0-9]+$`)

// timeOf reads a time as the device contract has it: RFC 3339 or whole milliseconds since
// 1970.
func timeOf(at string) (time.Time, error) {
	if at == "" {
		return time.Time{}, errors.New("the time is missing")
	}
	if t, err := time.Parse(time.RFC3339, at); err == nil {
		return t, nil
	}
	if n, err := strconv.ParseInt(at, 10, 64); err == nil {
		switch {
		case n >= 1e11 && n < 1e14:
			return time.UnixMilli(n).UTC(), nil
		case n >= 1e8 && n < 1e11:
			return time.Time{}, fmt.Errorf("%s looks like seconds since 1970; write milliseconds, as in %d, or a time like 2026-03-01T10:00:00Z", at, n*1000)
		}
	}
	if t, err := time.Parse("2006-01-02 15:04:05", strings.Replace(at, "T", " ", 1)); err == nil {
		return time.Time{}, fmt.Errorf("%q has no zone; write it like %s, or with an offset such as +01:00", at, t.Format(time.RFC3339))
	}
	return time.Time{}, fmt.Errorf("%q is no time; write it like 2026-03-01T10:00:00Z", value.Clip(at, 60))
}

func (x Row) timed(at string) (Row, error) {
	var err error
	if x.At, err = timeOf(at); err != nil {
		return x, &BadLine{x.Line, err.Error()}
	}
	if x.Device == "" || x.Name == "" {
		return x, &BadLine{x.Line, "the device or the metric is missing"}
	}
	return x, nil
}

// stated is timed with the marks of the reading and the device's own time. What
// other programs write there is passed over where it says nothing to us.
func (x Row) stated(at string, marks []string, deviceAt string) (Row, error) {
	x.Quality = value.QualityOf(marks)
	if t, err := time.Parse(time.RFC3339, deviceAt); err == nil {
		x.DeviceAt = t
	}
	return x.timed(at)
}

// words are the texts of what may be one, or a list of some.
func words(x any) (out []string) {
	switch x := x.(type) {
	case string:
		out = []string{x}
	case []any:
		for _, y := range x {
			if s, ok := y.(string); ok {
				out = append(out, s)
			}
		}
	}
	return out
}

// asWritten is a time of JSON as it would stand in a table.
func asWritten(at any) string {
	switch at := at.(type) {
	case string:
		return at
	case float64:
		return strconv.FormatFloat(at, 'f', -1, 64)
	case nil:
		return ""
	}
	return fmt.Sprint(at)
}

type lineReader struct {
	s *bufio.Scanner
	n int
}

func (l *lineReader) Next() (Row, error) {
	for l.s.Scan() {
		l.n++
		if len(strings.TrimSpace(l.s.Text())) == 0 {
			continue
		}
		var o struct {
			Device, Metric, Unit string
			At, Value, Quality   any
			DeviceAt             any `json:"device_at"`
		}
		if err := json.Unmarshal(l.s.Bytes(), &o); err != nil {
			return Row{}, &BadLine{l.n, "this is no JSON object with device, metric, at and value"}
		}
		v, err := value.FromAny(o.Value)
		if err == nil && !v.Known() {
			err = errors.New("missing")
		}
		if err != nil {
			return Row{}, &BadLine{l.n, "the value is " + err.Error()}
		}
		return Row{Line: l.n, Device: o.Device, Name: o.Metric, Unit: o.Unit, Value: v}.stated(asWritten(o.At), words(o.Quality),
			strings.Join(words(o.DeviceAt), ""))
	}
	if err := l.s.Err(); err != nil {
		return Row{}, fmt.Errorf("line %d: %w", l.n+1, err)
	}
	return Row{}, io.EOF
}

type packReader struct {
	d   *json.Decoder
	w   *window
	r   senml.Resolver
	now time.Time
	n   int
}

func (p *packReader) Next() (Row, error) {
	for p.w.open(); p.d.More(); p.w.open() {
		p.n++
		var line json.RawMessage
		if err := p.d.Decode(&line); err != nil {
			return Row{}, fmt.Errorf("record %d: this is no JSON: %s", p.n, err)
		}
		rec, keep, err := p.r.JSON(line, p.now)
		if err != nil {
			return Row{}, &BadLine{p.n, err.Error()}
		}
		if !keep {
			continue
		}
		return rowOf(rec, p.n)
	}
	if _, err := p.d.Token(); err != nil {
		return Row{}, fmt.Errorf("the pack breaks off after record %d", p.n)
	}
	return Row{}, io.EOF
}

// rowOf makes a row of a record of a pack.
func rowOf(rec senml.Record, n int) (Row, error) {
	x := Row{Line: n, Unit: rec.Unit, At: rec.At}
	switch {
	case rec.Number != nil:
		x.Value = value.OfNumber(*rec.Number)
	case rec.Text != nil:
		x.Value = value.OfText(*rec.Text)
	case rec.Truth != nil:
		x.Value = value.OfBool(*rec.Truth)
	default:
		return Row{}, &BadLine{n, "the record has no value that is kept: a number, a text or true and false"}
	}
	i := strings.LastIndexAny(rec.Name, "/:")
	if i <= 0 || rec.At.IsZero() {
		return Row{}, &BadLine{n, fmt.Sprintf("%q is not device/metric, or has no time", value.Clip(rec.Name, 60))}
	}
	x.Device, x.Name = rec.Name[:i], rec.Name[i+1:]
	return x, nil
}

// FormatOf tells the format of a file by its name; "" where the name tells none.
func FormatOf(name string) Format {
	name = strings.ToLower(name)
	switch {
	case strings.HasSuffix(name, ".csv"):
		return CSV
	case strings.HasSuffix(name, ".jsonl"), strings.HasSuffix(name, ".ndjson"):
		return Lines
	case strings.HasSuffix(name, ".senml.json"), strings.HasSuffix(name, ".senml"):
		return SenML
	case strings.HasSuffix(name, ".cbor"):
		return CBOR
	case strings.HasSuffix(name, ".parquet"):
		return Parquet
	}
	return ""
}

// Known reports whether f is one of Formats.
func (f Format) Known() bool { return slices.Contains(Formats, f) }
