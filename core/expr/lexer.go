package expr

import (
	"fmt"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"ullage/core/value"
)

type tokenKind uint8

const (
	tEnd tokenKind = iota
	tWord
	tNumber
	tDuration
	tText
	tUnit
	tSign // operators, parentheses, comma, dot
	tBad  // already reported
)

type token struct {
	kind tokenKind
	span Span
	text string  // words, signs, the content of texts and units
	num  float64 // numbers; durations in milliseconds
}

// signs are read longest first. Those that map to something else are habits
// from other languages; they are reported and read as what was meant.
var signs = []struct{ sign, meant string }{
	{"==", ""}, {"!=", ""}, {"<=", ""}, {">=", ""}, {"<>", "!="}, {"=<", "<="}, {"=>", ">="}, {"&&", "and"}, {"||", "or"},
	{"≥", ">="}, {"≤", "<="}, {"≠", "!="}, {"×", "*"}, {"÷", "/"}, {"−", "-"}, {"∧", "and"}, {"∨", "or"}, {"¬", "not"},
	{"<", ""}, {">", ""}, {"(", ""}, {")", ""}, {",", ""}, {".", ""}, {"+", ""}, {"-", ""}, {"*", ""}, {"/", ""},
	{"=", "=="}, {"&", "and"}, {"|", "or"}, {"!", "not"}, {"[", "("}, {"]", ")"}, {"{", "("}, {"}", ")"},
}

type lexer struct {
	src   string
	pos   int
	found Findings
}

// lex reads the whole source. There is always an end token.
func lex(src string) ([]token, Findings) {
	l := &lexer{src: src}
	var out []token
	for {
		t := l.next()
		out = append(out, t)
		if t.kind == tEnd {
			return out, l.found
		}
	}
}

func (l *lexer) report(s Span, suggest, format string, args ...any) {
	if len(l.found) < maxErrors {
		l.found = append(l.found, Finding{Span: s, Suggest: suggest, Sentence: fmt.Sprintf(format, args...)})
	}
}

func (l *lexer) next() token {
	for l.pos < len(l.src) && strings.IndexByte(" \t\r\n", l.src[l.pos]) >= 0 {
		l.pos++
	}
	start := l.pos
	if start == len(l.src) {
		return token{kind: tEnd, span: Span{start, start}}
	}
	switch c := l.src[start]; {
	case c >= '0' && c <= '9' || c == '.' && start+1 < len(l.src) && l.src[start+1] >= '0' && l.src[start+1] <= '9':
		return l.number(start)
	case c == '"':
		return l.text(start)
	case c == '\'':
		return l.unit(start)
	case c == '_' || c < utf8.RuneSelf && unicode.IsLetter(rune(c)):
		for l.pos < len(l.src) && wordByte(l.src[l.pos]) {
			l.pos++
		}
		if r, _ := utf8.DecodeRuneInString(l.src[l.pos:]); r < utf8.RuneSelf || !unicode.IsLetter(r) {
			return token{kind: tWord, span: Span{start, l.pos}, text: l.src[start:l.pos]}
		}
		l.pos = start
	}
	for _, s := range signs {
		if strings.HasPrefix(l.src[start:], s.sign) {
			l.pos += len(s.sign)
			t := token{kind: tSign, span: Span{start, l.pos}, text: s.sign}
			if s.meant != "" {
				t.text = s.meant
				what := "is written"
				if s.sign == "=" {
					what = "compares with two signs:"
				}
				suggest := s.meant
				if keywords[s.meant] {
					t.kind = tWord
					if start > 0 && wordByte(l.src[start-1]) {
						suggest = " " + suggest
					}
					if l.pos < len(l.src) && wordByte(l.src[l.pos]) {
						suggest += " "
					}
				}
				l.report(t.span, suggest, "%s %s %s", s.sign, what, s.meant)
			}
			return t
		}
	}
	r, size := utf8.DecodeRuneInString(l.src[start:])
	l.pos += size
	s := Span{start, l.pos}
	switch {
	case r == '“' || r == '”' || r == '„' || r == '«' || r == '»':
		if end := strings.IndexAny(l.src[l.pos:], "“”„«»\""); end >= 0 {
			_, last := utf8.DecodeRuneInString(l.src[l.pos+end:])
			content := l.src[l.pos : l.pos+end]
			l.pos += end + last
			s.End = l.pos
			l.report(s, quote(content), "text stands in straight double quotes: %s", quote(clip(content)))
			return token{kind: tText, span: s, text: content}
		}
	case strings.ContainsRune("°µμΩ%‰", r) && l.behindNumber(start):
		for l.pos < len(l.src) && !strings.ContainsRune(" \t\r\n()<>=!,'\"", rune(l.src[l.pos])) {
			l.pos++
		}
		s.End = l.pos
		word := l.src[start:l.pos]
		suggest := "'" + word + "'"
		if l.src[start-1] != ' ' {
			suggest = " " + suggest
		}
		l.report(s, suggest, "a unit stands in single quotes behind its number: '%s'", clip(word))
		return token{kind: tUnit, span: s, text: word}
	case r == utf8.RuneError && size == 1:
		l.report(s, "", "there is a byte here that is no character (the text is not UTF-8)")
		return token{kind: tBad, span: s}
	case unicode.IsLetter(r):
		for l.pos < len(l.src) {
			r, size := utf8.DecodeRuneInString(l.src[l.pos:])
			if !unicode.IsLetter(r) && !unicode.IsDigit(r) && r != '_' || r == utf8.RuneError {
				break
			}
			l.pos += size
		}
		s.End = l.pos
		word := l.src[s.Start:s.End]
		l.report(s, "", "names are written with the letters a to z; one that is not stands as value(%s)",
			quote(clip(word)))
		return token{kind: tBad, span: s}
	}
	l.report(s, "", "%q has no meaning here", r)
	return token{kind: tBad, span: s}
}

