// Package logline reads what devices write into their log: lines of text, or JSON objects
// with a level.
package logline

import (
	"bytes"
	"encoding/json"
	"fmt"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"
)

// Level says how grave a line is.
type Level int

// The levels, the least first.
const (
	Debug Level = iota
	Info
	Warn
	Error
)

// Levels are their names, the least first.
var Levels = []string{"debug", "info", "warn", "error"}

// String returns the name of l.
func (l Level) String() string {
	if l < Debug || l > Error {
		return Levels[Info]
	}
	return Levels[l]
}

// LevelOf reads a level as devices and syslog (RFC 5424, section 6.2.1) write it.
func LevelOf(s string) (Level, bool) {
	switch strings.ToLower(strings.TrimSpace(s)) {
	case "debug", "trace", "verbose", "dbg":
		return Debug, true
	case "info", "information", "informational", "notice", "inf":
		return Info, true
	case "warn", "warning", "wrn":
		return Warn, true
	case "error", "err", "crit", "critical", "fatal", "alert", "emerg", "emergency", "panic":
		return Error, true
	}
	return Info, false
}

// Line is one line of a log.
type Line struct {
	At    time.Time // when the device wrote it, as far as it says so; else when it came
	Level Level
	Text  string
}

// The bounds of one message.
const (
	MaxLines = 1000
	MaxText  = 1000 // bytes of a line; what is longer is cut
)

// Finding is one line that was not taken.
type Finding struct {
	Line int // from 0
	Why  string
}

type object struct {
	At    json.RawMessage `json:"at"`
	Level string          `json:"level"`
	Text  *string         `json:"text"`
}

// Parse reads a message that arrived at a time: an object {"level":"warn","text":"…"}, an array
// of such objects, one on each line, or lines of plain text, of which a leading level is read,
// as in "WARN: no link". What is no line is told; an error says that nothing of it is one.
func Parse(body []byte, arrived time.Time) ([]Line, []Finding, error) {
	body = bytes.TrimSpace(body)
	if len(body) == 0 {
		return nil, nil, fmt.Errorf("the message is empty; send lines of text, or {\"level\":\"warn\",\"text\":\"…\"}")
	}
	var parts [][]byte
	if body[0] == '[' && json.Valid(body) {
		var raw []json.RawMessage
		if err := json.Unmarshal(body, &raw); err != nil {
			return nil, nil, err
		}
		for _, r := range raw {
			parts = append(parts, r)
		}
	} else if body[0] == '{' && json.Valid(body) {
		parts = [][]byte{body}
	} else {
		parts = bytes.Split(body, []byte("\n"))
	}
	var out []Line
	var wrong []Finding
	for i, part := range parts {
		if len(out) == MaxLines {
			wrong = append(wrong, Finding{i, fmt.Sprintf("is beyond the %d lines of one message", MaxLines)})
			break
		}
		part = bytes.TrimSpace(part)
		if len(part) == 0 {
			continue
		}
		l, err := line(part, arrived, body[0] == '[' && json.Valid(body))
		if err != nil {
			wrong = append(wrong, Finding{i, err.Error()})
			continue
		}
		out = append(out, l)
	}
	if len(out) == 0 && len(wrong) == 0 {
		return nil, nil, fmt.Errorf("no line has a text")
	}
	return out, wrong, nil
}

func line(part []byte, arrived time.Time, must bool) (Line, error) {
	l := Line{At: arrived, Level: Info}
	if part[0] != '{' || !json.Valid(part) {
		if must {
			return l, fmt.Errorf("is no object with a text")
		}
		text := clean(string(part))
		if text == "" {
			return l, fmt.Errorf("has no text")
		}
		l.Level, l.Text = leading(text)
		return l, nil
	}
	var o object
	if err := json.Unmarshal(part, &o); err != nil {
		return l, fmt.Errorf("has a level or a text that is none")
	}
	if o.Text == nil || strings.TrimSpace(*o.Text) == "" {
		return l, fmt.Errorf("has no text")
	}
	l.Text = clean(*o.Text)
	if o.Level != "" {
		l.Level, _ = LevelOf(o.Level)
	}
	l.At = timeOf(o.At, arrived)
	return l, nil
}

// earliest is the first time that is believed; a clock before it was never set.
var earliest = time.Date(2015, 1, 1, 0, 0, 0, 0, time.UTC)

// timeOf reads when a line was written: RFC 3339, or seconds or milliseconds since 1970. What
// cannot be is when it came.
func timeOf(raw json.RawMessage, arrived time.Time) time.Time {
	if len(raw) == 0 {
		return arrived
	}
	at := arrived
	var text string
	var number float64
	if json.Unmarshal(raw, &text) == nil {
		if t, err := time.Parse(time.RFC3339Nano, text); err == nil {
			at = t
		}
	} else if json.Unmarshal(raw, &number) == nil && number > 0 && number < 1e14 {
		if number < 1e11 {
			number *= 1000
		}
		at = time.UnixMilli(int64(number))
	}
	if at.Before(earliest) || at.After(arrived.Add(2*time.Minute)) {
		return arrived
	}
	return at.UTC()
}

// leading reads a level that a line begins with, and leaves the text as it is.
func leading(text string) (Level, string) {
	word := strings.TrimLeft(text, "[<( ")
	end := strings.IndexFunc(word, func(r rune) bool { return !unicode.IsLetter(r) })
	if end < 0 {
		return Info, text
	}
	marked := len(word) < len(text) || word[end] == ':' || word[end] == ']' || word[:end] == strings.ToUpper(word[:end])
	if l, ok := LevelOf(word[:end]); ok && marked {
		return l, text
	}
	return Info, text
}

// clean cuts a text and takes out what a terminal would obey.
func clean(s string) string {
	s = strings.ToValidUTF8(s, "�")
	s = strings.Map(func(r rune) rune {
		switch {
		case r == '\t':
			return ' '
		case unicode.IsControl(r), unicode.Is(unicode.Cf, r):
			return -1
		}
		return r
	}, s)
	s = strings.TrimSpace(s)
	if len(s) <= MaxText {
		return s
	}
	cut := MaxText - len("…")
	for cut > 0 && !utf8.RuneStart(s[cut]) {
		cut--
	}
	return s[:cut] + "…"
}
