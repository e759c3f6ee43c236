package series

import (
	"bytes"
	"compress/flate"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"math"
	"math/bits"
	"slices"
	"sync"

	"ullage/core/packed"
	"ullage/core/value"
)

// Sample is one reading of a series as it is stored.
type Sample struct {
	At       int64 // ms since 1970
	Value    value.Value
	Quality  value.Quality
	DeviceAt int64 // the device's own time in ms, where it was not taken; 0 for none
}

// MaxChunk is how many samples one chunk may hold.
const MaxChunk = 4096

// ErrDamaged is the error of a chunk that is not as it was written.
var ErrDamaged = errors.New("the chunk is damaged")

// A chunk is
//
//	1 byte    version, 1; plus 0x80 where the body is compressed
//	4 bytes   CRC-32C of the body as stored, little endian
//	body      DEFLATE (RFC 1951, Huffman codes only) where that is shorter
//
// and its body is
//
//	uvarint   number of samples
//	varint    time of the first, ms since 1970
//	ints      differences of the differences of the times
//	1 byte    coding of the values
//	…         the values
//	uvarint   how many samples have extras, then for each: how many samples
//	          after the last such one (uvarint), quality (1 byte), and the
//	          device's time less the sample's, plus one, or 0 for none (varint)
//
// where ints are a mode byte and: 0, each number as a zigzag varint; 1, pairs of
// such a number and how often it comes; 2, a byte k and Rice codes of k lower
// bits. Values of a coding are
//
//	0  numbers: decimals d (1 byte), then ints, the differences of value·10^d
//	6  numbers: a shift (1 byte), then ints, the differences of their places
//	   in the order of all float64, shifted right by it
//	7  numbers: how many different ones there are (uvarint), those in order as
//	   6 but with the differences of the differences, then ints, the differences
//	   of which one each is
//	2  booleans: ints, differences of 0 and 1
//	3  texts: how many there are (uvarint), each with its length, then ints,
//	   the differences of their numbers
//	4  any: a byte for the kind of each, then 8 bytes, a text with its length,
//	   or a byte
const (
	chunkVersion    = 1
	chunkCompressed = 0x80
)

const (
	codeScaled  = 0
	codeBools   = 2
	codeTexts   = 3
	codeAny     = 4
	codeRollups = 5 // of blocks of roll-ups only
	codePlaces  = 6
	codeChoice  = 7
)

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// powers are the powers of ten that a float64 holds exactly, which scaled numbers
// are divided by.
var powers = [...]float64{1, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12, 1e13, 1e14, 1e15, 1e16,
	1e17, 1e18, 1e19, 1e20, 1e21, 1e22}

// Scaled returns n and the least d with v = n/10^d exactly, starting from d; it
// reports false where there is none. Division of integers below 2^53 by a power
// of ten rounds as reading the decimal does, so what devices send as decimals
// comes out the same.
func Scaled(v float64, d int) (n int64, decimals int, ok bool) {
	if v == 0 && math.Signbit(v) {
		return 0, 0, false
	}
	for ; d < len(powers); d++ {
		x := math.Round(v * powers[d])
		if math.Abs(x) > 1<<53 {
			return 0, 0, false
		}
		if x/powers[d] == v {
			return int64(x), d, true
		}
	}
	return 0, 0, false
}

// Unscaled returns n/10^d; NaN where d is no number of decimals that Scaled gives.
func Unscaled(n int64, d int) float64 {
	if d < 0 || d >= len(powers) {
		return math.NaN()
	}
	return float64(n) / powers[d]
}

type encoder struct {
	body []byte
	ints []int64
	out  bytes.Buffer
	z    *flate.Writer
}

var encoders = sync.Pool{New: func() any {
	e := &encoder{}
	e.z, _ = flate.NewWriter(&e.out, flate.HuffmanOnly)
	return e
}}

// Encode appends a chunk of samples to dst. They must be in ascending order of
// time, no two at the same, and one to MaxChunk of them.
func Encode(dst []byte, samples []Sample) []byte {
	e := encoders.Get().(*encoder)
	defer encoders.Put(e)
	b := e.times(len(samples), func(i int) int64 { return samples[i].At })
	b = e.values(b, samples)
	b = appendExtras(b, samples)
	return e.frame(dst, b)
}

// times begins a body: how many there are, the first time, and the differences
// of the differences of the others.
func (e *encoder) times(n int, at func(i int) int64) []byte {
	b := binary.AppendUvarint(e.body[:0], uint64(n))
	b = binary.AppendVarint(b, at(0))
	e.ints = e.ints[:0]
	step := int64(0)
	for i := 1; i < n; i++ {
		d := at(i) - at(i-1)
		e.ints = append(e.ints, d-step)
		step = d
	}
	return appendInts(b, e.ints)
}

