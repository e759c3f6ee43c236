package yamldoc_test

import (
	"fmt"
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

// TestDecode reads the sentences that people get for files that are not what they should be.
func TestDecode(t *testing.T) {
	type thing struct {
		Name  string   `yaml:"thing"`
		Tags  []string `yaml:"tags"`
		Size  int8     `yaml:"size"`
		Inner struct {
			Zone string `yaml:"zone"`
		} `yaml:"inner"`
	}
	// Ten lines that a decoder would write out to a hundred million entries.
	bomb := "a0: &a0 [x,x,x,x,x,x,x,x,x,x]\n"
	for i := range 8 {
		bomb += fmt.Sprintf("a%d: &a%d [%s]\n", i+1, i+1, strings.Repeat(fmt.Sprintf("*a%d,", i), 10))
	}
	for name, c := range map[string]struct{ src, says string }{
		"as it should be":        {"thing: hall\ntags: [a]\nsize: 3\ninner:\n  zone: x\n", ""},
		"with a mark":            {"\xef\xbb\xbfthing: hall\n", ""},
		"a comment before":       {"# a hall\n---\nthing: hall\n", ""},
		"empty":                  {"", "the file is empty"},
		"only a comment":         {"# later\n\n", "the file is empty"},
		"only marks":             {"---\n", "the file is empty"},
		"a text":                 {"hello\n", "line 1, column 1: a text stands where there should be keys with values"},
		"a list":                 {"- thing: hall\n", "line 1, column 1: a list stands where there should be keys with values"},
		"UTF-16":                 {"\xff\xfet\x00h\x00", "the file is not text in UTF-8; save it as UTF-8"},
		"a key that is near":     {"thing: hall\ntag: [a]\n", `line 2, column 1: a thing has no "tag"; did you mean tags?`},
		"a key that is not":      {"thing: hall\ncolour: red\n", `line 2, column 1: a thing has no "colour"; the keys are thing, tags, size, inner`},
		"an inner key":           {"thing: hall\ninner:\n  colour: red\n", `line 3, column 3: there is no key "colour" here`},
		"a key twice":            {"thing: hall\nthing: press\n", `line 2, column 1: the key "thing" stands twice`},
		"a text for a list":      {"thing: hall\ntags: a\n", "line 2, column 7: a text stands where there should be a list"},
		"a list for a text":      {"thing: [a]\n", "line 1, column 8: a list stands where there should be a text"},
		"a text for a number":    {"size: large\n", "line 1, column 7: a text stands where there should be a whole number"},
		"a number that is large": {"size: 3000\n", "line 1, column 7: the number 3000 is larger than fits"},
		"an anchor":              {"thing: &a hall\n", "line 1: anchors and aliases (& and *) are not used here; write it out"},
		"a bomb of aliases":      {bomb + "tags: *a8\n", "line 1: anchors and aliases (& and *) are not used here; write it out"},
		"two documents":          {"thing: a\n---\nthing: b\n", "line 2: a second document begins here; a file is one YAML document, so put it into a file of its own beside this one"},
		"longer than it may be":  {"thing: " + strings.Repeat("a", 5000), "the file has 5007 bytes; a thing may have 4096"},
	} {
		err := yamldoc.Decode([]byte(c.src), &thing{}, "a thing", 4096)
		if got := fmt.Sprint(err); got != c.says && !(c.says == "" && err == nil) {
			t.Errorf("%s: it says %q, want %q", name, got, c.says)
		}
	}
}

func TestEncodeWritesWholeNumbersAsSuch(t *testing.T) {
	got := string(yamldoc.Encode(map[string]any{"a": 3.0, "b": 1.5, "c": "3", "d": 1e21, "e": -0.25}))
	if want := "a: 3\nb: 1.5\nc: \"3\"\nd: 1e+21\ne: -0.25\n"; got != want {
		t.Errorf("it is %q, want %q", got, want)
	}
}
