package expr

import (
	"fmt"
	"slices"
	"strings"

	"ullage/core/unit"
	"ullage/core/value"
)

// Parse reads src. The tree is never nil, also where there are findings: what
// could not be read is left out of it. Every mistake is reported at once.
func Parse(src string) (*Node, Findings) {
	if len(src) > MaxSource {
		f := Findings{{Span: Span{0, len(src)}, Sentence: fmt.Sprintf("the expression has %d bytes; at most %d are read", len(src), MaxSource)}}
		f.place("")
		return &Node{}, f
	}
	tokens, found := lex(src)
	p := &parser{src: src, tokens: tokens, found: found}
	var n *Node
	if p.peek().kind == tEnd {
		p.report(p.peek().span, "", "nothing is written here yet; a condition looks like must_temp > set.max_temp")
		n = &Node{}
	} else {
		n = p.expression()
		for p.peek().kind != tEnd && !p.tooMuch {
			p.stray()
		}
	}
	slices.SortStableFunc(p.found, func(a, b Finding) int { return a.Span.Start - b.Span.Start })
	p.found.place(src)
	return n, p.found
}

type parser struct {
	src     string
	tokens  []token
	at      int
	depth   int
	nodes   int
	found   Findings
	tooMuch bool // reading was given up
}

func (p *parser) peek() token { return p.tokens[p.at] }

func (p *parser) take() token {
	t := p.tokens[p.at]
	if t.kind != tEnd {
		p.at++
	}
	return t
}

func (p *parser) is(text string) bool {
	t := p.peek()
	return (t.kind == tSign || t.kind == tWord) && t.text == text
}

func (p *parser) accept(text string) bool {
	if p.is(text) {
		p.take()
		return true
	}
	return false
}

func (p *parser) report(s Span, suggest, format string, args ...any) {
	if len(p.found) < maxErrors && !p.tooMuch {
		p.found = append(p.found, Finding{Span: s, Suggest: suggest, Sentence: fmt.Sprintf(format, args...)})
	}
}

func (p *parser) giveUp(s Span, format string, args ...any) {
	if p.tooMuch {
		return
	}
	p.found = append(p.found, Finding{Span: s, Sentence: fmt.Sprintf(format, args...)})
	p.tooMuch = true
	p.at = len(p.tokens) - 1
}

// make returns a node, counting it.
func (p *parser) make(n Node) *Node {
	if p.nodes++; p.nodes > MaxNodes {
		p.giveUp(n.Span, "the expression has more than %d parts; split it into several rules", MaxNodes)
	}
	return &n
}

func cover(a, b *Node) Span { return Span{a.Span.Start, max(a.Span.End, b.Span.End)} }

// stray reports what is left over behind a whole expression and reads on, so
// that mistakes further on are found too.
func (p *parser) stray() {
	t := p.peek()
	switch {
	case t.kind == tBad:
		p.take()
	case p.is(")"):
		p.report(t.span, "", "there is no ( that this ) closes")
		p.take()
	case p.is(","):
		p.report(t.span, "", "a comma separates what a function takes; here conditions are joined by and, or or")
		p.take()
	case p.is("then") || p.is("else"):
		p.report(t.span, "", "%s belongs to if … then … else …", t.text)
		p.take()
	case p.is("."):
		p.report(t.span, "", "a point stands between a prefix and a name, as in set.max_temp")
		p.take()
	default:
		p.missingOperator(t)
	}
	if !p.tooMuch && p.startsOperand() {
		p.expression()
	} else if p.peek().kind != tEnd && p.at < len(p.tokens)-1 && p.peek().span == t.span {
		p.take()
	}
}

func (p *parser) missingOperator(t token) {
	if t.kind == tUnit {
		p.report(t.span, "", "a unit stands right behind a number, as in 300 'K'")
		p.take()
		return
	}
	if t.kind == tWord {
		switch low := strings.ToLower(t.text); {
		case low != t.text && keywords[low]:
			p.report(t.span, low, "%s is written in small letters", low)
			p.take()
			return
		case low == "is":
			p.report(t.span, "==", "is is written ==")
			p.take()
			return
		case low == "xor" || low == "contains" || low == "matches" || low == "startswith":
			p.report(t.span, "", "there is no %s; text is compared with ==, in (…) or like \"tank*\"", t.text)
			p.take()
			return
		}
	}
	p.report(Span{t.span.Start, t.span.Start}, "",
		"an operator is missing before this; and, or or a comparison such as >")
}