// frame appends a body with its version and checksum, compressed if that is
// shorter.
func (e *encoder) frame(dst, b []byte) []byte {
	e.body = b
	e.out.Reset()
	e.z.Reset(&e.out)
	e.z.Write(b)
	e.z.Close()
	version := byte(chunkVersion)
	if e.out.Len() < len(b) {
		version |= chunkCompressed
		b = e.out.Bytes()
	}
	dst = append(dst, version)
	dst = binary.LittleEndian.AppendUint32(dst, crc32.Checksum(b, castagnoli))
	return append(dst, b...)
}

// appendInts writes numbers one by one, in runs, or as Rice codes, whichever is
// shorter.
func appendInts(b []byte, xs []int64) []byte {
	single, runs := 0, 0
	for i := 0; i < len(xs); {
		k := i + 1
		for k < len(xs) && xs[k] == xs[i] {
			k++
		}
		w := varintLen(xs[i])
		single += w * (k - i)
		runs += w + varintLen(int64(k-i))
		i = k
	}
	if least := min(single, runs); least >= riceFrom*len(xs) {
		if k, length := riceBits(xs); length/8+1 < least {
			return appendRice(append(b, 2, byte(k)), xs, k)
		}
	}
	if single <= runs {
		b = append(b, 0)
		for _, x := range xs {
			b = binary.AppendVarint(b, x)
		}
		return b
	}
	b = append(b, 1)
	for i := 0; i < len(xs); {
		k := i + 1
		for k < len(xs) && xs[k] == xs[i] {
			k++
		}
		b = binary.AppendVarint(b, xs[i])
		b = binary.AppendUvarint(b, uint64(k-i))
		i = k
	}
	return b
}

func varintLen(x int64) int { return (bits.Len64(uint64(x<<1^x>>63)|1) + 6) / 7 }

func (e *encoder) values(b []byte, samples []Sample) []byte {
	kind := samples[0].Value.Kind
	for i := range samples {
		if samples[i].Value.Kind != kind {
			kind = value.None
			break
		}
	}
	switch kind {
	case value.Number:
		if d, ok := decimals(samples); ok {
			last := int64(0)
			e.ints = e.ints[:0]
			for i := range samples {
				n := int64(math.Round(samples[i].Value.Num * powers[d]))
				e.ints = append(e.ints, n-last)
				last = n
			}
			begin := len(b)
			b = appendInts(append(b, codeScaled, byte(d)), e.ints)
			if end := len(b); end-begin >= riceFrom*len(samples) {
				// They may be few, or steps that decimals make longer than they are.
				if b = e.floats(b, samples); len(b)-end < end-begin {
					return append(b[:begin], b[end:]...)
				}
				b = b[:end]
			}
			return b
		}
		return e.floats(b, samples)
	case value.Bool:
		last := int64(0)
		e.ints = e.ints[:0]
		for i := range samples {
			n := int64(samples[i].Value.Num)
			e.ints = append(e.ints, n-last)
			last = n
		}
		return appendInts(append(b, codeBools), e.ints)
	case value.Text:
		number := map[string]int64{}
		var words []string
		last := int64(0)
		e.ints = e.ints[:0]
		for i := range samples {
			s := samples[i].Value.Text
			n, ok := number[s]
			if !ok {
				n = int64(len(words))
				number[s], words = n, append(words, s)
			}
			e.ints = append(e.ints, n-last)
			last = n
		}
		b = binary.AppendUvarint(append(b, codeTexts), uint64(len(words)))
		for _, s := range words {
			b = append(binary.AppendUvarint(b, uint64(len(s))), s...)
		}
		return appendInts(b, e.ints)
	}
	b = append(b, codeAny)
	for i := range samples {
		v := &samples[i].Value
		b = append(b, byte(v.Kind))
		switch v.Kind {
		case value.Number:
			b = binary.LittleEndian.AppendUint64(b, math.Float64bits(v.Num))
		case value.Text:
			b = append(binary.AppendUvarint(b, uint64(len(v.Text))), v.Text...)
		case value.Bool:
			b = append(b, byte(v.Num))
		}
	}
	return b
}

// place returns where a float64 stands in the order of all, -0 before 0.
func place(x float64) int64 {
	b := int64(math.Float64bits(x))
	return b ^ b>>63&math.MaxInt64
}

// atPlace is the other way round.
func atPlace(n int64) float64 { return math.Float64frombits(uint64(n ^ n>>63&math.MaxInt64)) }

