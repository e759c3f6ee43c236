// Package expr is the expression language of Ullage: one small typed language
// for selecting devices, raising alarms, targeting settings and gating
// rollouts, as in
//
//	must_temp > set.max_temp and label.stage == "fermenting"
//	mean(co2 over 10min) > 2000 'ppm' or age(co2) > 15min
//
// Values carry units and convert; any value may be unknown, and logic is
// three-valued (Kleene 1938). Parse reads a text into a tree and reports every
// mistake at once; Check types the tree against a Schema, which is all that
// this package knows of models; a Program answers true, false or unknown for
// one Frame of values, with the margin that is left (Donzé and Maler, Robust
// satisfaction of temporal logic over real-valued signals, FORMATS 2010). A
// State keeps the windows of one device up to date reading by reading.
package expr

import (
	"fmt"
	"strings"
	"unicode/utf8"
)

// The bounds of one expression.
const (
	MaxSource  = 64 << 10 // bytes
	MaxDepth   = 100      // nested parentheses, calls and negations
	MaxNodes   = 2000     // names, values and operators
	MaxWindows = 32
	maxErrors  = 20
)

// Truth is the answer of a condition.
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

// Not returns the opposite; that of Unknown is Unknown.
func (t Truth) Not() Truth {
	switch t {
	case True:
		return False
	case False:
		return True
	}
	return Unknown
}

// String returns "true", "false" or "unknown".
func (t Truth) String() string {
	switch t {
	case True:
		return "true"
	case False:
		return "false"
	}
	return "unknown"
}

// Name is what stands for a value: a bare telemetry name (Scope "") or one
// behind a prefix, such as set.max_temp or label.stage.
type Name struct{ Scope, Key string }

// String writes n as in the source.
func (n Name) String() string {
	switch {
	case n.Scope == "raised":
		return "raised(" + n.Key + ")"
	case !isPlain(n.Key) && n.Scope == "":
		return "value(" + quote(n.Key) + ")"
	case n.Scope == "":
		return n.Key
	}
	return n.Scope + "." + n.Key
}

// Scopes are the prefixes that names may stand behind.
var Scopes = []string{"attr", "device", "intended", "label", "set"}

// Span is a part of the source, in bytes from its start.
type Span struct {
	Start int `json:"start" doc:"First byte"`
	End   int `json:"end" doc:"Byte after the last one"`
}

// Finding is one mistake, or a warning, in an expression.
type Finding struct {
	Span     Span
	Column   int    // of the first character, from 1
	Line     int    // from 1
	Sentence string // what is wrong and what would be right
	// Suggest is what to write in place of Span; empty where nothing is certain.
	Suggest string
	Warning bool // the expression can be used all the same
}

// Error writes the place and the sentence.
func (f Finding) Error() string {
	if f.Line > 1 {
		return fmt.Sprintf("line %d, column %d: %s", f.Line, f.Column, f.Sentence)
	}
	return fmt.Sprintf("column %d: %s", f.Column, f.Sentence)
}

// Findings are everything that is wrong with an expression, in its order.
type Findings []Finding

// Error joins the sentences, each with its column.
func (f Findings) Error() string {
	parts := make([]string, len(f))
	for i, x := range f {
		parts[i] = x.Error()
	}
	return strings.Join(parts, "; ")
}

// Errors returns those that are no warnings.
func (f Findings) Errors() Findings {
	var out Findings
	for _, x := range f {
		if !x.Warning {
			out = append(out, x)
		}
	}
	return out
}

// place fills in line and column of spans within src.
func (f Findings) place(src string) {
	for i := range f {
		at := min(f[i].Span.Start, len(src))
		before := src[:at]
		line := strings.LastIndexByte(before, '\n') + 1
		f[i].Line = strings.Count(before, "\n") + 1
		f[i].Column = utf8.RuneCountInString(before[line:]) + 1
	}
}

// kind says what a Node is.
type kind uint8

const (
	kBad kind = iota // stands where something could not be read
	kNumber
	kDuration
	kText
	kBool
	kName
	kCall
	kNegate
	kSum // + and -
	kTerm
	kCompare
	kBetween // Op is between or outside
	kIn
	kLike
	kNot
	kAnd // two or more
	kOr
	kIf
)

// Node is one part of a parsed expression.
type Node struct {
	Span Span

	kind kind
	op   string
	name Name // names; Key is the function of calls
	text string
	num  float64 // numbers; durations in milliseconds
	unit string
	args []*Node
	over bool // of calls: the last argument is a window, written after over
}

// Names calls yield for every name in n, in the order of the text.
func (n *Node) Names(yield func(Name, Span)) {
	if n.kind == kName {
		yield(n.name, n.Span)
	}
	for _, a := range n.args {
		a.Names(yield)
	}
}

