package cli

import (
	"bytes"
	"fmt"
	"strings"
	"testing"

	"ullage/client"
)

// What a device wrote is shown and does nothing.
func TestSafe(t *testing.T) {
	for in, want := range map[string]string{
		"must_temp 21.4 °C\n":           "must_temp 21.4 °C\n",
		"a\x1b[2Jb\a\r":                 `a\x1b[2Jb\x07\r`,
		"\u009b31mred \u202eabc \ufeff": `\x9b31mred \u202eabc \ufeff`,
		"\xff\xfe":                      `\xff\xfe`,
		"\x00cafe:31;red":               `\x00cafe:31;red`,
		"Grüße, 酒窖\tقبو":                "Grüße, 酒窖\tقبو",
		"\u2028line\x7f":                `\u2028line\x7f`,
		strings.Repeat("\x1b]0;x\a", 2): `\x1b]0;x\x07\x1b]0;x\x07`,
	} {
		var b bytes.Buffer
		if n, err := newSafe(&b, false).Write([]byte(in)); n != len(in) || err != nil || b.String() != want {
			t.Errorf("%q is shown as %q, %d, %v; want %q", in, b.String(), n, err, want)
		}
		b.Reset()
		newSafe(&b, true).Write([]byte(in))
		if b.String() != in {
			t.Errorf("raw, %q is %q", in, b.String())
		}
	}
	var b bytes.Buffer
	s := newSafe(&b, false)
	fmt.Fprint(s, s.own+"2;dim"+s.own+"0;")
	if b.String() != "\x1b[2mdim\x1b[0m" {
		t.Errorf("our own colour is %q", b.String())
	}
}

// Lines of CSV have columns, no JSON, and nothing that a spreadsheet computes.
func TestCSV(t *testing.T) {
	rows := []client.Device{
		{ID: "tank-1", Name: "=HYPERLINK(\"x\")", Labels: map[string]string{"site": "Kilnside", "row": "-1+1"}, Reasons: []string{"silent", "a; b"},
			Attributes: map[string]any{"firmware": "1.2"}, Alarms: []client.OpenAlarm{{ID: "x"}, {ID: "y"}}, Headspace: new(float64)},
		{ID: "tank-2", Labels: map[string]string{}, Attributes: map[string]any{"nested": map[string]any{"deep": 5.25}}},
	}
	var b bytes.Buffer
	if err := writeCSV(&b, rows, false); err != nil {
		t.Fatal(err)
	}
	lines := strings.Split(b.String(), "\n")
	for _, want := range []string{"labels.row,labels.site", "attributes.firmware,attributes.nested.deep", ",alarms,"} {
		if !strings.Contains(lines[0], want) {
			t.Errorf("the columns are %s, want %s among them", lines[0], want)
		}
	}
	for _, want := range []string{`"'=HYPERLINK(""x"")"`, "'-1+1,Kilnside", "silent; a; b", ",2,"} {
		if !strings.Contains(lines[1], want) {
			t.Errorf("the first line is %s, want %s in it", lines[1], want)
		}
	}
	if strings.ContainsAny(b.String(), "{}[]") {
		t.Errorf("there is JSON in %s", b.String())
	}
	for _, line := range lines[:3] {
		if n := strings.Count(lines[0], ","); strings.Count(line, ",") != n {
			t.Errorf("%s has %d commas, want %d", line, strings.Count(line, ","), n)
		}
	}
	b.Reset()
	writeCSV(&b, rows, true)
	if !strings.Contains(b.String(), `"=HYPERLINK(""x"")"`) {
		t.Errorf("raw it is %s", b.String())
	}
}