// floats writes numbers that are no decimals: as different ones, sorted, and
// which of them each is, where they come again and again, as those of a
// converter that were multiplied by its step do; else one by one.
func (e *encoder) floats(b []byte, samples []Sample) []byte {
	all := make([]int64, len(samples))
	for i := range samples {
		all[i] = place(samples[i].Value.Num)
	}
	different := slices.Clone(all)
	slices.Sort(different)
	different = slices.Compact(different)
	if len(different) > len(all)/2 {
		return e.places(append(b, codePlaces), all, false)
	}
	b = binary.AppendUvarint(append(b, codeChoice), uint64(len(different)))
	b = e.places(b, different, true)
	e.ints = e.ints[:0]
	last := 0
	for _, x := range all {
		n, _ := slices.BinarySearch(different, x)
		e.ints = append(e.ints, int64(n-last))
		last = n
	}
	return appendInts(b, e.ints)
}

// places writes places in the order of all float64. Those of numbers that were a
// float32 end in zeros, which are shifted away. Those that are steps of the same
// width apart, but for the last bits, are written as differences of differences.
func (e *encoder) places(b []byte, all []int64, steps bool) []byte {
	used := int64(0)
	for _, x := range all {
		used |= x
	}
	shift := bits.TrailingZeros64(uint64(used)) & 63
	b = append(b, byte(shift))
	e.ints = e.ints[:0]
	last, step := int64(0), int64(0)
	for _, x := range all {
		d := x>>shift - last
		e.ints = append(e.ints, d-step)
		if last += d; steps {
			step = d
		}
	}
	return appendInts(b, e.ints)
}

// places reads what places wrote, n of them.
func (d *decoder) places(r *packed.Reader, n int, steps bool) []int64 {
	shift := r.Byte()
	d.ints = readInts(r, d.ints[:0], n)
	if shift > 63 || r.Bad {
		r.Bad = true
		return nil
	}
	x, step := int64(0), int64(0)
	for i, n := range d.ints {
		n += step
		x += n
		d.ints[i] = x << shift
		if steps {
			step = n
		}
	}
	return d.ints
}

// decimals returns how many decimals hold every number exactly.
func decimals(samples []Sample) (d int, ok bool) {
	for i := range samples {
		if _, d, ok = Scaled(samples[i].Value.Num, d); !ok {
			return 0, false
		}
	}
	// More decimals than some number was tried with may be too many for it.
	for i := range samples {
		x := math.Round(samples[i].Value.Num * powers[d])
		if math.Abs(x) > 1<<53 || x/powers[d] != samples[i].Value.Num {
			return 0, false
		}
	}
	return d, true
}

func appendExtras(b []byte, samples []Sample) []byte {
	n := 0
	for i := range samples {
		if samples[i].Quality != 0 || samples[i].DeviceAt != 0 {
			n++
		}
	}
	b = binary.AppendUvarint(b, uint64(n))
	last := 0
	for i := range samples {
		s := &samples[i]
		if s.Quality == 0 && s.DeviceAt == 0 {
			continue
		}
		b = append(binary.AppendUvarint(b, uint64(i-last)), byte(s.Quality))
		last = i
		if s.DeviceAt == 0 {
			b = append(b, 0)
			continue
		}
		d := s.DeviceAt - s.At
		if d >= 0 {
			d++ // 0 says that there is none
		}
		b = binary.AppendVarint(b, d)
	}
	return b
}

type decoder struct {
	z    io.ReadCloser
	body bytes.Buffer
	in   bytes.Reader
	ints []int64
}

var decoders = sync.Pool{New: func() any { return &decoder{z: flate.NewReader(bytes.NewReader(nil))} }}

// maxBody bounds what a chunk may unpack to; texts are short.
const maxBody = 64 << 20

// Decode appends the samples of a chunk to dst. It fails with ErrDamaged where
// the chunk is not as Encode wrote it.
func Decode(dst []Sample, chunk []byte) ([]Sample, error) {
	d := decoders.Get().(*decoder)
	defer decoders.Put(d)
	r, err := d.unframe(chunk)
	if err != nil {
		return dst, err
	}
	out := d.samples(dst, &r)
	if r.Bad || len(r.Rest) > 0 {
		return dst, fmt.Errorf("%w: its body breaks off or goes on", ErrDamaged)
	}
	return out, nil
}

// sound tells whether the checksum of a chunk, or of roll-ups, matches.
func sound(chunk []byte) bool {
	return len(chunk) >= 6 && chunk[0]&^chunkCompressed == chunkVersion &&
		crc32.Checksum(chunk[5:], castagnoli) == binary.LittleEndian.Uint32(chunk[1:])
}

