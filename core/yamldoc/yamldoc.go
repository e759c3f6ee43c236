// Package yamldoc bounds files, and looks at YAML before it is parsed. A parser that follows
// every bracket down needs memory, and time, beyond all bounds for a small file
// that opens a hundred thousand of them.
package yamldoc

import (
	"bytes"
	"fmt"
)

// MaxDepth is how deep a file may be nested by brackets, or by indicators on
// one line; no file that a person writes comes near it.
const MaxDepth = 64

// MaxSiblings is how many entries one mapping or list may have. The parser looks
// for each key among all others, so that time grows with their square.
const MaxSiblings = 5000

// Bounded reports, with its line, the first place where a file is nested deeper
// than MaxDepth, has more than MaxSiblings entries side by side, or begins a second
// document, which a parser of one would leave out without a word; nil where there is none. It knows quotes and comments, and counts what it is not sure of.
func Bounded(src []byte) error {
	if err := single(src); err != nil {
		return err
	}
	depth, line := 0, 1
	var entries [MaxDepth + 2]int // by depth of brackets
	var blocks levels
	quote := byte(0)
	leading, start := 0, true // indicators that a line begins with
	for i := 0; i < len(src); i++ {
		c := src[i]
		if quote == 0 && depth == 0 && (i == 0 || src[i-1] == '\n') && blocks.line(src[i:]) > MaxSiblings {
			return fmt.Errorf("line %d: there are more than %d entries side by side", line, MaxSiblings)
		}
		if c == '\n' {
			line, leading, start = line+1, 0, true
			continue
		}
		if quote != 0 {
			switch {
			case c == '\\' && quote == '"':
				i++
				if i < len(src) && src[i] == '\n' {
					line++
				}
			case c == quote:
				quote = 0
			}
			continue
		}
		switch c {
		case '#':
			if i == 0 || src[i-1] == ' ' || src[i-1] == '\n' || src[i-1] == '\t' {
				for i+1 < len(src) && src[i+1] != '\n' {
					i++
				}
			}
		case '"', '\'':
			// A quote inside a word is no quote.
			if i == 0 || !wordly(src[i-1]) {
				quote = c
			}
			start = false
		case '[', '{':
			depth++
			start = false
			if depth <= MaxDepth {
				entries[depth] = 0
			}
		case ',':
			if entries[depth]++; depth > 0 && entries[depth] > MaxSiblings {
				return fmt.Errorf("line %d: there are more than %d entries side by side", line, MaxSiblings)
			}
		case ']', '}':
			depth = max(depth-1, 0)
			start = false
		case '-', '?', ':':
			if start && (i+1 == len(src) || src[i+1] == ' ' || src[i+1] == '\n' || src[i+1] == '\t') {
				leading++
			} else {
				start = false
			}
		case ' ', '\t', '\r':
		default:
			start = false
		}
		if depth > MaxDepth || leading > MaxDepth {
			return fmt.Errorf("line %d: the file is nested more than %d deep", line, MaxDepth)
		}
	}
	return nil
}

// single reports where a second document begins. A line that begins with --- does that wherever it
// stands: YAML 1.2.2, section 9.1.2, forbids it inside of texts.
func single(src []byte) error {
	marker, begun, n := 0, false, 0
	for line := range bytes.Lines(src) {
		n++
		text := bytes.TrimRight(line, " \t\r\n")
		rest, marks := bytes.CutPrefix(text, []byte("---"))
		marks = marks && (len(rest) == 0 || rest[0] == ' ' || rest[0] == '\t')
		if marks && begun {
			marker = n
		}
		if marks {
			text = bytes.TrimSpace(rest)
		}
		if len(text) == 0 || bytes.TrimLeft(text, " \t")[0] == '#' || text[0] == '%' && !begun || string(text) == "..." {
			continue
		}
		if begun = true; marker > 0 {
			return fmt.Errorf("line %d: a second document begins here; a file is one YAML document, so put it into a file of its own beside this one", marker)
		}
	}
	return nil
}

// levels counts the lines of each indentation since the last line of a lesser one.
type levels []struct{ indent, count int }

// line takes the line that src begins with and returns how many stand beside it.
func (l *levels) line(src []byte) int {
	indent := 0
	for indent < len(src) && src[indent] == ' ' {
		indent++
	}
	if indent == len(src) || src[indent] == '\n' || src[indent] == '#' {
		return 0
	}
	for len(*l) > 0 && (*l)[len(*l)-1].indent > indent {
		*l = (*l)[:len(*l)-1]
	}
	if n := len(*l); n > 0 && (*l)[n-1].indent == indent {
		(*l)[n-1].count++
		return (*l)[n-1].count
	}
	*l = append(*l, struct{ indent, count int }{indent, 1})
	return 1
}

func wordly(c byte) bool {
	return c == '_' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= 0x80
}
