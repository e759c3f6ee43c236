package cli

import (
	"bytes"
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"strings"
	"unicode/utf8"
)

// What devices and strangers wrote may hold control characters, which a terminal
// obeys: it could be made to show something that nobody said. safe shows them as
// they would be written in a program, such as \x1b. Our own colours pass.
type safe struct {
	w io.Writer
	// own begins a colour of ours; nobody else can know it.
	own string
	raw bool // --raw: everything as it is
}

func newSafe(w io.Writer, raw bool) *safe {
	var b [8]byte
	rand.Read(b[:])
	return &safe{w: w, own: "\x00" + hex.EncodeToString(b[:]) + ":", raw: raw}
}

func (s *safe) Write(b []byte) (int, error) {
	var out bytes.Buffer
	rest := string(b)
	for rest != "" {
		if after, ours := strings.CutPrefix(rest, s.own); ours {
			code, left, _ := strings.Cut(after, ";")
			out.WriteString("\x1b[" + code + "m")
			rest = left
			continue
		}
		r, n := utf8.DecodeRuneInString(rest)
		if r == '\n' || r == '\t' || s.raw || !hidden(r) && (r != utf8.RuneError || n > 1) {
			out.WriteString(rest[:n])
		} else {
			out.WriteString(escaped(r, rest[:n]))
		}
		rest = rest[n:]
	}
	if _, err := s.w.Write(out.Bytes()); err != nil {
		return 0, err
	}
	return len(b), nil
}

// hidden reports whether a character does something instead of being shown:
// controls, and those that change the direction of what follows.
func hidden(r rune) bool {
	return r < 0x20 || r >= 0x7f && r <= 0x9f || r >= 0x202a && r <= 0x202e || r >= 0x2066 && r <= 0x2069 ||
		r == 0x2028 || r == 0x2029 || r == 0x200e || r == 0x200f || r == 0xfeff
}

// harmless is a text of somebody else as it may stand in a line of a terminal.
func harmless(text string) string {
	var b strings.Builder
	for rest := oneLine(text); rest != ""; {
		r, n := utf8.DecodeRuneInString(rest)
		if hidden(r) || r == utf8.RuneError && n == 1 {
			b.WriteString(escaped(r, rest[:n]))
		} else {
			b.WriteString(rest[:n])
		}
		rest = rest[n:]
	}
	return b.String()
}

func escaped(r rune, bytes string) string {
	switch {
	case r == '\r':
		return `\r`
	case r == utf8.RuneError && len(bytes) == 1, r < 0x100:
		return fmt.Sprintf(`\x%02x`, bytes[len(bytes)-1])
	}
	return fmt.Sprintf(`\u%04x`, r)
}

// oneLine keeps what somebody else wrote within its line.
func oneLine(s string) string {
	return strings.NewReplacer("\r\n", `\n`, "\n", `\n`, "\t", `\t`).Replace(s)
}

// file is the file that w writes to in the end; nil for none.
func file(w io.Writer) *os.File {
	if s, ok := w.(*safe); ok {
		w = s.w
	}
	f, _ := w.(*os.File)
	return f
}