// unframe returns the body of what frame wrote, good until the next use of d.
func (d *decoder) unframe(chunk []byte) (packed.Reader, error) {
	if !sound(chunk) {
		return packed.Reader{}, fmt.Errorf("%w: its checksum does not match", ErrDamaged)
	}
	body := chunk[5:]
	if chunk[0]&chunkCompressed != 0 {
		d.in.Reset(body)
		d.z.(flate.Resetter).Reset(&d.in, nil)
		d.body.Reset()
		if _, err := d.body.ReadFrom(io.LimitReader(d.z, maxBody+1)); err != nil || d.body.Len() > maxBody {
			return packed.Reader{}, fmt.Errorf("%w: it does not unpack", ErrDamaged)
		}
		body = d.body.Bytes()
	}
	return packed.Reader{Rest: body}, nil
}

func (d *decoder) samples(dst []Sample, r *packed.Reader) []Sample {
	n := r.Uvarint()
	if n == 0 || n > MaxChunk {
		r.Bad = true
		return dst
	}
	first := len(dst)
	at := r.Varint()
	d.ints = readInts(r, d.ints[:0], int(n)-1)
	if r.Bad {
		return dst
	}
	dst = append(dst, Sample{At: at})
	step := int64(0)
	for _, dd := range d.ints {
		step += dd
		at += step
		if step <= 0 {
			r.Bad = true
			return dst
		}
		dst = append(dst, Sample{At: at})
	}
	d.values(dst[first:], r)
	extras := r.Uvarint()
	i := uint64(0)
	for k := uint64(0); k < extras && !r.Bad; k++ {
		gap := r.Uvarint()
		if i += gap; gap > n || i >= n || k > 0 && gap == 0 {
			r.Bad = true
			return dst
		}
		s := &dst[first+int(i)]
		s.Quality = value.Quality(r.Byte())
		switch off := r.Varint(); {
		case off > 0:
			s.DeviceAt = s.At + off - 1
		case off < 0:
			s.DeviceAt = s.At + off
		}
	}
	return dst
}

func (d *decoder) values(out []Sample, r *packed.Reader) {
	switch code := r.Byte(); code {
	case codeScaled:
		p := r.Byte()
		d.ints = readInts(r, d.ints[:0], len(out))
		if int(p) >= len(powers) || r.Bad {
			r.Bad = true
			return
		}
		n, by := int64(0), powers[p]
		for i, x := range d.ints {
			n += x
			out[i].Value = value.OfNumber(float64(n) / by)
		}
	case codePlaces:
		for i, x := range d.places(r, len(out), false) {
			out[i].Value = value.OfNumber(atPlace(x))
		}
	case codeChoice:
		count := r.Uvarint()
		if count > uint64(len(out)) {
			r.Bad = true
			return
		}
		different := slices.Clone(d.places(r, int(count), true))
		d.ints = readInts(r, d.ints[:0], len(out))
		n := int64(0)
		for i, x := range d.ints {
			if n += x; n < 0 || n >= int64(len(different)) {
				r.Bad = true
				return
			}
			out[i].Value = value.OfNumber(atPlace(different[n]))
		}
	case codeBools:
		d.ints = readInts(r, d.ints[:0], len(out))
		n := int64(0)
		for i, x := range d.ints {
			n += x
			out[i].Value = value.OfBool(n != 0)
		}
	case codeTexts:
		count := r.Uvarint()
		if count > uint64(len(out)) {
			r.Bad = true
			return
		}
		words := make([]string, count)
		for i := range words {
			words[i] = r.Text()
		}
		d.ints = readInts(r, d.ints[:0], len(out))
		n := int64(0)
		for i, x := range d.ints {
			if n += x; n < 0 || n >= int64(count) {
				r.Bad = true
				return
			}
			out[i].Value = value.OfText(words[n])
		}
	case codeAny:
		for i := range out {
			switch k := value.Kind(r.Byte()); k {
			case value.None:
			case value.Number:
				out[i].Value = value.OfNumber(math.Float64frombits(r.Uint64()))
			case value.Text:
				out[i].Value = value.OfText(r.Text())
			case value.Bool:
				out[i].Value = value.OfBool(r.Byte() != 0)
			default:
				r.Bad = true
			}
		}
	default:
		r.Bad = true
	}
}

// ints reads n numbers.
func readInts(r *packed.Reader, dst []int64, n int) []int64 {
	switch r.Byte() {
	case 0:
		for range n {
			dst = append(dst, r.Varint())
		}
	case 1:
		for len(dst) < n && !r.Bad {
			x, run := r.Varint(), r.Uvarint()
			if run == 0 || run > uint64(n-len(dst)) {
				r.Bad = true
			}
			for ; run > 0 && !r.Bad; run-- {
				dst = append(dst, x)
			}
		}
	case 2:
		if k := r.Byte(); k < 64 && !r.Bad {
			dst = readRice(r, dst, n, int(k))
		} else {
			r.Bad = true
		}
	default:
		r.Bad = true
	}
	if r.Bad {
		return dst[:0]
	}
	return dst
}
