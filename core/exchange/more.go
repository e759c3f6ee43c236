package exchange

import (
	"bufio"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"
	"strings"
	"time"

	"github.com/fxamacker/cbor/v2"

	"ullage/core/senml"
	"ullage/core/series"
	"ullage/core/value"
)

// wideWriter gathers the readings of one device, whose metrics come one after
// the other, and writes them by time. The header names the columns that were
// announced and those of the first device, with their units in brackets; those
// of later ones must be among them.
type wideWriter struct {
	w       *csv.Writer
	device  string
	metrics []string
	begun   bool // the header is written
	rows    map[int64][]value.Value
	raw     bool
}

// maxWide is how many rows of one device are gathered.
const maxWide = 5_000_000

func (w *wideWriter) Write(device, metric, unit string, x series.Point) error {
	if device != w.device {
		if err := w.flush(); err != nil {
			return err
		}
		w.device = device
	}
	metric = Column(metric, unit)
	i := slices.Index(w.metrics, metric)
	if i < 0 {
		if w.begun {
			return fmt.Errorf("%s of %s has no column, since the device before it has no %s; ask for devices of one model, or for csv", metric, device, metric)
		}
		i = len(w.metrics)
		w.metrics = append(w.metrics, metric)
	}
	at := x.At.UnixMilli()
	row := w.rows[at]
	for len(row) <= i {
		row = append(row, value.Value{})
	}
	row[i] = x.Value
	w.rows[at] = row
	if len(w.rows) > maxWide {
		return fmt.Errorf("%s has more than %d rows; ask for a shorter span, or for csv", device, maxWide)
	}
	return nil
}

// Column names a column of Wide.
func Column(metric, unit string) string {
	if unit == "" {
		return metric
	}
	return metric + " [" + unit + "]"
}

func (w *wideWriter) flush() error {
	if len(w.rows) == 0 {
		return nil
	}
	if !w.begun {
		w.begun = true
		if err := w.w.Write(append([]string{"device", "at"}, w.metrics...)); err != nil {
			return err
		}
	}
	times := make([]int64, 0, len(w.rows))
	for at := range w.rows {
		times = append(times, at)
	}
	slices.Sort(times)
	cells := make([]string, 2+len(w.metrics))
	for _, at := range times {
		clear(cells)
		cells[0], cells[1] = w.device, value.FromMillis(at).Format(stamp)
		for i, v := range w.rows[at] {
			if v.Known() {
				cells[2+i] = cellOf(v, w.raw)
			}
		}
		if err := w.w.Write(cells); err != nil {
			return err
		}
	}
	clear(w.rows)
	return nil
}

func (w *wideWriter) Close() error {
	if err := w.flush(); err != nil {
		return err
	}
	w.w.Flush()
	return w.w.Error()
}

// wideReader reads CSV with a row a device and time.
type wideReader struct {
	r       *csv.Reader
	metrics []string // by column; empty for device and at
	device  int
	at      int
	left    []Row
}

func newWide(c *csv.Reader, head []string) (Reader, error) {
	w := &wideReader{r: c, metrics: head, device: -1, at: -1}
	for i, name := range head {
		switch strings.ToLower(name) {
		case "device":
			w.device, head[i] = i, ""
		case "at":
			w.at, head[i] = i, ""
		}
	}
	switch {
	case w.device < 0:
		return nil, missing("device", head)
	case w.at < 0:
		return nil, missing("at", head)
	}
	return w, nil
}

func (w *wideReader) Next() (Row, error) {
	for len(w.left) == 0 {
		rec, line, err := nextCSV(w.r)
		if err != nil {
			return Row{}, err
		}
		if len(rec) <= max(w.device, w.at) {
			return Row{}, &BadLine{line, "the device or the time is missing"}
		}
		for i, cell := range rec {
			if i >= len(w.metrics) || w.metrics[i] == "" || cell == "" {
				continue
			}
			name, unit, _ := strings.Cut(strings.TrimSuffix(w.metrics[i], "]"), " [")
			cell = unguard(cell)
			x, err := Row{Line: line, Device: strings.TrimSpace(rec[w.device]), Name: name, Unit: unit, Value: readCell(cell, w.r.Comma),
				Written: cell}.timed(strings.TrimSpace(rec[w.at]))
			if err != nil {
				return Row{}, err
			}
			w.left = append(w.left, x)
		}
	}
	x := w.left[0]
	w.left = w.left[1:]
	return x, nil
}

