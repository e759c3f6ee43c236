package expr

import (
	"strconv"
	"strings"
	"time"

	"ullage/core/unit"
	"ullage/core/value"
)

// Format writes src in its canonical form, or returns what is wrong with it.
func Format(src string) (string, error) {
	n, found := Parse(src)
	if errs := found.Errors(); len(errs) > 0 {
		return "", errs
	}
	return n.String(), nil
}

// precedence: the higher, the tighter.
func (n *Node) precedence() int {
	switch n.kind {
	case kIf:
		return 0
	case kOr:
		return 1
	case kAnd:
		return 2
	case kNot:
		return 3
	case kCompare, kBetween, kIn, kLike:
		return 4
	case kSum:
		return 5
	case kTerm:
		return 6
	case kNegate:
		return 7
	}
	return 8
}

// String writes n in the one canonical form: single spaces, no parentheses but
// those that are needed, durations in their largest units.
func (n *Node) String() string {
	var b strings.Builder
	n.write(&b)
	return b.String()
}

func (n *Node) inner(b *strings.Builder, least int) {
	if n.precedence() < least {
		b.WriteByte('(')
		n.write(b)
		b.WriteByte(')')
		return
	}
	n.write(b)
}

func number(f float64) string {
	s := strconv.FormatFloat(f, 'g', -1, 64)
	if plain := strconv.FormatFloat(f, 'f', -1, 64); len(plain) <= len(s)+12 && len(plain) <= 24 {
		return plain
	}
	return s
}

func (n *Node) write(b *strings.Builder) {
	switch n.kind {
	case kBad:
		b.WriteString("…")
	case kNumber:
		b.WriteString(number(n.num))
		if n.unit != "" {
			symbol := n.unit
			if u, err := unit.Lookup(symbol); err == nil && u.Symbol != "" {
				symbol = u.Symbol
			}
			b.WriteString(" '" + symbol + "'")
		}
	case kDuration:
		b.WriteString(duration(n.num))
	case kText:
		b.WriteString(quote(n.text))
	case kBool:
		b.WriteString(strconv.FormatBool(n.num != 0))
	case kName:
		b.WriteString(n.name.String())
	case kCall:
		b.WriteString(n.name.Key)
		b.WriteByte('(')
		for i, a := range n.args {
			switch {
			case i > 0 && i == len(n.args)-1 && n.over:
				b.WriteString(" over ")
			case i > 0:
				b.WriteString(", ")
			}
			a.write(b)
		}
		b.WriteByte(')')
	case kNegate:
		b.WriteByte('-')
		n.args[0].inner(b, 8)
	case kNot:
		b.WriteString("not ")
		n.args[0].inner(b, 3)
	case kIf:
		b.WriteString("if ")
		n.args[0].write(b)
		b.WriteString(" then ")
		n.args[1].write(b)
		b.WriteString(" else ")
		n.args[2].write(b)
	case kAnd, kOr:
		for i, a := range n.args {
			if i > 0 {
				b.WriteString(" " + n.op + " ")
			}
			a.inner(b, n.precedence()+1)
		}
	case kSum, kTerm:
		n.args[0].inner(b, n.precedence())
		b.WriteString(" " + n.op + " ")
		n.args[1].inner(b, n.precedence()+1)
	case kCompare:
		n.args[0].inner(b, 5)
		b.WriteString(" " + n.op + " ")
		n.args[1].inner(b, 5)
	case kBetween:
		n.args[0].inner(b, 5)
		b.WriteString(" " + n.op + " ")
		n.args[1].inner(b, 5)
		b.WriteString(" and ")
		n.args[2].inner(b, 5)
	case kIn:
		n.args[0].inner(b, 5)
		b.WriteString(" in (")
		for i, a := range n.args[1:] {
			if i > 0 {
				b.WriteString(", ")
			}
			a.write(b)
		}
		b.WriteByte(')')
	case kLike:
		n.args[0].inner(b, 5)
		b.WriteString(" like " + quote(n.text))
	}
}

// duration writes milliseconds as the language does.
func duration(ms float64) string {
	d := time.Duration(ms) * time.Millisecond
	return value.Duration(d).String()
}
