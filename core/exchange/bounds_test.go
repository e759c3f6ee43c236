package exchange_test

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"math/rand/v2"
	"runtime"
	"strings"
	"testing"

	"ullage/core/exchange"
	"ullage/core/series"
	"ullage/core/value"
)

// taken reads all of a file and returns how many rows it gave, what went wrong
// at last, and how much memory was taken meanwhile, in all.
func taken(f exchange.Format, r io.Reader) (rows int, bytes uint64, err error) {
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	in, err := exchange.NewReader(r, f, zero)
	for err == nil {
		_, err = in.Next()
		var bad *exchange.BadLine
		if err == nil {
			rows++
		} else if errors.As(err, &bad) {
			err = nil
		}
	}
	runtime.ReadMemStats(&after)
	return rows, after.TotalAlloc - before.TotalAlloc, err
}

// parquetFile is a small file with some rows.
func parquetFile(t testing.TB) []byte {
	t.Helper()
	var b bytes.Buffer
	w, err := exchange.NewWriter(&b, exchange.Parquet)
	if err != nil {
		t.Fatal(err)
	}
	for i := range 300 {
		if err := w.Write("tank-1", "must_temp", "Cel", series.Point{At: value.FromMillis(int64(1e12 + i*60_000)), Value: value.OfNumber(float64(i))}); err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// endless gives the same bytes again and again, up to a length.
type endless struct {
	b    string
	left int
}

func (e *endless) Read(p []byte) (int, error) {
	if e.left <= 0 {
		return 0, io.EOF
	}
	n := copy(p, e.b[:min(len(e.b), e.left)])
	e.left -= n
	return n, nil
}

// What a file claims takes no memory: it is refused after some of it.
func TestClaimsTakeNoMemory(t *testing.T) {
	footer := func(b ...byte) io.Reader {
		all := append([]byte("PAR1"), bytes.Repeat([]byte{0}, 80)...)
		all = append(all, b...)
		return bytes.NewReader(append(binary.LittleEndian.AppendUint32(all, uint32(len(b))), "PAR1"...))
	}
	huge := binary.AppendUvarint(nil, 1<<31)
	const long = 300 << 20
	for _, c := range []struct {
		name string
		f    exchange.Format
		r    io.Reader
		says string
	}{
		{"a list of two thousand million", exchange.Parquet, footer(append([]byte{0x15, 2, 0x19, 0xfc}, huge...)...), "description"},
		{"a text of two thousand million", exchange.Parquet, footer(append([]byte{0x15, 2, 0x68}, huge...)...), "description"},
		{"structs within structs", exchange.Parquet, footer(bytes.Repeat([]byte{0x1c}, 60)...), "description"},
		{"an end that is longer than the file", exchange.Parquet, strings.NewReader("PAR1" + strings.Repeat("x", 60) + "\xff\xff\xff\x7fPAR1"), "longer"},
		{"a line of 300 MB", exchange.CSV, io.MultiReader(strings.NewReader("device,metric,at,value\na,"), &endless{strings.Repeat("x", 4096), long}), "more than 1 MB"},
		{"a quote that does not end", exchange.CSV, io.MultiReader(strings.NewReader("device,metric,at,value\na,\""), &endless{strings.Repeat("x\n", 2048), long}), "more than 1 MB"},
		{"a head of 300 MB", exchange.Wide, &endless{strings.Repeat("x,", 2048), long}, "column names"},
		{"a JSON line of 300 MB", exchange.Lines, &endless{strings.Repeat("[", 4096), long}, "too long"},
		{"a record of 300 MB", exchange.SenML, io.MultiReader(strings.NewReader(`[{"n":"`), &endless{strings.Repeat("x", 4096), long}), "more than 1 MB"},
		{"spaces without end", exchange.SenML, io.MultiReader(strings.NewReader(`[`), &endless{strings.Repeat(" ", 4096), long}), "breaks off"},
		{"a text of 2^40 bytes", exchange.CBOR, io.MultiReader(strings.NewReader("\x81\xa1\x00\x7b\x00\x00\x01\x00\x00\x00\x00\x00"), &endless{strings.Repeat("x", 4096), long}), "record 1"},
		{"a list of 2^60 records", exchange.CBOR, strings.NewReader("\x9b\x10\x00\x00\x00\x00\x00\x00\x00"), "breaks off"},
		{"a list that ends too soon", exchange.CBOR, strings.NewReader("\x82"), "breaks off"},
		{"a list without an end", exchange.CBOR, strings.NewReader("\x9f"), "breaks off"},
	} {
		rows, took, err := taken(c.f, c.r)
		if rows != 0 || err == nil || errors.Is(err, io.EOF) || !strings.Contains(err.Error(), c.says) || took > 100<<20 {
			t.Errorf("%s: %d rows, %v, %d MB taken; want none, that it says %q, and 100 MB at most", c.name, rows, err, took>>20, c.says)
		}
	}
}

// Whatever bytes of a Parquet file are turned, it takes no more memory than a few
// of its pages may.
func TestDamagedParquet(t *testing.T) {
	whole := parquetFile(t)
	if rows, _, err := taken(exchange.Parquet, bytes.NewReader(whole)); rows != 300 || !errors.Is(err, io.EOF) {
		t.Fatalf("as it was written it gives %d rows, %v; want 300", rows, err)
	}
	random := rand.New(rand.NewPCG(3, 1))
	for i := range 400 {
		b := bytes.Clone(whole)
		for range 1 + random.IntN(4) {
			b[random.IntN(len(b))] = byte(random.IntN(256))
		}
		if i%5 == 0 {
			b = b[:random.IntN(len(b))]
		}
		if _, took, _ := taken(exchange.Parquet, bytes.NewReader(b)); took > 512<<20 {
			t.Errorf("file %d takes %d MB", i, took>>20)
		}
	}
}

// FuzzParquet reads what is hardly a Parquet file.
func FuzzParquet(f *testing.F) {
	whole := parquetFile(f)
	f.Add(whole)
	f.Add(whole[:len(whole)/2])
	f.Fuzz(func(t *testing.T, b []byte) {
		if _, took, _ := taken(exchange.Parquet, bytes.NewReader(b)); took > 1<<30 {
			t.Fatalf("%d bytes take %d MB", len(b), took>>20)
		}
	})
}
