package store

import (
	"encoding/binary"
	"math"

	"ullage/core/packed"
	"ullage/core/series"
	"ullage/core/value"
)

// cells are readings packed one behind the other, most of them in five bytes. A million of them
// may wait to be sealed, of very many series with a few each, and they are read only when that
// is done, or somebody asks for the last minutes. Each is
//
//	head       one byte: what the value is, and which of the others there are
//	quality    one byte, if it has a mark
//	time       varint, ms from where it is expected: an interval behind the one before
//	deviceAt   varint, ms from the time, if it has one
//	value      varint of n, where the value is n/10^d; or its eight bytes; or a text with its length
type cells []byte

// The value in a head. Up to maxPlaces it is a number of so many decimals.
const (
	maxPlaces   = 6
	headFloat   = 7
	headFalse   = 8
	headTrue    = 9
	headText    = 10
	headNone    = 11
	headValue   = 0x0f
	headMarked  = 0x10
	headOwnTime = 0x20
)

// most is above what a varint says in no more bytes than a float.
const most = 1 << 48

// firstBytes is what a series begins with: nearly all have more readings before they are sealed.
const firstBytes = 24

// decimals returns n and a d up to maxPlaces with v = n/10^d exactly, usual if that will do; it
// reports false where there is none. Of what are usually floats, only a whole number is looked
// at: to look for the decimals of each costs more than it saves.
func decimals(v float64, usual byte) (n int64, d byte, ok bool) {
	if usual == headFloat {
		if math.Trunc(v) != v {
			return 0, 0, false
		}
		usual = 0
	}
	n, places, ok := series.Scaled(v, int(usual))
	if !ok || places > maxPlaces || n >= most || n <= -most {
		return 0, 0, false
	}
	return n, byte(places), true
}

// pack appends a reading that was expected at a time; usual is the head of the number before it.
func (c cells) pack(x *series.Sample, expected int64, usual byte) cells {
	var head byte
	var n int64
	switch x.Value.Kind {
	case value.Number:
		var ok bool
		if n, head, ok = decimals(x.Value.Num, usual); !ok {
			head = headFloat
		}
	case value.Bool:
		if head = headFalse; x.Value.Num != 0 {
			head = headTrue
		}
	case value.Text:
		head = headText
	default:
		head = headNone
	}
	of := head
	if x.Quality != 0 {
		head |= headMarked
	}
	if x.DeviceAt != 0 {
		head |= headOwnTime
	}
	c = append(c, head)
	if x.Quality != 0 {
		c = append(c, byte(x.Quality))
	}
	c = binary.AppendVarint(c, x.At-expected)
	if x.DeviceAt != 0 {
		c = binary.AppendVarint(c, x.DeviceAt-x.At)
	}
	switch {
	case of <= maxPlaces:
		c = binary.AppendVarint(c, n)
	case of == headFloat:
		c = binary.LittleEndian.AppendUint64(c, math.Float64bits(x.Value.Num))
	case of == headText:
		c = append(binary.AppendUvarint(c, uint64(len(x.Value.Text))), x.Value.Text...)
	}
	return c
}

// unpackCell takes the first reading off; x.At is when it was expected.
func unpackCell(r *packed.Reader, x *series.Sample) {
	head := r.Byte()
	x.Quality, x.DeviceAt = 0, 0
	if head&headMarked != 0 {
		x.Quality = value.Quality(r.Byte())
	}
	x.At += r.Varint()
	if head&headOwnTime != 0 {
		x.DeviceAt = x.At + r.Varint()
	}
	switch of := head & headValue; {
	case of <= maxPlaces:
		x.Value = value.OfNumber(series.Unscaled(r.Varint(), int(of)))
	case of == headFloat:
		x.Value = value.OfNumber(math.Float64frombits(r.Uint64()))
	case of == headText:
		x.Value = value.OfText(r.Text())
	case of == headNone:
		x.Value = value.Value{}
	default:
		x.Value = value.OfBool(of == headTrue)
	}
}