func (p *parser) startsOperand() bool {
	switch t := p.peek(); t.kind {
	case tNumber, tDuration, tText:
		return true
	case tWord:
		return !keywords[t.text] || t.text == "not" || t.text == "if" || t.text == "true" || t.text == "false"
	case tSign:
		return t.text == "(" || t.text == "-"
	}
	return false
}

func (p *parser) enter() bool {
	if p.depth++; p.depth > MaxDepth {
		p.giveUp(p.peek().span, "this is nested more than %d deep", MaxDepth)
		return false
	}
	return true
}

func (p *parser) expression() *Node {
	defer func() { p.depth-- }()
	if !p.enter() {
		return &Node{}
	}
	if !p.is("if") {
		return p.or()
	}
	t := p.take()
	n := p.make(Node{kind: kIf, Span: t.span})
	n.args = append(n.args, p.expression())
	for _, word := range []string{"then", "else"} {
		if !p.accept(word) {
			p.report(p.peek().span, "", "%s is missing; write if … then … else …", word)
		}
		n.args = append(n.args, p.expression())
	}
	n.Span = cover(n, n.args[2])
	return n
}

func (p *parser) or() *Node  { return p.chain(kOr, "or", p.and) }
func (p *parser) and() *Node { return p.chain(kAnd, "and", p.not) }

func (p *parser) chain(k kind, word string, part func() *Node) *Node {
	n := part()
	if !p.is(word) {
		return n
	}
	out := p.make(Node{kind: k, op: word, Span: n.Span, args: []*Node{n}})
	for p.accept(word) {
		n = part()
		out.args = append(out.args, n)
		out.Span = cover(out, n)
	}
	return out
}

func (p *parser) not() *Node {
	if !p.is("not") {
		return p.compare()
	}
	t := p.take()
	defer func() { p.depth-- }()
	if !p.enter() {
		return &Node{}
	}
	n := p.not()
	return p.make(Node{kind: kNot, op: "not", Span: Span{t.span.Start, n.Span.End}, args: []*Node{n}})
}

func isComparison(s string) bool {
	switch s {
	case "==", "!=", "<", "<=", ">", ">=":
		return true
	}
	return false
}

func (p *parser) compare() *Node {
	left := p.sum()
	t := p.peek()
	switch {
	case t.kind == tSign && isComparison(t.text):
		p.take()
		right := p.sum()
		n := p.make(Node{kind: kCompare, op: t.text, Span: cover(left, right), args: []*Node{left, right}})
		if next := p.peek(); right.kind == kBad && next.kind == tSign && isComparison(next.text) {
			p.take() // two signs where one is meant, as in x >> 3
			n.args[1] = p.sum()
			n.Span = cover(left, n.args[1])
		} else if next.kind == tSign && isComparison(next.text) {
			p.take()
			third := p.sum()
			whole := cover(left, third)
			suggest := fmt.Sprintf("%s %s %s and %s %s %s", left.String(), t.text, right.String(), right.String(),
				next.text, third.String())
			if left.kind == kNumber && third.kind == kNumber && t.text == "<=" && next.text == "<=" {
				suggest = fmt.Sprintf("%s between %s and %s", right.String(), left.String(), third.String())
			}
			if third.kind == kBool { // n > 3 == true says what n > 3 says already
				suggest = fmt.Sprintf("%s %s %s", left.String(), t.text, right.String())
				if (third.num == 1) != (next.text == "==") {
					suggest = "not " + suggest
				}
				p.report(whole, suggest, "a comparison is true or false by itself: %s", value.Clip(suggest, 120))
			} else {
				p.report(whole, suggest, "two comparisons in a row are joined by and: %s", value.Clip(suggest, 120))
			}
			for p.peek().kind == tSign && isComparison(p.peek().text) {
				p.take()
				third = p.sum()
			}
			n.Span = cover(left, third)
		}
		return n
	case p.is("between") || p.is("outside"):
		p.take()
		low := p.sum()
		if !p.accept("and") {
			p.report(p.peek().span, "", "%s takes two limits: %s %s 10 and 20", t.text, left.String(), t.text)
			return p.make(Node{kind: kBetween, op: t.text, Span: cover(left, low), args: []*Node{left, low, {}}})
		}
		high := p.sum()
		return p.make(Node{kind: kBetween, op: t.text, Span: cover(left, high), args: []*Node{left, low, high}})
	case p.is("in"):
		p.take()
		return p.in(left)
	case p.is("like"):
		p.take()
		pattern := p.peek()
		n := p.make(Node{kind: kLike, op: "like", Span: left.Span, args: []*Node{left}})
		if pattern.kind != tText {
			p.report(pattern.span, "",
				`like takes a text in which * stands for anything and ? for one character: like "tank-*"`)
			if p.startsOperand() {
				p.sum()
			}
			return n
		}
		p.take()
		n.text, n.Span.End = pattern.text, pattern.span.End
		return n
	case p.is("not") && p.at+1 < len(p.tokens) && (p.tokens[p.at+1].text == "in" || p.tokens[p.at+1].text == "like"):
		p.report(t.span, "", "not stands before the whole comparison: not %s %s …", left.String(),
			p.tokens[p.at+1].text)
		p.take()
		return left
	}
	return left
}

