package packed_test

import (
	"encoding/binary"
	"testing"

	"ullage/core/packed"
)

func TestReader(t *testing.T) {
	b := binary.AppendUvarint(nil, 300)
	b = binary.AppendVarint(b, -300)
	b = binary.LittleEndian.AppendUint64(append(b, 7), 1<<60)
	b = append(append(b, 5), "Fass "...)
	for cut := range len(b) + 1 {
		r := packed.Reader{Rest: b[:cut]}
		u, v, x, y, s := r.Uvarint(), r.Varint(), r.Byte(), r.Uint64(), r.Text()
		whole := u == 300 && v == -300 && x == 7 && y == 1<<60 && s == "Fass "
		if whole != (cut == len(b)) || r.Bad == whole || len(r.Rest) > 0 {
			t.Errorf("cut to %d bytes: %d %d %d %d %q, bad %v, %d left", cut, u, v, x, y, s, r.Bad, len(r.Rest))
		}
	}
	r := packed.Reader{Rest: []byte{0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff}}
	if r.Uvarint(); !r.Bad {
		t.Error("a varint of more than 64 bits was taken")
	}
}
