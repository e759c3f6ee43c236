package store

import (
	"encoding/binary"
	"hash/crc32"
	"math"

	"ullage/core/packed"
	"ullage/core/series"
	"ullage/core/value"
)

// A record holds what one commit was asked to keep, packed:
//
//	1 byte    version, 2
//	for each append, until the checksum:
//	  uvarint   length of the device's id where there is a receipt, else 0; the
//	            id and 8 bytes of the receipt
//	  varint    time of arrival less that of the append before it in the record
//	  uvarint   number of readings, then for each:
//	    uvarint   series
//	    varint    time less that of the reading before it in the record
//	    1 byte    kind (2 bits), 4: scaled, 8: has a quality, 16: has the device's time
//	    …         scaled: decimals (1 byte) and varint; else 8 bytes of a float;
//	              text: its length (uvarint) and bytes; boolean: 1 byte
//	    …         quality (1 byte), the device's time (varint)
//	4 bytes   CRC-32C of all before
const recordVersion = 2

const (
	headScaled   = 4
	headQuality  = 8
	headDeviceAt = 16
)

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// recordWriter packs one record. Its zero value is ready after reset.
type recordWriter struct {
	b       []byte
	at      int64
	arrived int64
}

func (w *recordWriter) reset() { w.b, w.at, w.arrived = append(w.b[:0], recordVersion), 0, 0 }

func (w *recordWriter) begin(device string, receipt int64, arrived int64, readings int) {
	if receipt == 0 {
		w.b = append(w.b, 0)
	} else {
		w.b = append(binary.AppendUvarint(w.b, uint64(len(device))), device...)
		w.b = binary.LittleEndian.AppendUint64(w.b, uint64(receipt))
	}
	w.b = binary.AppendVarint(w.b, arrived-w.arrived)
	w.arrived = arrived
	w.b = binary.AppendUvarint(w.b, uint64(readings))
}

func (w *recordWriter) reading(id int64, s *series.Sample) {
	w.b = binary.AppendUvarint(w.b, uint64(id))
	w.b = binary.AppendVarint(w.b, s.At-w.at)
	w.at = s.At
	head := byte(s.Value.Kind)
	if s.Quality != 0 {
		head |= headQuality
	}
	if s.DeviceAt != 0 {
		head |= headDeviceAt
	}
	switch s.Value.Kind {
	case value.Number:
		if n, d, ok := series.Scaled(s.Value.Num, 0); ok {
			w.b = binary.AppendVarint(append(w.b, head|headScaled, byte(d)), n)
		} else {
			w.b = binary.LittleEndian.AppendUint64(append(w.b, head), math.Float64bits(s.Value.Num))
		}
	case value.Text:
		w.b = binary.AppendUvarint(append(w.b, head), uint64(len(s.Value.Text)))
		w.b = append(w.b, s.Value.Text...)
	default:
		w.b = append(w.b, head, byte(s.Value.Num))
	}
	if s.Quality != 0 {
		w.b = append(w.b, byte(s.Quality))
	}
	if s.DeviceAt != 0 {
		w.b = binary.AppendVarint(w.b, s.DeviceAt)
	}
}

func (w *recordWriter) end() []byte {
	w.b = binary.LittleEndian.AppendUint32(w.b, crc32.Checksum(w.b, castagnoli))
	return w.b
}

// soundRecord tells whether the checksum of a record matches.
func soundRecord(b []byte) bool {
	n := len(b) - 4
	return n >= 1 && b[0] == recordVersion && crc32.Checksum(b[:n], castagnoli) == binary.LittleEndian.Uint32(b[n:])
}

// readRecord tells what a record holds. It reports false where the record is
// not as it was written; what was told before that stands.
func readRecord(b []byte, receipt func(device string, receipt, arrived int64), reading func(id int64, s series.Sample, arrived int64)) bool {
	if !soundRecord(b) {
		return false
	}
	r := packed.Reader{Rest: b[1 : len(b)-4]}
	at, arrived := int64(0), int64(0)
	for len(r.Rest) > 0 && !r.Bad {
		device, hash := r.Text(), int64(0)
		if device != "" {
			hash = int64(r.Uint64())
		}
		if arrived += r.Varint(); device != "" && !r.Bad {
			receipt(device, hash, arrived)
		}
		for n := r.Uvarint(); n > 0 && !r.Bad; n-- {
			id := int64(r.Uvarint())
			at += r.Varint()
			s := series.Sample{At: at}
			head := r.Byte()
			switch kind := value.Kind(head & 3); {
			case kind == value.Number && head&headScaled != 0:
				d := r.Byte()
				s.Value = value.OfNumber(series.Unscaled(r.Varint(), int(d)))
			case kind == value.Number:
				s.Value = value.OfNumber(math.Float64frombits(r.Uint64()))
			case kind == value.Text:
				s.Value = value.OfText(r.Text())
			case kind == value.Bool:
				s.Value = value.OfBool(r.Byte() != 0)
			default:
				r.Byte()
			}
			if head&headQuality != 0 {
				s.Quality = value.Quality(r.Byte())
			}
			if head&headDeviceAt != 0 {
				s.DeviceAt = r.Varint()
			}
			if !r.Bad {
				reading(id, s, arrived)
			}
		}
	}
	return !r.Bad
}
