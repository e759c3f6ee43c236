package exchange_test

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"math"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"ullage/core/exchange"
	"ullage/core/series"
	"ullage/core/value"
)

var zero = time.Date(2026, 3, 9, 12, 0, 0, 0, time.UTC)

// TestThereAndBack writes values of every kind in every format and reads the
// same back.
func TestThereAndBack(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	type one struct {
		device, metric, unit string
		x                    series.Point
	}
	var in []one
	values := []value.Value{value.OfNumber(21.4), value.OfNumber(-1e-9), value.OfNumber(math.MaxFloat64),
		value.OfNumber(0), value.OfBool(true), value.OfBool(false), value.OfText("filling"), value.OfText("Grüße, „Fass 7“"),
		value.OfText("=HYPERLINK(\"x\")"), value.OfText("'=1"), value.OfText("''"), value.OfText("@x"), value.OfText("-x"), value.OfText("\tx"), value.OfNumber(9007199254740991)}
	for i := range 400 {
		in = append(in, one{fmt.Sprintf("tank-kilnside-%02d", i/150), []string{"must_temp", "note"}[i/70%2],
			[]string{"Cel", ""}[i/70%2], series.Point{At: zero.Add(time.Duration(rng.IntN(1e9)) * time.Millisecond),
				Value: values[rng.IntN(len(values))]}})
		if i%7 == 0 {
			in[i].x.Quality = value.Quality(rng.IntN(8))
		}
		if x := &in[i].x; x.Quality&value.ClockAhead != 0 {
			x.DeviceAt = x.At.Add(time.Duration(rng.IntN(1e9)) * time.Millisecond)
		}
	}
	for _, f := range exchange.Formats {
		if f == exchange.Wide { // it orders by time; see below
			continue
		}
		var b bytes.Buffer
		w, err := exchange.NewWriter(&b, f)
		if err != nil {
			t.Fatal(err)
		}
		for _, o := range in {
			if err := w.Write(o.device, o.metric, o.unit, o.x); err != nil {
				t.Fatal(err)
			}
		}
		if err := w.Close(); err != nil {
			t.Fatal(err)
		}
		r, err := exchange.NewReader(&b, f, zero)
		if err != nil {
			t.Fatal(err)
		}
		for i, o := range in {
			x, err := r.Next()
			if err != nil || x.Device != o.device || x.Name != o.metric || x.Unit != o.unit || !x.At.Equal(o.x.At) ||
				x.Value != o.x.Value {
				t.Fatalf("%s: reading %d is %+v, want %+v, %v", f, i, x, o, err)
			}
			// A pack of SenML has no place for what is known against a reading.
			if f != exchange.SenML && f != exchange.CBOR &&
				(x.Quality != o.x.Quality || !x.DeviceAt.Equal(o.x.DeviceAt)) {
				t.Fatalf("%s: reading %d is marked %+v, want %+v", f, i, x, o)
			}
		}
		if _, err := r.Next(); err != io.EOF {
			t.Errorf("%s: after the last comes %v", f, err)
		}
	}
}

// TestWide writes a row a device and time.
func TestWide(t *testing.T) {
	var b bytes.Buffer
	w, err := exchange.NewWriter(&b, exchange.Wide)
	if err != nil {
		t.Fatal(err)
	}
	at := func(m int) time.Time { return zero.Add(time.Duration(m) * time.Minute) }
	for _, o := range []struct {
		device, metric, unit string
		minute               int
		v                    value.Value
	}{
		{"a", "must_temp", "Cel", 1, value.OfNumber(21.4)}, {"a", "must_temp", "Cel", 2, value.OfNumber(21.5)}, {"a", "note", "", 2, value.OfText("x, y")},
		{"b", "must_temp", "Cel", 0, value.OfNumber(3)}, {"b", "note", "", 1, value.OfBool(true)},
	} {
		if err := w.Write(o.device, o.metric, o.unit, series.Point{At: at(o.minute), Value: o.v}); err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	want := "device,at,must_temp [Cel],note\na,2026-03-09T12:01:00.000Z,21.4,\na,2026-03-09T12:02:00.000Z,21.5,\"x, y\"\nb,2026-03-09T12:00:00.000Z,3,\nb,2026-03-09T12:01:00.000Z,,true\n"
	if b.String() != want {
		t.Errorf("it is\n%s", b.String())
	}
	r, err := exchange.NewReader(&b, exchange.Wide, zero)
	if err != nil {
		t.Fatal(err)
	}
	got := ""
	for {
		x, err := r.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			t.Fatal(err)
		}
		got += fmt.Sprintf("%s %s %s %s %s|", x.Device, x.Name, x.Unit, x.At.Format("15:04"), x.Value)
	}
	if got != "a must_temp Cel 12:01 21.4|a must_temp Cel 12:02 21.5|a note  12:02 x, y|b must_temp Cel 12:00 3|b note  12:01 true|" {
		t.Errorf("it reads back as %s", got)
	}
	w, _ = exchange.NewWriter(&b, exchange.Wide, "x", "z [V]")
	w.Write("a", "x", "", series.Point{At: zero, Value: value.OfNumber(1)})
	w.Write("b", "z", "V", series.Point{At: zero, Value: value.OfNumber(2)})
	if err := w.Close(); err != nil || b.String() != "device,at,x,z [V]\na,2026-03-09T12:00:00.000Z,1,\nb,2026-03-09T12:00:00.000Z,,2\n" {
		t.Errorf("with columns that were announced it is\n%s%v", b.String(), err)
	}
	w, _ = exchange.NewWriter(&b, exchange.Wide)
	w.Write("a", "x", "", series.Point{At: zero, Value: value.OfNumber(1)})
	w.Write("b", "x", "", series.Point{At: zero, Value: value.OfNumber(1)})
	if err := w.Write("b", "y", "", series.Point{At: zero, Value: value.OfNumber(1)}); err == nil {
		t.Error("a metric without a column was taken")
	}
}

