package person_test

import (
	"strings"
	"testing"

	"ullage/core/person"
)

func TestParseShown(t *testing.T) {
	for _, c := range []struct{ page, words, says string }{
		{"/", "health and latest readings", ""},
		{"/alarms?view=all", "alarms", ""},
		{"/devices/tank-fennimore-07?span=6h", "the readings, settings and alarms of tank-fennimore-07", ""},
		{"/boards/safe-air", "the board safe-air", ""},
		{"/boards/made/fleet", "the board fleet", ""},
		{"/boards/made/site/Alder%20Bank", "the board site/Alder Bank", ""},
		{"/query?metric=co2", "co2 over 24h", ""},
		{"/boards/made/in-turn?show=safe-air:20,made/site/Alder%2520Bank:30,made/fleet", "the boards safe-air, site/Alder Bank, fleet in turn", ""},
		{"/boards/made/in-turn", "", "says which boards"},
		{"/boards/made/in-turn?show=safe-air,../people", "", "no board that is shown in turn"},
		{"/boards/made/in-turn?show=made/in-turn%3Fshow%3Dsafe-air", "", "no board that is shown in turn"},
		{"/boards/made/in-turn?show=" + strings.Repeat("a,", 51), "", "50 boards in turn"},
		{"/boards/made/in-turn?show=a&show=b", "", "twice"},
		{"/query", "", "names no metric"},
		{"/people", "", "no page for a screen"},
		{"//example.org/", "", "page"},
	} {
		s, err := person.ParseShown(c.page)
		switch {
		case c.says != "":
			if err == nil || !strings.Contains(err.Error(), c.says) {
				t.Errorf("%s gives %v, want %q", c.page, err, c.says)
			}
		case err != nil:
			t.Errorf("%s: %v", c.page, err)
		case s.Words() != c.words:
			t.Errorf("%s is %q, want %q", c.page, s.Words(), c.words)
		}
	}
	s, err := person.ParseShown("/boards/made/in-turn?show=safe-air:20,made/fleet:30&span=7d")
	if err != nil || len(s.Turns) != 2 || s.Turns[1].Board != "fleet/" && s.Turns[1].Board != "fleet" || s.Turns[0].Param("span", "24h") != "7d" {
		t.Errorf("the turns are %+v, %v", s, err)
	}
}

// FuzzParseShown finds no page that is about something and nothing at once.
func FuzzParseShown(f *testing.F) {
	f.Add("/boards/made/in-turn?show=safe-air:20,made/site/Kilnside:30&span=6h")
	f.Add("/devices/tank-fennimore-07?span=6h")
	f.Fuzz(func(t *testing.T, page string) {
		s, err := person.ParseShown(page)
		if err != nil {
			return
		}
		if s.Words() == "" || s.Device != "" && s.Board != "" {
			t.Fatalf("%q is %+v", page, s)
		}
		for _, turn := range s.Turns {
			if turn.Board == "" || len(turn.Turns) > 0 {
				t.Fatalf("%q has the turn %+v", page, turn)
			}
		}
	})
}
