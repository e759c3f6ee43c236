package logline_test

import (
	"fmt"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"ullage/core/logline"
)

var arrived = time.Date(2026, 9, 12, 2, 14, 0, 0, time.UTC)

func TestParse(t *testing.T) {
	for _, c := range []struct {
		body  string
		want  string // level, text and how long ago of each line
		wrong int
		fails bool
	}{
		{`{"level":"warn","text":"radio lost"}`, "warn radio lost 0s", 0, false},
		{`{"text":"radio lost","at":"2026-09-12T02:13:00Z"}`, "info radio lost 1m0s", 0, false},
		{`{"text":"a","at":1789179180}`, "info a 1m0s", 0, false},
		{`{"text":"a","at":1789179180000}`, "info a 1m0s", 0, false},
		{`{"text":"a","at":12}`, "info a 0s", 0, false},
		{`{"text":"a","at":"2031-01-01T00:00:00Z"}`, "info a 0s", 0, false},
		{`[{"level":"ERR","text":"a"},{"level":"debug","text":"b"}]`, "error a 0s|debug b 0s", 0, false},
		{`[{"level":"error"},{"text":"b"},7]`, "info b 0s", 2, false},
		{"{\"text\":\"a\"}\n{\"level\":\"fatal\",\"text\":\"b\"}\n", "info a 0s|error b 0s", 0, false},
		{"boot\nWARN: no link\n[error] gone\n\nwarning signs are up\r\n", "info boot 0s|warn WARN: no link 0s|error [error] gone 0s|info warning signs are up 0s", 0, false},
		{`{"text":7}`, "", 1, false},
		{`{"text":"half`, `info {"text":"half 0s`, 0, false},
		{"\x1b[31mred\x07\x00", "info [31mred 0s", 0, false},
		{"\xff\xfe", "info � 0s", 0, false},
		{"\x00\x01", "", 1, false},
		{"", "", 0, true},
		{"[]", "", 0, true},
	} {
		lines, wrong, err := logline.Parse([]byte(c.body), arrived)
		var got []string
		for _, l := range lines {
			got = append(got, fmt.Sprint(l.Level, " ", l.Text, " ", arrived.Sub(l.At)))
		}
		if s := strings.Join(got, "|"); s != c.want || len(wrong) != c.wrong || (err != nil) != c.fails {
			t.Errorf("%q came as %q, %v, %v", c.body, s, wrong, err)
		}
	}
	lines, wrong, _ := logline.Parse([]byte(strings.Repeat("x\n", 5000)), arrived)
	if len(lines) != logline.MaxLines || len(wrong) != 1 {
		t.Errorf("of 5,000 lines %d were taken", len(lines))
	}
}

// FuzzParse: whatever comes, lines are bounded, valid and harmless on a terminal.
func FuzzParse(f *testing.F) {
	f.Add([]byte(`{"level":"warn","text":"radio lost"}`))
	f.Add([]byte("WARN: no link\n[error] gone"))
	f.Add([]byte(`[{"text":"a","at":1e13},{"text":"b"}]`))
	f.Fuzz(func(t *testing.T, body []byte) {
		lines, _, _ := logline.Parse(body, arrived)
		if len(lines) > logline.MaxLines {
			t.Fatalf("%d lines", len(lines))
		}
		for _, l := range lines {
			if l.Text == "" || len(l.Text) > logline.MaxText || !utf8.ValidString(l.Text) || strings.ContainsAny(l.Text, "\x1b\n\r\x00") {
				t.Errorf("a line is %q", l.Text)
			}
			if l.At.After(arrived.Add(2*time.Minute)) || l.At.Year() < 2015 || l.Level < logline.Debug || l.Level > logline.Error {
				t.Errorf("a line is of %s, %d", l.At, l.Level)
			}
		}
	})
}