func TestBadLines(t *testing.T) {
	for _, c := range []struct {
		f          exchange.Format
		text       string
		rows, bads int
		fails      string
	}{
		{exchange.CSV, "device,metric,at,value\na,x,2026-03-09T12:00:00Z,1\na,x,yesterday,1\n,x,2026-03-09T12:00:00Z,1\na,x,2026-03-09T12:00:00+01:00,2\n", 2, 2, ""},
		{exchange.CSV, "\ufeffvalue;unit\n", 0, 0, "no column device"},
		{exchange.CSV, "", 0, 0, "no CSV"},
		{exchange.CSV, "device,metric,at,value\na,x,2026-03-09T12:00:00Z,\"1\nb", 0, 1, ""},
		{exchange.Lines, `{"device":"a","metric":"x","at":"2026-03-09T12:00:00Z","value":1}` + "\n\n{\n" + `{"device":"a","metric":"x","at":"2026-03-09T12:00:00Z","value":[1]}`, 1, 2, ""},
		{exchange.Lines, `{"device":"a","metric":"x","at":"2026-03-09T12:00:00Z"}` + "\n" + `{"device":"a","metric":"x","at":"2026-03-09T12:00:00Z","value":null}` + "\n" +
			`{"device":"a","metric":"x","at":"2026-03-09T12:00:00Z","value":1,"quality":["odd",7]}` + "\n" + `{"device":"a","metric":"x","at":"2026-03-09T12:00:00Z","value":1,"quality":"GOOD","device_at":12}`, 2, 2, ""},
		{exchange.CSV, "device,metric,at,value,quality,device_at\na,x,2026-03-09T12:00:00Z,1,GOOD,noon\n", 1, 0, ""},
		{exchange.SenML, `[{"bn":"a/","n":"x","t":1773057600,"v":1},{"n":"x","v":1},{"n":"y","t":1773057600,"vd":"AA"}]`, 1, 2, ""},
		{exchange.SenML, `{}`, 0, 0, "does not begin with a list"},
		{exchange.SenML, `[{"bn":"a/","n":"x","t":1773057600,"v":1},`, 1, 0, "no JSON"},
		{"xml", ``, 0, 0, "no format"},
	} {
		rows, bads := 0, 0
		r, err := exchange.NewReader(strings.NewReader(c.text), c.f, zero)
		for err == nil {
			_, err = r.Next()
			var bad *exchange.BadLine
			switch {
			case err == nil:
				rows++
			case errors.As(err, &bad):
				bads, err = bads+1, nil
			}
		}
		if errors.Is(err, io.EOF) {
			err = nil
		}
		if rows != c.rows || bads != c.bads || (err == nil) != (c.fails == "") ||
			err != nil && !strings.Contains(err.Error(), c.fails) {
			t.Errorf("%s %q: %d rows, %d bad, %v", c.f, c.text, rows, bads, err)
		}
	}
}

func FuzzRead(f *testing.F) {
	for _, s := range []string{"device,metric,at,value\na,x,2026-03-09T12:00:00Z,1\n",
		`{"device":"a","metric":"x","at":"2026-03-09T12:00:00Z","value":1}`, `[{"bn":"a/","n":"x","t":1773057600,"v":1}]`} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		for _, format := range exchange.Formats {
			r, err := exchange.NewReader(strings.NewReader(s), format, zero)
			for n := 0; err == nil; n++ {
				var x exchange.Row
				x, err = r.Next()
				var bad *exchange.BadLine
				if err == nil && (x.Device == "" || x.Name == "" || x.At.IsZero() && format != exchange.CSV &&
					format != exchange.Lines && format != exchange.Wide) {
					t.Fatalf("%s: %+v", format, x)
				}
				if errors.As(err, &bad) {
					err = nil
				}
				if n > len(s)+2 {
					t.Fatalf("%s gives more rows than it has bytes", format)
				}
			}
		}
	})
}