// cborWriter writes a SenML pack in CBOR (RFC 8428, section 6).
type cborWriter struct {
	w      *bufio.Writer
	device string
}

type cborRecord struct {
	Base  string   `cbor:"-2,keyasint,omitempty"`
	Name  string   `cbor:"0,keyasint"`
	Unit  string   `cbor:"1,keyasint,omitempty"`
	Value *float64 `cbor:"2,keyasint,omitempty"`
	Text  *string  `cbor:"3,keyasint,omitempty"`
	Truth *bool    `cbor:"4,keyasint,omitempty"`
	Time  float64  `cbor:"6,keyasint"`
}

// shortest writes each float in the fewest bytes that hold it.
var shortest = func() cbor.EncMode {
	m, err := cbor.EncOptions{ShortestFloat: cbor.ShortestFloat16}.EncMode()
	if err != nil {
		panic(err) // the options are constants
	}
	return m
}()

func (c *cborWriter) Write(device, metric, unit string, x series.Point) error {
	r := cborRecord{Name: metric, Unit: unit, Time: float64(x.At.UnixMilli()) / 1000}
	if device != c.device {
		r.Base, c.device = device+"/", device
	}
	r.Value, r.Text, r.Truth = x.Value.Split()
	b, err := shortest.Marshal(r)
	if err == nil {
		_, err = c.w.Write(b)
	}
	return err
}

func (c *cborWriter) Close() error {
	c.w.WriteByte(0xff)
	return c.w.Flush()
}

// cborReader reads a pack record by record.
type cborReader struct {
	d   *cbor.Decoder
	w   *window
	r   senml.Resolver
	now time.Time
	n   int
	of  uint64 // how many records there are; open where the head does not say
}

// open is the length of a list that ends with a break.
const open = math.MaxUint64

// newCBORReader reads the head of the list itself, so that a pack of any
// length is read as it comes.
func newCBORReader(r io.Reader, now time.Time) (Reader, error) {
	w := &window{r: r, left: maxRecord}
	b := bufio.NewReader(w)
	head, err := b.ReadByte()
	if err != nil || head>>5 != 4 {
		return nil, errors.New("this is no SenML pack in CBOR: it does not begin with a list")
	}
	of := uint64(head & 31)
	switch {
	case head == 0x9f:
		of = open
	case of >= 24 && of <= 27:
		of = 0
		for range 1 << (head&31 - 24) {
			x, err := b.ReadByte()
			if err != nil {
				return nil, errors.New("this is no SenML pack in CBOR: it breaks off")
			}
			of = of<<8 | uint64(x)
		}
	case of >= 24:
		return nil, errors.New("this is no SenML pack in CBOR: its length cannot be read")
	}
	return &cborReader{d: cbor.NewDecoder(b), w: w, now: now, of: of}, nil
}

func (c *cborReader) Next() (Row, error) {
	for {
		if uint64(c.n) == c.of {
			return Row{}, io.EOF
		}
		c.n++
		c.w.open()
		var raw cbor.RawMessage
		if err := c.d.Decode(&raw); err != nil {
			if c.of == open && strings.Contains(err.Error(), "break") {
				return Row{}, io.EOF
			}
			if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
				return Row{}, fmt.Errorf("the pack breaks off after record %d", c.n-1)
			}
			return Row{}, fmt.Errorf("record %d: this is no CBOR: %s", c.n, err)
		}
		rec, keep, err := c.r.CBOR(raw, c.now)
		if err != nil {
			return Row{}, &BadLine{c.n, err.Error()}
		}
		if keep {
			return rowOf(rec, c.n)
		}
	}
}