func (p *parser) in(left *Node) *Node {
	n := p.make(Node{kind: kIn, op: "in", Span: left.Span, args: []*Node{left}})
	if !p.accept("(") {
		p.report(p.peek().span, "", `in takes a list in parentheses: in ("tarn", "hollow")`)
		return n
	}
	for !p.is(")") {
		t := p.peek()
		negative := p.accept("-")
		x := p.atom()
		switch {
		case x.kind == kNumber && negative:
			x.num, x.Span.Start = -x.num, t.span.Start
		case negative || x.kind != kNumber && x.kind != kText && x.kind != kDuration && x.kind != kBool &&
			x.kind != kBad:
			p.report(x.Span, "", "a list holds values only, such as \"tarn\" or 5")
		}
		n.args = append(n.args, x)
		if !p.accept(",") {
			break
		}
	}
	n.Span.End = p.peek().span.End
	p.close("list")
	if len(n.args) == 1 {
		p.report(n.Span, "", "the list is empty; nothing could ever be in it")
	}
	return n
}

func (p *parser) close(what string) {
	if p.accept(")") {
		return
	}
	p.report(p.peek().span, "", "the ) that closes this %s is missing", what)
}

func (p *parser) sum() *Node { return p.binary(kSum, "+", "-", p.term) }

func (p *parser) term() *Node { return p.binary(kTerm, "*", "/", p.unary) }

func (p *parser) binary(k kind, a, b string, part func() *Node) *Node {
	n := part()
	for p.is(a) || p.is(b) {
		t := p.take()
		right := part()
		// A long chain leans to the left; its depth is bounded like any other.
		n = p.make(Node{kind: k, op: t.text, Span: cover(n, right), args: []*Node{n, right}})
	}
	return n
}

func (p *parser) unary() *Node {
	if !p.is("-") {
		return p.atom()
	}
	t := p.take()
	defer func() { p.depth-- }()
	if !p.enter() {
		return &Node{}
	}
	n := p.unary()
	if n.kind == kNumber && n.Span.Start > t.span.Start {
		n.num, n.Span.Start = -n.num, t.span.Start
		return n
	}
	return p.make(Node{kind: kNegate, op: "-", Span: Span{t.span.Start, n.Span.End}, args: []*Node{n}})
}

func (p *parser) atom() *Node {
	t := p.peek()
	switch t.kind {
	case tNumber:
		p.take()
		n := p.make(Node{kind: kNumber, num: t.num, Span: t.span})
		if p.bareUnit() {
			return p.spacedUnit(n)
		}
		if u := p.peek(); u.kind == tUnit {
			p.take()
			n.unit, n.Span.End = u.text, u.span.End
			if n.unit == "" {
				p.report(u.span, "", "there is no unit between these quotes")
			}
		}
		return n
	case tDuration:
		p.take()
		return p.make(Node{kind: kDuration, num: t.num, Span: t.span})
	case tText:
		p.take()
		return p.make(Node{kind: kText, text: t.text, Span: t.span})
	case tUnit:
		p.take()
		p.report(t.span, quote(t.text), "text stands in double quotes: %s; single quotes are for units",
			quote(clip(t.text)))
		return p.make(Node{kind: kText, text: t.text, Span: t.span})
	case tBad:
		p.take()
		if p.startsOperand() && p.peek().kind != tWord {
			return p.atom()
		}
		return p.make(Node{Span: t.span})
	case tWord:
		return p.word()
	}
	if p.accept("(") {
		n := p.expression()
		p.close("parenthesis")
		return n
	}
	what := "a name or a value is missing"
	if t.kind == tEnd {
		what += " at the end"
	} else {
		what += " before " + t.text
	}
	p.report(t.span, "", "%s", what)
	if t.kind == tSign && t.text != ")" && t.text != "," && !isComparison(t.text) {
		p.take()
	}
	return p.make(Node{Span: Span{t.span.Start, t.span.Start}})
}

