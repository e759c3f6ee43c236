package value

import (
	"strings"
	"testing"
)

func TestWritten(t *testing.T) {
	for s, want := range map[string]string{
		"":                         "",
		"Tank 7, under the window": "",
		"two\nlines\tand a tab":    "",
		"خمير \u200fالعنب 🍇\ufe0f": "",
		strings.Repeat("ü", 40):    "",
		strings.Repeat("ü", 41):    "has 41 characters; 40 are the most",
		"a\x00b":                   "has characters that cannot be seen; leave them out",
		"\x1b[31mred":              "has characters that cannot be seen; leave them out",
		"a\x7f":                    "has characters that cannot be seen; leave them out",
		"gnp.\u202etxe":            "has characters that cannot be seen; leave them out",
		"\u2066x\u2069":            "has characters that cannot be seen; leave them out",
		"a\xffb":                   "is not written in UTF-8",
	} {
		if got := Written(s, 40); got != want {
			t.Errorf("%q %s, want %q", s, got, want)
		}
	}
}
