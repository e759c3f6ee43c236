// Package expr reads and answers the comparisons that selectors and alarm
// rules are made of: one name, one operator, and a literal or another name, as
// in
//
//	must_temp > set.max_temp
//	co2 >= 5000 'ppm'
//	label.stage == "fermenting"
//
// Logic is three-valued (Kleene): a comparison with an unknown side is unknown.
package expr

import (
	"fmt"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"ullage/core/unit"
	"ullage/core/value"
)

// MaxSource is the longest expression that is read, in bytes.
const MaxSource = 64 << 10

// Truth is the answer of a comparison.
type Truth int8

// The three answers. The zero Truth is Unknown.
const (
	Unknown Truth = iota
	False
	True
)

// Of returns True or False.
func Of(b bool) Truth {
	if b {
		return True
	}
	return False
}

// Op is a comparison operator.
type Op string

// The operators.
const (
	Equal    Op = "=="
	NotEqual Op = "!="
	Less     Op = "<"
	AtMost   Op = "<="
	Greater  Op = ">"
	AtLeast  Op = ">="
)

// Upward reports whether op becomes true as its left side grows.
func (op Op) Upward() bool { return op == Greater || op == AtLeast }

// Ordered reports whether op compares sizes.
func (op Op) Ordered() bool { return op != Equal && op != NotEqual }

// Name is a bare telemetry name (Scope "") or one behind a prefix, such as
// set.max_temp or label.stage.
type Name struct{ Scope, Key string }

// String writes n as in the source.
func (n Name) String() string {
	if n.Scope == "" {
		return n.Key
	}
	return n.Scope + "." + n.Key
}

// Operand is a name, or a literal with an optional unit symbol.
type Operand struct {
	Name    Name
	Literal value.Value
	Unit    string
}

// IsName reports whether o stands for something to look up.
func (o Operand) IsName() bool { return o.Name.Key != "" }

// Comparison is one parsed comparison.
type Comparison struct {
	Left  Name
	Op    Op
	Right Operand
}

// Error is a mistake in an expression, with the column of its first rune.
type Error struct {
	Column   int // from 1
	Sentence string
}

// Error writes the column and the sentence.
func (e *Error) Error() string { return fmt.Sprintf("column %d: %s", e.Column, e.Sentence) }

// Scopes are the prefixes that names may stand behind.
var Scopes = []string{"set", "intended", "label", "attr", "device"}

// Parse reads one comparison. The error is of type *Error.
func Parse(src string) (*Comparison, error) {
	if len(src) > MaxSource {
		return nil, &Error{1, fmt.Sprintf("the expression has %d bytes; at most %d are read", len(src), MaxSource)}
	}
	l := lexer{src: src}
	c := &Comparison{}
	left, err := l.operand()
	if err != nil {
		return nil, err
	}
	if !left.IsName() {
		return nil, &Error{1, "the left side is a name, like must_temp or label.stage; turn the comparison round"}
	}
	c.Left = left.Name
	if c.Op, err = l.operator(); err != nil {
		return nil, err
	}
	if c.Right, err = l.operand(); err != nil {
		return nil, err
	}
	l.space()
	if l.pos < len(l.src) {
		return nil, l.fail("nothing more may follow; an expression is one comparison, like must_temp > set.max_temp")
	}
	if c.Op.Ordered() && !c.Right.IsName() && c.Right.Literal.Kind != value.Number {
		return nil, &Error{1, fmt.Sprintf("%s compares sizes, and %s has none; use == or !=", c.Op, c.Right.Literal.Kind)}
	}
	return c, nil
}

// String writes c in its canonical form.
func (c *Comparison) String() string {
	right := c.Right.Name.String()
	if !c.Right.IsName() {
		switch c.Right.Literal.Kind {
		case value.Text:
			right = strconv.Quote(c.Right.Literal.Text)
		default:
			right = c.Right.Literal.String()
			if c.Right.Unit != "" {
				right += " '" + c.Right.Unit + "'"
			}
		}
	}
	return fmt.Sprintf("%s %s %s", c.Left, c.Op, right)
}

// Compare answers left op right for two values in the same unit. Values of
// unlike kind, and unknown ones, give Unknown.
func Compare(left value.Value, op Op, right value.Value) Truth {
	if !left.Known() || left.Kind != right.Kind {
		return Unknown
	}
	switch op {
	case Equal:
		return Of(left == right)
	case NotEqual:
		return Of(left != right)
	}
	if left.Kind != value.Number {
		return Unknown
	}
	switch op {
	case Less:
		return Of(left.Num < right.Num)
	case AtMost:
		return Of(left.Num <= right.Num)
	case Greater:
		return Of(left.Num > right.Num)
	}
	return Of(left.Num >= right.Num)
}