// What spreadsheets and loggers write is read as it was meant, or the reason says what is
// in the way.
func TestForeignTables(t *testing.T) {
	const at = "2025-03-01T10:00:00Z"
	for name, c := range map[string]struct {
		file string
		want string // the readings, or the end of the error
	}{
		"commas":                 {"device,metric,at,value\nd,must_temp," + at + ",21.4\n", "d must_temp 21.4"},
		"a mark and CRLF":        {"\ufeffdevice,metric,at,value\r\nd,must_temp," + at + ",21.4\r\n", "d must_temp 21.4"},
		"semicolons":             {"device;metric;at;value\nd;must_temp;" + at + ";21,4\n", "d must_temp 21.4"},
		"a text with a comma":    {"device;metric;at;value\nd;cycle;" + at + ";filling, 2\n", "d cycle filling, 2"},
		"no decimal comma here":  {"device,metric,at,value\nd,cycle," + at + ",\"21,4\"\n", "d cycle 21,4"},
		"tabs":                   {"device\tmetric\tat\tvalue\nd\tmust_temp\t" + at + "\t21.4\n", "d must_temp 21.4"},
		"milliseconds":           {"device,metric,at,value\nd,must_temp,1740823200000,21.4\n", "d must_temp 21.4"},
		"a column for each":      {"device,at,must_temp,density\nd," + at + ",21.4,1050\n", "d must_temp 21.4; d density 1050"},
		"for each, semicolons":   {"at;device;must_temp\n" + at + " ; d;21,4\n", "d must_temp 21.4"},
		"seconds":                {"device,metric,at,value\nd,must_temp,1740823200,21.4\n", "write milliseconds, as in 1740823200000, or a time like 2026-03-01T10:00:00Z"},
		"no zone":                {"device,metric,at,value\nd,must_temp,2025-03-01 10:00:00,21.4\n", "has no zone; write it like 2025-03-01T10:00:00Z, or with an offset such as +01:00"},
		"no time":                {"device,metric,at,value\nd,must_temp,,21.4\n", "the time is missing"},
		"a day":                  {"device,metric,at,value\nd,must_temp,1 March,21.4\n", `"1 March" is no time; write it like 2026-03-01T10:00:00Z`},
		"other names":            {"Device,Metric,Time,Value\n", `there is no column at; the first line must name device, metric, at and value (and may name unit), or device, at and one column for each metric; it names "Device", "Metric", "Time", "Value"`},
		"no device":              {"at,must_temp\n", `it names "at", "must_temp"`},
		"many columns":           {"a,b,c,d,e,f,g,h,i,j\n", `"g", "h" and 2 more`},
		"UTF-16":                 {"\xff\xfed\x00e\x00", "it is written in UTF-16; save it as UTF-8"},
		"another 8-bit code":     {"device;at;gr\xf6\xdfe\n", "it is not written in UTF-8; save it so"},
		"a spreadsheet's format": {"PK\x03\x04\x14\x00", "a spreadsheet must be saved as CSV first"},
		"nothing":                {"", "this is no CSV with a row of column names"},
	} {
		r, err := exchange.NewReader(strings.NewReader(c.file), exchange.CSV, zero)
		var got []string
		for err == nil {
			var x exchange.Row
			if x, err = r.Next(); err == nil {
				if !x.At.Equal(time.Date(2025, 3, 1, 10, 0, 0, 0, time.UTC)) {
					t.Errorf("%s: the time is %s", name, x.At)
				}
				got = append(got, fmt.Sprintf("%s %s %s", x.Device, x.Name, x.Value))
			}
		}
		if all := strings.Join(got, "; "); err == io.EOF && all != c.want || err != io.EOF && !strings.HasSuffix(err.Error(), c.want) {
			t.Errorf("%s gives %q, %v; want %q", name, all, err, c.want)
		}
	}
}

func TestTimesOfJSONLines(t *testing.T) {
	for at, want := range map[string]string{
		`"2025-03-01T10:00:00Z"`:           "",
		`"2025-03-01T11:00:00\u002B01:00"`: "", // as some libraries write a plus
		`1740823200000`:                    "",
		`1740823200`:                       "looks like seconds",
		`1740823200000.5`:                  "is no time",
		`null`:                             "the time is missing",
		`true`:                             `"true" is no time`,
		`{}`:                               "is no time",
	} {
		r, err := exchange.NewReader(strings.NewReader(`{"device":"d","metric":"m","value":1,"at":`+at+"}\n"), exchange.Lines, zero)
		if err != nil {
			t.Fatal(err)
		}
		x, err := r.Next()
		if (err == nil) != (want == "") || err != nil && !strings.Contains(err.Error(), want) ||
			err == nil && !x.At.Equal(time.Date(2025, 3, 1, 10, 0, 0, 0, time.UTC)) {
			t.Errorf("%s is %s, %v; want %q", at, x.At, err, want)
		}
	}
}
