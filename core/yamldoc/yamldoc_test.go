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

// TestOneDocument refuses a second document, which would be left out without a word, and no line
// that only looks like the beginning of one.
func TestOneDocument(t *testing.T) {
	for src, line := range map[string]string{
		"a: 1\n---\nb: 2\n":                   "line 2: ",
		"# about\n---\na: 1\n--- b\n":         "line 4: ",
		"---\na: 1\n...\n---\nb: 2\n":         "line 4: ",
		"a: 1\r\n---\r\nb: 2\r\n":             "line 2: ",
		"---\n---\na: 1\n":                    "",
		"%YAML 1.2\n---\na: 1\n":              "",
		"---\na: 1\n---\n# nothing more\n\n":  "",
		"a: |\n  x\n  ---\n  y\nb: 1\n":       "",
		"a: ---\n":                            "",
		"----\n":                              "",
		"a: 1\n---b\n":                        "",
		"a: 1\n...\n":                         "",
		"--- a: 1\n---\nb: 2\n":               "line 2: ",
		strings.Repeat("# x\n", 3) + "a: 1\n": "",
	} {
		err := yamldoc.Bounded([]byte(src))
		if line == "" && err != nil || line != "" && (err == nil || !strings.HasPrefix(err.Error(), line)) {
			t.Errorf("%q gives %v, want %q", src, err, line)
		}
	}
}
