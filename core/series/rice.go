package series

import (
	"encoding/binary"
	"math/bits"

	"ullage/core/packed"
)

// Rice codes (R. F. Rice, Some Practical Universal Noiseless Coding Techniques,
// JPL Publication 79-22, 1979) write a number without sign as its upper bits, in
// unary, and its lower bits as they are. Differences that are mostly noise, as
// those of fifteen-digit readings, come out within a fraction of a bit of the
// shortest, where a varint spends whole bytes.

const (
	// riceEscape is how many ones in a row say that a number follows as it is.
	riceEscape = 24
	// riceFrom is how many bytes varints take on average from which Rice codes are
	// tried: shorter ones repeat each other, which Huffman codes are better at.
	riceFrom = 2
)

func zigzag(x int64) uint64   { return uint64(x<<1 ^ x>>63) }
func unzigzag(u uint64) int64 { return int64(u>>1) ^ -int64(u&1) }

// riceBits returns how many lower bits give about the shortest code, and its
// length in bits.
func riceBits(xs []int64) (k, length int) {
	var of [65]int // how many numbers have so many bits
	shortest, longest := 64, 0
	for _, x := range xs {
		l := bits.Len64(zigzag(x))
		of[l]++
		shortest, longest = min(shortest, l), max(longest, l)
	}
	length = -1
	for try := range min(longest+1, 64) { // more lower bits than the longest has only add to all
		n := 0
		for l := shortest; l <= longest; l++ {
			count, unary := of[l], 0
			if l > try {
				// A number of l bits lies in the middle of what those can be.
				if unary = riceEscape + 64; l-try < 6 {
					unary = min(unary, 3<<(l-try)>>2)
				}
			}
			n += count * (1 + try + unary)
		}
		if length < 0 || n < length {
			k, length = try, n
		}
	}
	return k, length
}

// appendRice writes numbers with k lower bits each.
func appendRice(b []byte, xs []int64, k int) []byte {
	var word uint64 // bits that are not yet written, the first is the lowest
	n := 0
	put := func(x uint64, width int) {
		word |= x << n
		if n+width < 64 {
			n += width
			return
		}
		b = binary.LittleEndian.AppendUint64(b, word)
		word = x >> (64 - n) // 0 where n is 0: a shift by 64 leaves nothing
		n += width - 64
	}
	for _, x := range xs {
		u := zigzag(x)
		if q := u >> k; q < riceEscape {
			put(1<<q-1, int(q)+1)
			put(u&(1<<k-1), k)
		} else {
			put(1<<riceEscape-1, riceEscape)
			put(u, 64)
		}
	}
	for ; n > 0; n -= 8 {
		b = append(b, byte(word))
		word >>= 8
	}
	return b
}

// readRice reads n numbers with k lower bits each.
func readRice(r *packed.Reader, dst []int64, n, k int) []int64 {
	in := r.Rest
	at, end := 0, len(in)*8 // in bits
	// peek returns the 64 bits from a place on, zeros behind the end.
	peek := func(at int) uint64 {
		i, low := at>>3, at&7
		if i+9 <= len(in) {
			return binary.LittleEndian.Uint64(in[i:])>>low | uint64(in[i+8])<<(64-low)
		}
		var x uint64
		for j := 0; i+j < len(in) && j < 9; j++ {
			if s := 8*j - low; s >= 0 {
				x |= uint64(in[i+j]) << s
			} else {
				x |= uint64(in[i+j]) >> -s
			}
		}
		return x
	}
	for range n {
		q := bits.TrailingZeros64(^peek(at))
		var u uint64
		if q < riceEscape {
			at += q + 1
			u = uint64(q)<<k | peek(at)&(1<<k-1)
			at += k
		} else {
			at += riceEscape
			u = peek(at)
			at += 64
		}
		if at > end {
			r.Bad = true
			return dst
		}
		dst = append(dst, unzigzag(u))
	}
	r.Rest = in[(at+7)/8:]
	return dst
}