// behindNumber reports whether the text before a place ends with a digit.
func (l *lexer) behindNumber(at int) bool {
	before := strings.TrimRight(l.src[:at], " \t")
	return before != "" && before[len(before)-1] >= '0' && before[len(before)-1] <= '9'
}

func wordByte(c byte) bool {
	return c == '_' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9'
}

func (l *lexer) number(start int) token {
	for l.pos < len(l.src) {
		c := l.src[l.pos]
		exponent := (c == '+' || c == '-') && l.pos > start && (l.src[l.pos-1] == 'e' || l.src[l.pos-1] == 'E') &&
			digits(l.src[start:l.pos-1])
		if !wordByte(c) && c != '.' && !exponent {
			break
		}
		l.pos++
	}
	s := Span{start, l.pos}
	word := l.src[start:l.pos]
	letter := strings.IndexFunc(word, unicode.IsLetter)
	if f, err := strconv.ParseFloat(word, 64); (err == nil || f != 0) && !strings.ContainsAny(word, "xXpPiInN_") {
		if !finite(f) {
			l.report(s, "", "%s is larger than any number that can be held", clip(word))
			f = 0
		}
		return token{kind: tNumber, span: s, num: f}
	}
	if letter > 0 {
		if d, err := value.ParseDuration(word); err == nil {
			return token{kind: tDuration, span: s, num: float64(d.Std().Milliseconds())}
		}
		head := word[:letter]
		if f, err := strconv.ParseFloat(head, 64); err == nil {
			tail := word[letter:]
			if meant, ok := durationWords[strings.ToLower(tail)]; ok && digits(head) && !strings.Contains(head, ".") {
				l.report(s, head+meant, "a duration is written 90s, 10min, 2h or 7d; did you mean %s%s?", head, meant)
				d, err := value.ParseDuration(head + meant)
				if err != nil {
					d = 0
				}
				return token{kind: tDuration, span: s, num: float64(d.Std().Milliseconds())}
			}
			if _, isTime := durationWords[strings.ToLower(tail)]; isTime {
				l.report(s, "", "a duration is written in whole numbers, such as 1h30min or 90min")
				return token{kind: tDuration, span: s}
			}
			l.report(s, head+" '"+tail+"'", "a unit stands in single quotes behind its number: %s '%s'", head,
				clip(tail))
			return token{kind: tNumber, span: s, num: f}
		}
	}
	l.report(s, "", "%q is no number", clip(word))
	return token{kind: tNumber, span: s}
}

var durationWords = map[string]string{"m": "min", "mins": "min", "minute": "min", "minutes": "min", "sec": "s",
	"secs": "s", "second": "s", "seconds": "s", "hr": "h", "hrs": "h", "hour": "h", "hours": "h", "day": "d", "days": "d", "s": "s", "min": "min", "h": "h", "d": "d"}

func digits(s string) bool {
	for i := 0; i < len(s); i++ {
		if (s[i] < '0' || s[i] > '9') && s[i] != '.' {
			return false
		}
	}
	return s != ""
}

func (l *lexer) text(start int) token {
	var b strings.Builder
	for i := start + 1; i < len(l.src); {
		switch c := l.src[i]; {
		case c == '"':
			l.pos = i + 1
			return token{kind: tText, span: Span{start, l.pos}, text: b.String()}
		case c != '\\':
			b.WriteByte(c)
			i++
		case i+1 == len(l.src):
			i++
		default:
			switch e := l.src[i+1]; e {
			case '"', '\\':
				b.WriteByte(e)
			case 'n':
				b.WriteByte('\n')
			case 't':
				b.WriteByte('\t')
			case 'u':
				if end := strings.IndexByte(l.src[i:], '}'); end > 3 && end < 10 && l.src[i+2] == '{' {
					if n, err := strconv.ParseUint(l.src[i+3:i+end], 16, 32); err == nil && utf8.ValidRune(rune(n)) {
						b.WriteRune(rune(n))
						i += end - 1
						break
					}
				}
				fallthrough
			default:
				_, size := utf8.DecodeRuneInString(l.src[i+1:])
				l.report(Span{i, i + 1 + size}, "", `there is no such escape; \" \\ \n \t and \u{e9} are`)
				i += size - 1
			}
			i += 2
		}
	}
	l.pos = len(l.src)
	l.report(Span{start, len(l.src)}, "", "the closing double quote of this text is missing")
	return token{kind: tText, span: Span{start, l.pos}, text: b.String()}
}

func (l *lexer) unit(start int) token {
	end := strings.IndexAny(l.src[start+1:], "'\n")
	if end < 0 || l.src[start+1+end] == '\n' {
		l.pos = len(l.src)
		l.report(Span{start, l.pos}, "", "the closing quote of this unit is missing")
		return token{kind: tUnit, span: Span{start, l.pos}, text: strings.TrimSpace(l.src[start+1:])}
	}
	l.pos = start + end + 2
	return token{kind: tUnit, span: Span{start, l.pos}, text: l.src[start+1 : l.pos-1]}
}

// clip shortens what is repeated in a sentence.
func clip(s string) string { return value.Clip(s, 40) }
