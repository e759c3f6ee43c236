// Package packed reads bytes that were packed with the varints of
// encoding/binary, and says once, at the end, whether they were all there.
package packed

import "encoding/binary"

// Reader takes values off the front of Rest. Bad is set, and stays, where a
// value is not there; what is read from then on is zero.
type Reader struct {
	Rest []byte
	Bad  bool
}

func (r *Reader) fail() { r.Bad, r.Rest = true, nil }

// Bytes takes n bytes, which belong to the packed ones.
func (r *Reader) Bytes(n uint64) []byte {
	if n > uint64(len(r.Rest)) {
		r.fail()
		return nil
	}
	b := r.Rest[:n]
	r.Rest = r.Rest[n:]
	return b
}

// Byte takes one byte.
func (r *Reader) Byte() byte {
	if len(r.Rest) == 0 {
		r.fail()
		return 0
	}
	b := r.Rest[0]
	r.Rest = r.Rest[1:]
	return b
}

// Uint64 takes eight bytes, little endian.
func (r *Reader) Uint64() uint64 {
	if b := r.Bytes(8); b != nil {
		return binary.LittleEndian.Uint64(b)
	}
	return 0
}

// Uvarint takes an unsigned varint.
func (r *Reader) Uvarint() uint64 {
	x, n := binary.Uvarint(r.Rest)
	if n <= 0 {
		r.fail()
		return 0
	}
	r.Rest = r.Rest[n:]
	return x
}

// Varint takes a signed (zigzag) varint.
func (r *Reader) Varint() int64 {
	x, n := binary.Varint(r.Rest)
	if n <= 0 {
		r.fail()
		return 0
	}
	r.Rest = r.Rest[n:]
	return x
}

// Text takes a text behind its length.
func (r *Reader) Text() string { return string(r.Bytes(r.Uvarint())) }