// Bind writes the names of a scope in src as the texts that they stand for. It returns src
// as it is where it cannot be read.
func Bind(src, scope string, text func(key string) string) string {
	n, found := Parse(src)
	if len(found.Errors()) > 0 {
		return src
	}
	var b strings.Builder
	at := 0
	n.Names(func(name Name, span Span) {
		if name.Scope == scope && span.Start >= at {
			b.WriteString(src[at:span.Start])
			b.WriteString(quote(text(name.Key)))
			at = span.End
		}
	})
	b.WriteString(src[at:])
	return b.String()
}

// Only returns the texts of which a name must have one for n to be true, as far as that is
// written down: label.a == "x" and device.model in ("p", "q"). It reports false where n says
// nothing about it.
func (n *Node) Only(name Name) ([]string, bool) {
	switch n.kind {
	case kAnd:
		for _, a := range n.args {
			if texts, ok := a.Only(name); ok {
				return texts, true
			}
		}
	case kOr:
		var all []string
		for _, a := range n.args {
			texts, ok := a.Only(name)
			if !ok {
				return nil, false
			}
			all = append(all, texts...)
		}
		return all, true
	case kCompare:
		if n.op != "==" || len(n.args) != 2 {
			return nil, false
		}
		for i := range 2 {
			if x, y := n.args[i], n.args[1-i]; x.kind == kName && x.name == name && y.kind == kText {
				return []string{y.text}, true
			}
		}
	case kIn:
		if n.op == "not" || len(n.args) == 0 || n.args[0].kind != kName || n.args[0].name != name {
			return nil, false
		}
		var all []string
		for _, a := range n.args[1:] {
			all = append(all, a.text)
		}
		return all, true
	}
	return nil, false
}

// Must returns the bare names with which a function is called where n can be true only if
// the call is, as far as that is written down: a and raised(b).
func (n *Node) Must(function string) []string {
	switch {
	case n.kind == kCall && n.name.Key == function && len(n.args) == 1 && n.args[0].kind == kName:
		return []string{n.args[0].name.Key}
	case n.kind == kAnd:
		var out []string
		for _, a := range n.args {
			out = append(out, a.Must(function)...)
		}
		return out
	}
	return nil
}

// Schedules calls yield for every text of during(…) in n.
func (n *Node) Schedules(yield func(src string)) {
	if n.kind == kCall && n.name.Key == "during" && len(n.args) == 1 && n.args[0].kind == kText {
		yield(n.args[0].text)
	}
	for _, a := range n.args {
		a.Schedules(yield)
	}
}

// Spans calls yield for every call of a function in n that takes one thing, with the place
// of the call and of the thing.
func (n *Node) Spans(function string, yield func(call, thing Span)) {
	if n.kind == kCall && n.name.Key == function && len(n.args) == 1 {
		yield(n.Span, n.args[0].Span)
		return
	}
	for _, a := range n.args {
		a.Spans(function, yield)
	}
}

// Calls yield for every call of a function in n that takes a bare name, with
// that name.
func (n *Node) Calls(function string, yield func(name string)) {
	if n.kind == kCall && n.name.Key == function && len(n.args) == 1 && n.args[0].kind == kName {
		yield(n.args[0].name.Key)
	}
	for _, a := range n.args {
		a.Calls(function, yield)
	}
}

func isPlain(s string) bool {
	for i := 0; i < len(s); i++ {
		if !(s[i] == '_' || s[i] >= 'a' && s[i] <= 'z' || s[i] >= 'A' && s[i] <= 'Z' ||
			i > 0 && s[i] >= '0' && s[i] <= '9') {
			return false
		}
	}
	return s != "" && !keywords[s]
}

var keywords = map[string]bool{"if": true, "then": true, "else": true, "or": true, "and": true, "not": true,
	"between": true, "outside": true, "in": true, "like": true, "true": true, "false": true}

// quote writes a text literal: quote and backslash are escaped, and what
// cannot be seen is written as \n, \t or \u{…}.
func quote(s string) string {
	var b strings.Builder
	b.WriteByte('"')
	for _, r := range s {
		switch {
		case r == '"' || r == '\\':
			b.WriteByte('\\')
			b.WriteRune(r)
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\t':
			b.WriteString(`\t`)
		case r < ' ' || r == 0x7f:
			fmt.Fprintf(&b, `\u{%x}`, r)
		default:
			b.WriteRune(r)
		}
	}
	b.WriteByte('"')
	return b.String()
}

// finite reports whether f is neither infinite nor NaN: both are not 0 when
// they are taken from themselves.
func finite(f float64) bool { return f-f == 0 }
