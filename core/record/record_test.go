package record_test

import (
	"math"
	"slices"
	"strings"
	"testing"
	"time"

	"ullage/core/record"
	"ullage/core/value"
)

type place struct {
	Name    string    `json:"name" doc:"Name"`
	Zone    string    `json:"zone,omitempty"`
	North   *float64  `json:"north,omitempty"`
	Devices int       `json:"devices"`
	Open    bool      `json:"open"`
	Tags    []string  `json:"tags"`
	Made    time.Time `json:"made"`
	hidden  string
	Other   map[string]int `json:"other"`
	NoName  string
}

func ptr(f float64) *float64 { return &f }

func TestFieldsAndFilter(t *testing.T) {
	fields := record.Fields[place]()
	var names []string
	for _, f := range fields {
		names = append(names, f.Name)
	}
	if want := []string{"name", "zone", "north", "devices", "open", "tags", "made"}; !slices.Equal(names, want) {
		t.Errorf("the fields are %v, want %v", names, want)
	}
	now := time.Date(2026, 3, 9, 14, 0, 0, 0, time.UTC)
	x := place{Name: "Fennimore", Zone: "Europe/Berlin", North: ptr(47.588), Devices: 12, Open: true,
		Tags: []string{"cellar", "press"}, Made: now.Add(-time.Hour), hidden: "h"}
	for src, want := range map[string]bool{
		`name == "Fennimore"`:             true,
		`zone != "UTC" and devices > 10`:  true,
		`devices > 12`:                    false,
		`north > 47.5 and north < 48`:     true,
		`open`:                            true,
		`not open or name == "Saltmarsh"`: false,
		`tags == "cellar, press"`:         true,
	} {
		f, found := record.NewFilter("place", src, fields)
		if f == nil {
			t.Errorf("%s: %v", src, found)
			continue
		}
		if got := f.Passes(x, now); got != want {
			t.Errorf("%s gives %v, want %v", src, got, want)
		}
		if f.Passes(place{}, now) && strings.Contains(src, "north >") {
			t.Errorf("%s passes a place without a position", src)
		}
	}
	if f, found := record.NewFilter("place", `nmae == "x"`, fields); f != nil || !strings.Contains(found.Errors()[0].Sentence, "name") {
		t.Errorf("a wrong name gives %v", found)
	}
}

func TestSortable(t *testing.T) {
	in := []value.Value{value.OfNumber(-1e300), value.OfNumber(-2), value.OfNumber(-1), value.OfNumber(0),
		value.OfNumber(0.5), value.OfNumber(10), value.OfNumber(math.MaxFloat64), value.OfText("Alder Bank"), value.OfText("coldharbour"), value.OfText("Kilnside"), {}}
	for i := 1; i < len(in); i++ {
		if a, b := record.Sortable(in[i-1]), record.Sortable(in[i]); a >= b {
			t.Errorf("%v comes behind %v: %s, %s", in[i-1], in[i], a, b)
		}
	}
}

func TestTagChangesWithEveryField(t *testing.T) {
	a := place{Name: "Fennimore"}
	b := a
	b.Devices = 1
	if record.Tag(a) != record.Tag(place{Name: "Fennimore"}) || record.Tag(a) == record.Tag(b) || record.Tag(a) == "" {
		t.Errorf("tags %q %q", record.Tag(a), record.Tag(b))
	}
}
