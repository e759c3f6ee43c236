package unit_test

import (
	"strings"
	"testing"

	"ullage/core/unit"
)

func TestPreferredChecks(t *testing.T) {
	for name, c := range map[string]struct {
		p    unit.Preferred
		says string // part of what is wrong; nothing for none
	}{
		"nothing":           {nil, ""},
		"a choice":          {unit.Preferred{"temperature": "[degF]", "volume flow": "[gal_us]/min"}, ""},
		"as people spell":   {unit.Preferred{"temperature": "degF"}, ""},
		"another dimension": {unit.Preferred{"temperature": "kPa"}, "unit of pressure, and none of temperature"},
		"no dimension":      {unit.Preferred{"colour": "Cel"}, "no dimension"},
		"none to choose":    {unit.Preferred{"acidity": "pH"}, "no dimension"},
		"no unit":           {unit.Preferred{"mass": "stones"}, "not known"},
	} {
		err := c.p.Check()
		if got := ""; err != nil {
			got = err.Error()
			if c.says == "" || !strings.Contains(got, c.says) {
				t.Errorf("%s: got %q, want %q in it", name, got, c.says)
			}
		} else if c.says != "" {
			t.Errorf("%s: nothing is wrong, want %q", name, c.says)
		}
	}
	for d, symbols := range unit.Choices() {
		for _, s := range symbols {
			if err := (unit.Preferred{d: s}).Check(); err != nil {
				t.Errorf("%s is offered for %s and not taken: %v", s, d, err)
			}
			if unit.Display(s) == "" {
				t.Errorf("%s, offered for %s, has nothing to be shown as", s, d)
			}
		}
	}
}

func TestPreferredSymbol(t *testing.T) {
	p := unit.Preferred{"temperature": "degF", "length": "[in_i]"}
	for from, want := range map[string]string{"Cel": "[degF]", "K": "[degF]", "[degF]": "[degF]", "cm": "[in_i]",
		"mm": "[in_i]", "kPa": "kPa", "%": "%", "": "", "K/h": "K/h", "no such unit": "no such unit"} {
		if got := p.Symbol(from); got != want {
			t.Errorf("%q is read in %q, want %q", from, got, want)
		}
	}
	if got := unit.Preferred(nil).Symbol("Cel"); got != "Cel" {
		t.Errorf("without a preference Cel is read in %q", got)
	}
}

// So many digits after the point tell as much in the other unit, and no more than
// one place finer or coarser than needed.
func TestDecimals(t *testing.T) {
	for _, c := range []struct {
		from, to   string
		have, want int
	}{
		{"Cel", "[degF]", 1, 1}, {"kPa", "[psi]", 1, 2}, {"cm", "[in_i]", 1, 2}, {"mm", "m", 0, 3}, {"m", "mm", 3, 0},
		{"L/min", "[gal_us]/min", 1, 2}, {"g/L", "kg/m3", 1, 1}, {"kg", "g", 0, 0}, {"Cel", "[degF]", -1, -1},
		{"mm", "km", 2, 8}, {"pm", "km", 9, 9},
	} {
		from, err := unit.Lookup(c.from)
		if err != nil {
			t.Fatal(err)
		}
		to, err := unit.Lookup(c.to)
		if err != nil {
			t.Fatal(err)
		}
		if got := unit.Decimals(c.have, from, to); got != c.want {
			t.Errorf("%d decimals of %s are %d of %s, want %d", c.have, c.from, got, c.to, c.want)
		}
	}
}
