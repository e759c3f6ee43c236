// Package exchange writes readings in open formats: CSV (RFC 4180), JSON Lines,
// SenML JSON (RFC 8428) and Apache Parquet, and reads them back.
package exchange

import (
	"bufio"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"ullage/core/series"
	"ullage/core/value"
)

// Format is one of the ways to write readings.
type Format string

// The formats.
const (
	CSV   Format = "csv"   // a row a reading: device,metric,at,value,unit,quality,device_at
	Lines Format = "jsonl" // an object a reading, one a line
	SenML Format = "senml" // one pack; names are device/metric
	// CBOR is a SenML pack too, in CBOR.
	CBOR Format = "cbor"
	// Wide is CSV with a row a device and time, and a column a metric.
	Wide Format = "wide"
	// Parquet has columns device, metric, at, number, truth, text, unit, marks
	// (its quality), device_at.
	Parquet Format = "parquet"
)

// Formats lists them.
var Formats = []Format{CSV, Wide, Lines, SenML, CBOR, Parquet}

// MediaType returns the media type of a format.
func (f Format) MediaType() string {
	switch f {
	case CSV, Wide:
		return "text/csv; charset=utf-8; header=present"
	case CBOR:
		return "application/senml+cbor"
	case SenML:
		return "application/senml+json"
	case Parquet:
		return "application/vnd.apache.parquet"
	}
	return "application/jsonl"
}

// Writer writes readings. Close ends what was begun.
type Writer interface {
	Write(device, metric, unit string, x series.Point) error
	Close() error
}

// NewWriter returns a Writer of a format. The columns are those that Wide has
// at least; the other formats need none.
func NewWriter(w io.Writer, f Format, columns ...string) (Writer, error) {
	switch f {
	case CSV:
		c := &csvWriter{w: csv.NewWriter(w)}
		return c, c.w.Write([]string{"device", "metric", "at", "value", "unit", "quality", "device_at"})
	case Lines:
		b := bufio.NewWriter(w)
		return &lineWriter{b, json.NewEncoder(b)}, nil
	case SenML:
		b := bufio.NewWriter(w)
		_, err := b.WriteString("[")
		return &packWriter{w: b}, err
	}
	switch f {
	case Parquet:
		return newParquetWriter(w), nil
	case Wide:
		return &wideWriter{w: csv.NewWriter(w), metrics: columns, rows: map[int64][]value.Value{}}, nil
	case CBOR:
		b := bufio.NewWriter(w)
		return &cborWriter{w: b}, b.WriteByte(0x9f) // a list whose length is not known yet
	}
	return nil, fmt.Errorf("%q is no format; there are %s", f, formatNames())
}

// formatNames are the formats, for messages.
func formatNames() string {
	words := make([]string, len(Formats))
	for i, f := range Formats {
		words[i] = string(f)
	}
	return strings.Join(words, ", ")
}

const stamp = "2006-01-02T15:04:05.000Z"

// stamped writes a time; the zero time as nothing.
func stamped(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format(stamp)
}

type csvWriter struct {
	w   *csv.Writer
	row [7]string
	raw bool
}

// Raw has a writer of CSV write texts as they are, also those that a spreadsheet
// would take for a formula. It returns the writer.
func Raw(w Writer) Writer {
	switch w := w.(type) {
	case *csvWriter:
		w.raw = true
	case *wideWriter:
		w.raw = true
	}
	return w
}

// cellOf writes a value into a cell.
func cellOf(v value.Value, raw bool) string {
	if v.Kind == value.Text && !raw {
		return Guard(v.Text)
	}
	return plainText(v)
}

func (c *csvWriter) Write(device, metric, unit string, x series.Point) error {
	c.row = [7]string{device, metric, x.At.UTC().Format(stamp), cellOf(x.Value, c.raw), unit,
		strings.Join(x.Quality.Words(), "; "), stamped(x.DeviceAt)}
	return c.w.Write(c.row[:])
}

func (c *csvWriter) Close() error {
	c.w.Flush()
	return c.w.Error()
}

// plainText writes a value so that nothing of it is lost: a number with the digits
// it needs, a boolean as true or false, a text as it is.
func plainText(v value.Value) string {
	switch v.Kind {
	case value.Number:
		return strconv.FormatFloat(v.Num, 'g', -1, 64)
	case value.Bool:
		return strconv.FormatBool(v.Bool())
	}
	return v.Text
}

// line is one reading in JSON Lines.
type line struct {
	Device   string   `json:"device"`
	Metric   string   `json:"metric"`
	At       string   `json:"at"`
	Value    any      `json:"value"`
	Unit     string   `json:"unit,omitempty"`
	Quality  []string `json:"quality,omitempty"`
	DeviceAt string   `json:"device_at,omitempty"`
}

type lineWriter struct {
	b *bufio.Writer
	e *json.Encoder
}

func (l *lineWriter) Write(device, metric, unit string, x series.Point) error {
	return l.e.Encode(line{device, metric, stamped(x.At), x.Value.Any(), unit, x.Quality.Words(), stamped(x.DeviceAt)})
}

func (l *lineWriter) Close() error { return l.b.Flush() }

// packWriter writes a pack whose records say their whole name once a series.
type packWriter struct {
	w      *bufio.Writer
	device string
	any    bool
}

func (p *packWriter) Write(device, metric, unit string, x series.Point) error {
	if p.any {
		p.w.WriteByte(',')
	}
	p.any = true
	p.w.WriteString("\n{")
	if device != p.device {
		fmt.Fprintf(p.w, `"bn":%s,`, quoted(device+"/"))
		p.device = device
	}
	fmt.Fprintf(p.w, `"n":%s,"t":%s,`, quoted(metric), strconv.FormatFloat(float64(x.At.UnixMilli())/1000, 'f', -1, 64))
	if unit != "" {
		fmt.Fprintf(p.w, `"u":%s,`, quoted(unit))
	}
	key := map[value.Kind]string{value.Number: "v", value.Bool: "vb", value.Text: "vs"}[x.Value.Kind]
	b, err := json.Marshal(x.Value.Any())
	if err != nil {
		return err
	}
	_, err = fmt.Fprintf(p.w, `%s:%s}`, quoted(key), b)
	return err
}

func (p *packWriter) Close() error {
	p.w.WriteString("\n]\n")
	return p.w.Flush()
}

func quoted(s string) string {
	b, _ := json.Marshal(s) // a text can always be written
	return string(b)
}
