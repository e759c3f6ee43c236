package series

import (
	"encoding/binary"
	"hash/crc32"
	"slices"
)

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
