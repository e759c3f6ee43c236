package exchange

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/parquet-go/parquet-go"

	"ullage/core/series"
	"ullage/core/value"
)

// parquetRow is a reading as a row of Parquet: one of the three columns of
// values is set, by its kind.
type parquetRow struct {
	Device   string    `parquet:"device,dict"`
	Metric   string    `parquet:"metric,dict"`
	At       time.Time `parquet:"at,timestamp(millisecond),delta"`
	Number   *float64  `parquet:"number,optional"`
	Truth    *bool     `parquet:"truth,optional"`
	Text     *string   `parquet:"text,optional,dict"`
	Unit     string    `parquet:"unit,dict"`
	Marks    string    `parquet:"marks,dict"`
	DeviceAt *int64    `parquet:"device_at,optional,timestamp(millisecond)"`
}

// parquetGroup is how many rows one group of a file has.
const parquetGroup = 100_000

type parquetWriter struct {
	w    *parquet.GenericWriter[parquetRow]
	rows []parquetRow
	n    int
}

func newParquetWriter(w io.Writer) Writer {
	return &parquetWriter{w: parquet.NewGenericWriter[parquetRow](w, parquet.Compression(&parquet.Zstd)),
		rows: make([]parquetRow, 0, 1000)}
}

func (p *parquetWriter) Write(device, metric, unit string, x series.Point) error {
	r := parquetRow{Device: device, Metric: metric, At: x.At.UTC(), Unit: unit,
		Marks: strings.Join(x.Quality.Words(), "; ")}
	if !x.DeviceAt.IsZero() {
		ms := x.DeviceAt.UnixMilli()
		r.DeviceAt = &ms
	}
	r.Number, r.Text, r.Truth = x.Value.Split()
	p.rows = append(p.rows, r)
	if len(p.rows) == cap(p.rows) {
		return p.flush()
	}
	return nil
}

func (p *parquetWriter) flush() error {
	n, err := p.w.Write(p.rows)
	p.rows = p.rows[:0]
	if p.n += n; err == nil && p.n >= parquetGroup {
		p.n = 0
		err = p.w.Flush()
	}
	return err
}

func (p *parquetWriter) Close() error {
	if err := p.flush(); err != nil {
		return err
	}
	return p.w.Close()
}

// maxParquet is the largest Parquet file that is read: its index stands at its
// end, so all of it must be there.
const maxParquet = 512 << 20

type parquetReader struct {
	r    *parquet.GenericReader[parquetRow]
	rows []parquetRow
	n    int
	end  bool
}

// newParquetReader reads a file with the columns that are written here; those
// of values may each be missing. The library panics on some files that are
// none, which counts as not readable.
func newParquetReader(r io.Reader) (out Reader, err error) {
	defer recovered(&err)
	b, err := io.ReadAll(io.LimitReader(r, maxParquet+1))
	if err != nil {
		return nil, err
	}
	if len(b) > maxParquet {
		return nil, fmt.Errorf("the file has more than %d MB; write it in parts", maxParquet>>20)
	}
	if _, err := footerOf(b); err != nil {
		return nil, fmt.Errorf("this is no Parquet file: %w", err)
	}
	f, err := parquet.OpenFile(bytes.NewReader(b), int64(len(b)), parquet.SkipPageIndex(true),
		parquet.SkipBloomFilters(true))
	if err != nil {
		return nil, fmt.Errorf("this is no Parquet file: %w", err)
	}
	var chunks []chunk
	for _, g := range f.Metadata().RowGroups {
		for _, c := range g.Columns {
			from := c.MetaData.DataPageOffset
			if d := c.MetaData.DictionaryPageOffset; d > 0 && d < from {
				from = d
			}
			chunks = append(chunks, chunk{from, c.MetaData.TotalCompressedSize})
		}
	}
	if err := judgePages(b, chunks); err != nil {
		return nil, fmt.Errorf("this Parquet file cannot be read: %w", err)
	}
	for _, need := range []string{"device", "metric", "at"} {
		if _, ok := f.Schema().Lookup(need); !ok {
			return nil,
				fmt.Errorf("there is no column %s; the columns are device, metric, at, number, truth, text and, if wanted, unit", need)
		}
	}
	return &parquetReader{r: parquet.NewGenericReader[parquetRow](f)}, nil
}

func recovered(err *error) {
	if x := recover(); x != nil {
		*err = fmt.Errorf("this is no Parquet file that can be read: %v", x)
	}
}

func (p *parquetReader) Next() (x Row, err error) {
	defer recovered(&err)
	if len(p.rows) == 0 {
		if p.end {
			return Row{}, io.EOF
		}
		rows := make([]parquetRow, 1000)
		n, err := p.r.Read(rows)
		if err != nil && !errors.Is(err, io.EOF) {
			p.end = true
			return Row{}, fmt.Errorf("row %d: %s", p.n+1, err)
		}
		p.end = err != nil
		if p.rows = rows[:n]; n == 0 {
			return Row{}, io.EOF
		}
	}
	r := p.rows[0]
	p.rows = p.rows[1:]
	p.n++
	x = Row{Line: p.n, Device: r.Device, Name: r.Metric, At: r.At.UTC(), Unit: r.Unit}
	switch {
	case r.Number != nil:
		x.Value = value.OfNumber(*r.Number)
	case r.Truth != nil:
		x.Value = value.OfBool(*r.Truth)
	case r.Text != nil:
		x.Value = value.OfText(*r.Text)
	default:
		return x, &BadLine{p.n, "the row has no value"}
	}
	if x.Device == "" || x.Name == "" {
		return x, &BadLine{p.n, "the device or the metric is missing"}
	}
	x.Quality = value.QualityOf(strings.Split(r.Marks, "; "))
	if r.DeviceAt != nil {
		x.DeviceAt = value.FromMillis(*r.DeviceAt)
	}
	return x, nil
}
