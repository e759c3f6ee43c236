package series

import (
	"encoding/binary"
	"hash/crc32"
	"slices"

	"ullage/core/packed"
)

// Riced returns numbers after they were written and read with k lower bits, and
// how many bytes that took; behind them stands another byte, which must be left.
func Riced(xs []int64, k int) (out []int64, size int, whole bool) {
	b := appendRice(nil, xs, k)
	r := packed.Reader{Rest: append(b, 0xff)}
	out = readRice(&r, nil, len(xs), k)
	return out, len(b), !r.Bad && len(r.Rest) == 1 && r.Rest[0] == 0xff
}

// RiceBits is riceBits.
func RiceBits(xs []int64) (k, length int) { return riceBits(xs) }

// Sealed gives a made-up chunk the checksum that it would have.
func Sealed(chunk []byte) []byte {
	if len(chunk) < 6 {
		return chunk
	}
	c := slices.Clone(chunk)
	c[0] = chunkVersion | c[0]&chunkCompressed
	binary.LittleEndian.PutUint32(c[1:], crc32.Checksum(c[5:], castagnoli))
	return c
}