type lexer struct {
	src string
	pos int
}

func (l *lexer) fail(format string, args ...any) *Error {
	return &Error{utf8.RuneCountInString(l.src[:l.pos]) + 1, fmt.Sprintf(format, args...)}
}

func (l *lexer) space() {
	for l.pos < len(l.src) && strings.IndexByte(" \t\r\n", l.src[l.pos]) >= 0 {
		l.pos++
	}
}

func (l *lexer) operator() (Op, error) {
	l.space()
	rest := l.src[l.pos:]
	for _, op := range []Op{Equal, NotEqual, AtMost, AtLeast, Less, Greater} {
		if strings.HasPrefix(rest, string(op)) {
			l.pos += len(op)
			return op, nil
		}
	}
	if strings.HasPrefix(rest, "=") {
		return "", l.fail("a comparison is written with two signs: ==")
	}
	return "", l.fail("a comparison is missing here; one of == != < <= > >=")
}

func (l *lexer) operand() (Operand, error) {
	l.space()
	if l.pos == len(l.src) {
		return Operand{}, l.fail("a name or a value is missing at the end")
	}
	switch c := l.src[l.pos]; {
	case c == '"':
		return l.text()
	case c == '-' || c >= '0' && c <= '9':
		return l.number()
	case c >= 'a' && c <= 'z':
		return l.name()
	case c == '\'':
		return Operand{}, l.fail(`text stands in double quotes, like "fermenting"`)
	}
	r, _ := utf8.DecodeRuneInString(l.src[l.pos:])
	return Operand{}, l.fail("%q starts neither a name nor a value", r)
}

func (l *lexer) text() (Operand, error) {
	start := l.pos
	for i := start + 1; i < len(l.src); i++ {
		switch l.src[i] {
		case '\\':
			i++
		case '"':
			s, err := strconv.Unquote(l.src[start : i+1])
			if err != nil {
				return Operand{}, l.fail(`this text has an escape that does not exist; \" and \\ do`)
			}
			l.pos = i + 1
			return Operand{Literal: value.OfText(s)}, nil
		}
	}
	return Operand{}, l.fail("the closing quote is missing")
}

func (l *lexer) number() (Operand, error) {
	start := l.pos
	end := start + 1
	for end < len(l.src) && (strings.IndexByte("0123456789.eE", l.src[end]) >= 0 ||
		strings.IndexByte("+-", l.src[end]) >= 0 && strings.IndexByte("eE", l.src[end-1]) >= 0) {
		end++
	}
	f, err := strconv.ParseFloat(l.src[start:end], 64)
	if err != nil {
		return Operand{}, l.fail("%q is no number", l.src[start:end])
	}
	o := Operand{Literal: value.OfNumber(f)}
	l.pos = end
	l.space()
	if l.pos < len(l.src) && l.src[l.pos] == '\'' {
		close := strings.IndexByte(l.src[l.pos+1:], '\'')
		if close < 0 {
			return Operand{}, l.fail("the unit's closing quote is missing")
		}
		o.Unit = l.src[l.pos+1 : l.pos+1+close]
		if _, err := unit.Lookup(o.Unit); err != nil || o.Unit == "" {
			return Operand{}, l.fail("the unit '%s' is not known; a symbol such as 'Cel' or 'ppm' stands here", o.Unit)
		}
		l.pos += close + 2
	}
	return o, nil
}

func (l *lexer) name() (Operand, error) {
	first := l.word()
	switch first {
	case "true", "false":
		return Operand{Literal: value.OfBool(first == "true")}, nil
	}
	if l.pos < len(l.src) && l.src[l.pos] == '.' {
		known := false
		for _, s := range Scopes {
			known = known || s == first
		}
		if !known {
			return Operand{}, l.fail("%q is no prefix; one of %s is", first, strings.Join(Scopes, ", "))
		}
		l.pos++
		key := l.word()
		if key == "" {
			return Operand{}, l.fail("a name is missing after %s.", first)
		}
		return Operand{Name: Name{first, key}}, nil
	}
	return Operand{Name: Name{Key: first}}, nil
}

func (l *lexer) word() string {
	start := l.pos
	for l.pos < len(l.src) {
		c := rune(l.src[l.pos])
		if c != '_' && (c > unicode.MaxASCII || !unicode.IsLetter(c) && !unicode.IsDigit(c)) {
			break
		}
		l.pos++
	}
	return l.src[start:l.pos]
}
