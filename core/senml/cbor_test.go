package senml_test

import (
	"encoding/hex"
	"errors"
	"reflect"
	"strings"
	"testing"
	"time"

	"github.com/fxamacker/cbor/v2"

	"ullage/core/senml"
)

// TestExampleOfTheRFC reads the pack of RFC 8428, section 6, byte by byte.
func TestExampleOfTheRFC(t *testing.T) {
	body, err := hex.DecodeString(strings.Join(strings.Fields(`
		87 a7 21 78 1b 75 72 6e 3a 64 65 76 3a 6f 77 3a 31 30 65 32 30 37 33 61 30 31 30 38 30 30 36 3a
		22 fb 41 d3 03 a1 5b 00 10 62 23 61 41 20 05 00 67 76 6f 6c 74 61 67 65 01 61 56 02 fb 40 5e 06 66 66 66 66 66
		a3 00 67 63 75 72 72 65 6e 74 06 24 02 fb 3f f3 33 33 33 33 33 33
		a3 00 67 63 75 72 72 65 6e 74 06 23 02 fb 3f f4 cc cc cc cc cc cd
		a3 00 67 63 75 72 72 65 6e 74 06 22 02 fb 3f f6 66 66 66 66 66 66
		a3 00 67 63 75 72 72 65 6e 74 06 21 02 f9 3e 00
		a3 00 67 63 75 72 72 65 6e 74 06 20 02 fb 3f f9 99 99 99 99 99 9a
		a3 00 67 63 75 72 72 65 6e 74 06 00 02 fb 3f fb 33 33 33 33 33 33`), ""))
	if err != nil {
		t.Fatal(err)
	}
	rs, err := whole(senml.FromCBOR(body, now))
	if err != nil || len(rs) != 7 {
		t.Fatalf("%d records, %v", len(rs), err)
	}
	if r := rs[0]; r.Name != "urn:dev:ow:10e2073a0108006:voltage" || r.Unit != "V" || *r.Number != 120.1 ||
		r.At.UnixMilli() != 1276020076001 {
		t.Errorf("the first is %+v", r)
	}
	if r := rs[4]; r.Unit != "A" || *r.Number != 1.5 || r.At.UnixMilli() != 1276020074001 {
		t.Errorf("the fifth is %+v", r)
	}
}

// TestCBORSaysWhatJSONSays writes the same packs both ways.
func TestCBORSaysWhatJSONSays(t *testing.T) {
	for js, cb := range map[string][]map[any]any{
		`[{"n":"a","v":21.4}]`: {{0: "a", 2: 21.4}},
		`[{"bn":"x/","bt":1772359200,"bu":"Cel","n":"a","v":-3}]`:   {{-2: "x/", -3: 1772359200, -4: "Cel", 0: "a", 2: -3}},
		`[{"bn":"x"},{"n":"/on","vb":true},{"n":"/s","vs":"idle"}]`: {{-2: "x"}, {0: "/on", 4: true}, {0: "/s", 3: "idle"}},
		`[{"n":"a","vd":"3q2-7w"}]`:                                 {{0: "a", 8: []byte{0xde, 0xad, 0xbe, 0xef}}},
		`[{"n":"a","bv":20,"v":1.5,"t":-60}]`:                       {{0: "a", -5: 20, 2: 1.5, 6: -60}},
		`[{"n":"a","s":5,"bver":10,"what":1}]`:                      {{0: "a", 5: 5, -1: 10, "what": 1}},
		`[{"n":"a","v":21.43}]`:                                     {{0: "a", 2: cbor.Tag{Number: 4, Content: []any{-2, 2143}}}},
	} {
		want, err := whole(senml.FromJSON([]byte(js), now))
		if err != nil {
			t.Fatalf("%s: %v", js, err)
		}
		body, err := cbor.Marshal(cb)
		if err != nil {
			t.Fatal(err)
		}
		got, err := whole(senml.FromCBOR(body, now))
		if err != nil || !reflect.DeepEqual(got, want) {
			t.Errorf("%s: in CBOR it is %+v, in JSON %+v, %v", js, got, want, err)
		}
		if !senml.IsCBOR(body) || senml.IsCBOR([]byte(js)) {
			t.Errorf("%s: taken for the other", js)
		}
	}
}

func TestBadCBOR(t *testing.T) {
	for name, cb := range map[string]any{
		"no list": map[any]any{0: "a", 2: 1}, "a text for a number": []map[any]any{{0: "a", 2: "1"}}, "several values": []map[any]any{{0: "a", 2: 1, 4: true}},
		"must be understood": []map[any]any{{0: "a", 2: 1, "x_": 1}}, "no value": []map[any]any{{0: "a"}}, "too new": []map[any]any{{-1: 11, 0: "a", 2: 1}},
		"too deep": []any{[]any{[]any{[]any{[]any{[]any{[]any{[]any{[]any{1}}}}}}}}},
	} {
		body, err := cbor.Marshal(cb)
		if err != nil {
			t.Fatal(err)
		}
		if rs, err := whole(senml.FromCBOR(body, now)); err == nil {
			t.Errorf("%s: taken as %+v", name, rs)
		} else if bad := (*senml.Wrong)(nil); name != "no list" && name != "too deep" && !errors.As(err, &bad) {
			t.Errorf("%s: %v names no record", name, err)
		}
	}
}

func FuzzFromCBOR(f *testing.F) {
	for _, x := range []any{[]map[any]any{{0: "a", 2: 21.4}},
		[]map[any]any{{-2: "x/", -3: 1772359200}, {0: "a", 4: true}}} {
		b, err := cbor.Marshal(x)
		if err != nil {
			f.Fatal(err)
		}
		f.Add(b)
	}
	f.Fuzz(func(t *testing.T, body []byte) {
		rs, _, err := senml.FromCBOR(body, time.Unix(1.77e9, 0))
		for _, r := range rs {
			if err != nil || r.Name == "" {
				t.Errorf("%+v, %v", r, err)
			}
		}
	})
}
