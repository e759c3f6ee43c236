package wire_test

import (
	"fmt"
	"strings"
	"testing"
	"unicode/utf8"

	"ullage/core/model"
	"ullage/fleet/wire"
)

func TestRings(t *testing.T) {
	l := wire.New(10, 3)
	for i := range 25 {
		e := wire.Entry{Device: fmt.Sprintf("d%d", i%2), Body: fmt.Sprint(i)}
		if i%10 == 0 {
			e.Reason = "no"
		}
		if got := l.Add(e); got.Seq != uint64(i+1) {
			t.Errorf("entry %d has number %d", i, got.Seq)
		}
	}
	bodies := func(es []wire.Entry) string {
		var out []string
		for _, e := range es {
			out = append(out, e.Body)
		}
		return strings.Join(out, ",")
	}
	for _, c := range []struct {
		f    wire.Filter
		want string
	}{
		{wire.Filter{}, "24,23,22,21,20,19,18,17,16,15"},
		{wire.Filter{Limit: 2}, "24,23"},
		{wire.Filter{After: 23}, "24,23"},
		{wire.Filter{Device: "d1"}, "23,21,19"},
		{wire.Filter{Device: "d9"}, ""},
		{wire.Filter{Trouble: true}, "20"},
	} {
		if got := bodies(l.Recent(c.f)); got != c.want {
			t.Errorf("%+v gives %s, want %s", c.f, got, c.want)
		}
	}
	if all, trouble := l.Counts(); all != 25 || trouble != 3 {
		t.Errorf("counts are %d and %d", all, trouble)
	}
}

func TestBodiesAreCut(t *testing.T) {
	l := wire.New(1, 1)
	e := l.Add(wire.Entry{Body: strings.Repeat("ü", 5000)})
	if e.Size != 10000 || len(e.Body) > 2060 || !utf8.ValidString(e.Body) || !strings.HasSuffix(e.Body, "…") {
		t.Errorf("size %d, %d bytes are kept", e.Size, len(e.Body))
	}
}

func TestTrouble(t *testing.T) {
	if (&wire.Entry{Marked: []model.Finding{{}}}).Trouble() || !(&wire.Entry{Refused: []model.Finding{{}}}).Trouble() {
		t.Error("a mark is no trouble, a refusal is")
	}
}

func TestRefs(t *testing.T) {
	seen := map[string]bool{}
	for range 200 {
		r := wire.NewRef()
		if len(r) != 4 || strings.ContainsAny(r, "01IO") {
			t.Errorf("ref %q", r)
		}
		seen[r] = true
	}
	if len(seen) < 190 {
		t.Errorf("only %d of 200 refs differ", len(seen))
	}
}
