package exchange

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
)

// maxRecord is the longest line, or record of a pack, in bytes.
const maxRecord = 1 << 20

// window is a reader that gives so many bytes until it is opened again: the
// decoders of packs read on until a record is whole, however long it is.
type window struct {
	r    io.Reader
	left int
}

var errLongRecord = fmt.Errorf("the record has more than %d MB", maxRecord>>20)

func (w *window) open() { w.left = maxRecord }

func (w *window) Read(b []byte) (int, error) {
	if w.left <= 0 {
		return 0, errLongRecord
	}
	n, err := w.r.Read(b[:min(len(b), w.left)])
	w.left -= n
	return n, err
}

// lines is a reader of CSV that fails where a record, which may have lines within
// quotes, gets too long.
type lines struct {
	r      io.Reader
	length int
	quoted bool
}

func (l *lines) Read(b []byte) (int, error) {
	n, err := l.r.Read(b[:min(len(b), 64<<10)])
	for _, c := range b[:n] {
		switch {
		case c == '"':
			l.quoted = !l.quoted
		case c == '\n' && !l.quoted:
			l.length = 0
		}
		if l.length++; l.length > maxRecord {
			return 0, errLongRecord
		}
	}
	return n, err
}

// What a Parquet file may claim. The library takes memory for what the file
// says, so it is judged before.
const (
	maxFooter = 8 << 20
	maxItems  = 100_000  // of one list of the footer
	maxPage   = 64 << 20 // bytes of one page, unpacked
	maxValues = 16 << 20 // values of one page
	maxNested = 16
)

var errThrift = errors.New("its description of itself cannot be read")

// footerOf returns the description that ends a Parquet file, judged: no list and
// no text of it is longer than there are bytes.
func footerOf(b []byte) ([]byte, error) {
	if len(b) < 12 || string(b[:4]) != "PAR1" || string(b[len(b)-4:]) != "PAR1" {
		return nil, errors.New("it does not begin and end as one")
	}
	n := int64(binary.LittleEndian.Uint32(b[len(b)-8:]))
	if n > maxFooter || n > int64(len(b)-12) {
		return nil, errors.New("its end says that it is longer than it is")
	}
	footer := b[int64(len(b)-8)-n : len(b)-8]
	t := thrift{rest: footer}
	t.structure(0, nil)
	if t.bad {
		return nil, errThrift
	}
	return footer, nil
}

// page judges the head of a page and returns where the next one begins.
func page(b []byte) (next int, err error) {
	var kind, unpacked, packed, values int64
	t := thrift{rest: b}
	t.structure(0, func(path [2]int16, v int64) {
		switch path {
		case [2]int16{1, 0}:
			kind = v
		case [2]int16{2, 0}:
			unpacked = v
		case [2]int16{3, 0}:
			packed = v
		case [2]int16{5, 1}, [2]int16{7, 1}, [2]int16{8, 1}: // data, dictionary, data of version 2
			values = max(values, v)
		}
	})
	head := len(b) - len(t.rest)
	switch {
	case t.bad || kind < 0 || unpacked < 0 || packed < 0 || values < 0:
		return 0, errThrift
	case packed > int64(len(t.rest)):
		return 0, errors.New("a page is longer than the file")
	case unpacked > maxPage || values > maxValues:
		return 0, fmt.Errorf("a page claims %d bytes and %d values; at most %d and %d are read", unpacked, values,
			maxPage, maxValues)
	}
	return head + int(packed), nil
}

// thrift reads the compact protocol of Apache Thrift far enough to judge it.
type thrift struct {
	rest []byte
	bad  bool
}

func (t *thrift) byte() byte {
	if len(t.rest) == 0 {
		t.bad = true
		return 0
	}
	b := t.rest[0]
	t.rest = t.rest[1:]
	return b
}

func (t *thrift) uvarint() uint64 {
	v, n := binary.Uvarint(t.rest)
	if n <= 0 {
		t.bad, t.rest = true, nil
		return 0
	}
	t.rest = t.rest[n:]
	return v
}

func (t *thrift) zigzag() int64 {
	u := t.uvarint()
	return int64(u>>1) ^ -int64(u&1)
}

func (t *thrift) skip(n uint64) {
	if n > uint64(len(t.rest)) {
		t.bad, t.rest = true, nil
		return
	}
	t.rest = t.rest[n:]
}

// structure reads a struct; told hears the whole numbers of its fields and of
// those of structs in it, by their numbers.
func (t *thrift) structure(depth int, told func(path [2]int16, v int64)) {
	t.fields(depth, func(id int16, kind byte) {
		inner := func(path [2]int16, v int64) {
			if told != nil {
				told([2]int16{id, path[0]}, v)
			}
		}
		t.value(depth+1, kind, id, told, inner)
	})
}

func (t *thrift) fields(depth int, each func(id int16, kind byte)) {
	if depth > maxNested {
		t.bad = true
	}
	id := int16(0)
	for !t.bad {
		head := t.byte()
		kind := head & 15
		if kind == 0 {
			return
		}
		if delta := int16(head >> 4); delta != 0 {
			id += delta
		} else {
			id = int16(t.zigzag())
		}
		each(id, kind)
	}
}

func (t *thrift) value(depth int, kind byte, id int16, told, inner func(path [2]int16, v int64)) {
	switch kind {
	case 1, 2: // true, false
	case 3:
		t.skip(1)
	case 4, 5, 6:
		if v := t.zigzag(); told != nil {
			told([2]int16{id, 0}, v)
		}
	case 7:
		t.skip(8)
	case 8:
		t.skip(t.uvarint())
	case 9, 10: // list, set
		head := t.byte()
		n := uint64(head >> 4)
		if n == 15 {
			n = t.uvarint()
		}
		if n > uint64(len(t.rest)) || n > maxItems {
			t.bad = true
			return
		}
		for range n {
			if t.bad {
				return
			}
			if of := head & 15; of <= 2 {
				t.skip(1)
			} else {
				t.value(depth+1, of, 0, nil, nil)
			}
		}
	case 12:
		t.fields(depth, func(id int16, kind byte) { t.value(depth+1, kind, id, inner, nil) })
	default: // maps and what is none: Parquet has none of them
		t.bad = true
	}
	if depth > maxNested {
		t.bad = true
	}
}

// chunk is where the pages of a column stand in a file.
type chunk struct{ from, size int64 }

// judgePages looks at the head of each page of the chunks.
func judgePages(b []byte, chunks []chunk) error {
	for _, c := range chunks {
		if c.from < 4 || c.size < 0 || c.from > int64(len(b)) || c.size > int64(len(b))-c.from {
			return errors.New("a column stands beyond the end of the file")
		}
		rest := b[c.from : c.from+c.size]
		for len(rest) > 0 {
			n, err := page(rest)
			if err != nil {
				return err
			}
			rest = rest[n:]
		}
	}
	return nil
}

// Guard puts a quote before a cell of CSV that a spreadsheet would take for a
// formula: one that begins with =, +, - or @, or with a tab, and is no number.
// Reading takes it off again.
func Guard(cell string) string {
	if guarded(cell) {
		return "'" + cell
	}
	return cell
}

// unguard takes the quote of Guard off.
func unguard(cell string) string {
	if rest, ok := strings.CutPrefix(cell, "'"); ok && guarded(rest) {
		return rest
	}
	return cell
}

func guarded(cell string) bool {
	inner := strings.TrimLeft(cell, "'")
	if inner == "" || !strings.ContainsRune("=+-@\t\r", rune(inner[0])) {
		return false
	}
	if _, err := strconv.ParseFloat(cell, 64); err == nil {
		return false
	}
	return true
}
