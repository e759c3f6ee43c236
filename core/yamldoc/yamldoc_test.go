package yamldoc_test

import (
	"strings"
	"testing"

	"ullage/core/yamldoc"
)

func TestBounded(t *testing.T) {
	for name, c := range map[string]struct {
		src  string
		deep bool
	}{
		"empty":               {"", false},
		"ordinary":            {"rule: x\nmodels: [tank-probe]\nmessage: \"{label.tank}: {must_temp}\"\n", false},
		"many, one by one":    {strings.Repeat("[a, {b: c}]\n", 1000), false},
		"brackets in quotes":  {"a: '" + strings.Repeat("[", 500) + "'\nb: \"" + strings.Repeat("{", 500) + `\"` + strings.Repeat("{", 500) + "\"\n", false},
		"brackets in comment": {"a: 1 # " + strings.Repeat("[", 500) + "\n", false},
		"an apostrophe":       {"a: it's [fine]\nb: [" + strings.Repeat("[", 100), true},
		"lists":               {strings.Repeat("[", 65), true},
		"as many as may be":   {strings.Repeat("[", 64), false},
		"objects":             {strings.Repeat("{a: ", 100), true},
		"sequences":           {strings.Repeat("- ", 100), true},
		"keys":                {strings.Repeat("? ", 100), true},
		"a long list":         {strings.Repeat("- a\n", 1000), false},
		"keys without end":    {strings.Repeat("a: 1\n", 6000), true},
		"inner keys":          {"x:\n" + strings.Repeat("  a: 1\n", 6000), true},
		"many small mappings": {strings.Repeat("a:\n  b: 1\n  c: 2\n", 3000), false},
		"a flow without end":  {"a: [" + strings.Repeat("1, ", 6000) + "]", true},
		"many small flows":    {strings.Repeat("a: [1, 2, 3]\n", 4000), false},
		"a rule of dashes":    {strings.Repeat("-", 1000), false},
	} {
		if err := yamldoc.Bounded([]byte(c.src)); (err != nil) != c.deep {
			t.Errorf("%s: %v", name, err)
		}
	}
	if err := yamldoc.Bounded([]byte("a: 1\nb: \"x\ny\"\nc: " + strings.Repeat("[", 70))); err == nil || !strings.HasPrefix(err.Error(), "line 4: ") {
		t.Errorf("the line is %v", err)
	}
}
