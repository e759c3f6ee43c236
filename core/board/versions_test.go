package board_test

import (
	"slices"
	"testing"

	"ullage/core/board"
)

func TestDifferences(t *testing.T) {
	trace := board.Instrument{Kind: "trace", Metrics: []string{"must_temp"}, Place: []int{0, 0, 6, 4}}
	tally := board.Instrument{Kind: "tally", Count: "health", Place: []int{6, 0, 6, 4}}
	dial := board.Instrument{Kind: "dial", Title: "Hall", Metrics: []string{"co2"}, Place: []int{0, 4, 3, 3}}
	at := func(x board.Instrument, place ...int) board.Instrument { x.Place = place; return x }
	a := &board.Board{Name: "hall", Title: "Hall", Span: "24h", Instruments: []board.Instrument{trace, tally, trace}}
	for _, c := range []struct {
		name string
		is   board.Board
		want []string
	}{
		{"the same", *a, []string{}},
		{"another span, no devices", board.Board{Name: "hall", Title: "Hall", Span: "6h", Devices: "co2 > 3", Instruments: a.Instruments},
			[]string{"devices: nothing → co2 > 3", "span: 24h → 6h"}},
		{"one came, one of two alike went, one moved", board.Board{Name: "hall", Title: "Hall", Span: "24h", Instruments: []board.Instrument{dial, at(tally, 0, 8, 6, 4), trace}},
			[]string{"took out trace of must_temp", "added dial “Hall”", "moved 1 instrument"}},
		{"in another order", board.Board{Name: "hall", Title: "Hall", Span: "24h", Instruments: []board.Instrument{tally, trace, trace}}, []string{}},
		{"changed", board.Board{Name: "hall", Title: "Hall", Span: "24h", Parameters: []string{"site"}, Instruments: []board.Instrument{trace, trace, {Kind: "tally", Count: "link", Place: tally.Place}}},
			[]string{"parameters: nothing → site", "took out tally of health", "added tally of link"}},
	} {
		if got := board.Differences(a, &c.is); !slices.Equal(got, c.want) {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
	}
	if len(a.Instruments) != 3 || a.Instruments[0].Place == nil {
		t.Error("what was compared was changed")
	}
}
