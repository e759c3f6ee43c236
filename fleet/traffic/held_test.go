package traffic

import (
	"fmt"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"
	"time"

	"ullage/core/model"
)

// Whatever an entry says comes back, each field by itself: one that is added to Entry
// and not to held would be lost.
func TestHeldIsTheEntry(t *testing.T) {
	of := reflect.TypeFor[Entry]()
	for i := range of.NumField() {
		var e Entry
		switch f := reflect.ValueOf(&e).Elem().Field(i); f.Interface().(type) {
		case uint64:
			f.SetUint(7)
		case int:
			f.SetInt(7)
		case string, Direction:
			f.SetString("press")
		case time.Time:
			f.Set(reflect.ValueOf(time.Date(2026, 3, 1, 10, 0, 0, 0, time.UTC)))
		case []model.Finding:
			f.Set(reflect.ValueOf([]model.Finding{{Pointer: "/load", Sentence: "load is text"}}))
		default:
			t.Fatalf("%s has a type that this test does not know", of.Field(i).Name)
		}
		for name, before := range map[string]*held{"alone": nil, "behind another": holding(Entry{Topic: "other", Remote: "192.0.2.7:1"}, nil),
			"behind one like it": holding(e, nil)} {
			if back := holding(e, before).entry(); !reflect.DeepEqual(back, e) {
				t.Errorf("%s is lost %s: %+v became %+v", of.Field(i).Name, name, e, back)
			}
		}
	}
}

// What is counted is what is held, whatever came and went, and nothing once all are forgotten.
func TestHeldIsCounted(t *testing.T) {
	l := New(Options{All: 20, EachDevice: 5, Bytes: 3000})
	r := rand.New(rand.NewPCG(7, 11))
	device := func() string { return fmt.Sprintf("tank-%d", r.IntN(6)) }
	for i := range 5000 {
		if r.IntN(50) == 0 {
			l.forget(device())
		}
		l.Add(Entry{Device: device(), Topic: "readings", Body: strings.Repeat("x", r.IntN(200))})
		bytes, before := 0, uint64(0)
		for h := l.full.newer; h != &l.full; h = h.newer {
			if bytes += int(h.weight); h.seq <= before || h.newer.older != h || h.rings == 0 {
				t.Fatalf("after %d entries %d stands behind %d, in %d rings", i+1, h.seq, before, h.rings)
			}
			before = h.seq
		}
		if bytes != l.bytes || bytes > l.o.Bytes {
			t.Fatalf("after %d entries %d bytes are held and %d are counted, of %d", i+1, bytes, l.bytes, l.o.Bytes)
		}
	}
	for i := range 6 {
		l.forget(fmt.Sprintf("tank-%d", i))
	}
	if l.bytes != 0 || l.full.newer != &l.full {
		t.Errorf("%d bytes are held of devices that are forgotten", l.bytes)
	}
}