// bareUnit reports whether a word behind a number is a unit without its quotes,
// or one of time.
func (p *parser) bareUnit() bool {
	t, after := p.peek(), p.tokens[min(p.at+1, len(p.tokens)-1)]
	if t.kind != tWord || keywords[t.text] || after.text == "(" || after.text == "." {
		return false
	}
	if _, isTime := durationWords[strings.ToLower(t.text)]; isTime {
		return true
	}
	_, err := unit.Lookup(t.text)
	return err == nil
}

// spacedUnit reads what bareUnit has found, as what was meant.
func (p *parser) spacedUnit(n *Node) *Node {
	u := p.take()
	number := p.src[n.Span.Start:n.Span.End]
	n.Span.End = u.span.End
	meant, isTime := durationWords[strings.ToLower(u.text)]
	if d, err := value.ParseDuration(number + meant); isTime && err == nil {
		p.report(n.Span, number+meant, "a duration is written without a space: %s%s", clip(number), meant)
		n.kind, n.num = kDuration, float64(d.Std().Milliseconds())
		return n
	}
	p.report(u.span, "'"+u.text+"'", "a unit stands in single quotes behind its number: %s '%s'", clip(number),
		clip(u.text))
	n.unit = u.text
	return n
}

func (p *parser) word() *Node {
	t := p.peek()
	switch t.text {
	case "true", "false":
		p.take()
		n := p.make(Node{kind: kBool, Span: t.span})
		if t.text == "true" {
			n.num = 1
		}
		return n
	case "if":
		return p.expression()
	case "not":
		p.report(t.span, "", "not stands before a whole comparison, not within one; use parentheses")
		return p.not()
	}
	if keywords[t.text] {
		p.report(t.span, "", "a name or a value is missing before %s", t.text)
		return p.make(Node{Span: Span{t.span.Start, t.span.Start}})
	}
	p.take()
	switch {
	case p.is("("):
		return p.call(t)
	case p.is(".") && p.peek().span.Start == t.span.End:
		p.take()
		key := p.peek()
		n := p.make(Node{kind: kName, name: Name{t.text, ""}, Span: Span{t.span.Start, key.span.Start}})
		if key.kind != tWord || key.span.Start != t.span.End+1 {
			n.Span.End = t.span.End + 1
			p.report(n.Span, "", "a name is missing after %s.", t.text)
			n.kind = kBad
			return n
		}
		p.take()
		n.name.Key, n.Span.End = key.text, key.span.End
		return n
	}
	return p.make(Node{kind: kName, name: Name{Key: t.text}, Span: t.span})
}

func (p *parser) call(t token) *Node {
	defer func() { p.depth-- }()
	if !p.enter() {
		return &Node{}
	}
	p.take()
	n := p.make(Node{kind: kCall, name: Name{Key: t.text}, Span: t.span})
	for !p.is(")") && p.peek().kind != tEnd {
		n.args = append(n.args, p.expression())
		if p.accept("over") { // a word of its own only here, so that a metric may have the name
			n.over = true
			n.args = append(n.args, p.window())
			break
		}
		if !p.accept(",") {
			break
		}
	}
	n.Span.End = max(n.Span.End, p.peek().span.End)
	p.close("call of " + t.text)
	return n
}

// window reads what follows over.
func (p *parser) window() *Node {
	if t := p.peek(); t.kind == tEnd || t.kind == tSign && t.text == ")" {
		p.report(t.span, "", "the length of the window is missing after over, such as 10min")
		return p.make(Node{Span: Span{t.span.Start, t.span.Start}})
	}
	return p.expression()
}
