package value

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Written checks what somebody has written, in one line or some: at most so many characters, all of
// them such that can be seen. It returns the rest of a sentence that begins with what the text is,
// such as "has 512 characters; 400 are the most", and nothing for a text that is right.
func Written(s string, most int) string {
	switch n := utf8.RuneCountInString(s); {
	case n > most:
		return fmt.Sprintf("has %d characters; %d are the most", n, most)
	case !utf8.ValidString(s):
		return "is not written in UTF-8"
	case strings.ContainsFunc(s, unseen):
		return "has characters that cannot be seen; leave them out"
	}
	return ""
}

// unseen are characters that do something to the text around them in place of being seen: those
// that control a terminal, and those that turn the direction of writing (Unicode Standard Annex
// #9), by which a text reads otherwise than it is.
func unseen(r rune) bool {
	return unicode.IsControl(r) && !strings.ContainsRune("\n\r\t", r) || unicode.Is(unicode.Bidi_Control, r) && !strings.ContainsRune("\u200e\u200f\u061c", r)
}
