package expr

import (
	"slices"
	"strings"

	"ullage/core/unit"
	"ullage/core/value"
)

// Candidate is one thing that can stand at a place in an expression.
type Candidate struct {
	Text   string // what to put in place of Span
	Kind   string // metric, setting, attribute, label, fact, prefix, function, rule, operator, value, unit, duration
	Detail string // type, unit or use, for people
	Span   Span   // what it replaces: the word at the cursor, or nothing
	Back   int    // how far before its end the cursor stands afterwards
}

const maxCandidates = 100

// Complete returns what can stand at a cursor, given in bytes, the likeliest
// first. What is behind the cursor is not looked at.
func Complete(src string, cursor int, s *Schema, purpose Purpose) []Candidate {
	cursor = min(max(cursor, 0), len(src), MaxSource)
	tokens, _ := lex(src[:cursor])
	tokens = tokens[:len(tokens)-1]
	k := &completer{schema: s, purpose: purpose, src: src, cursor: cursor}

	// A word, text or unit that ends at the cursor is still being typed.
	typed := token{kind: tEnd, span: Span{cursor, cursor}}
	if n := len(tokens); n > 0 && tokens[n-1].span.End == cursor {
		last := tokens[n-1]
		open := src[last.span.Start:cursor]
		switch {
		case last.kind == tWord,
			last.kind == tText && (len(open) == 1 || !strings.HasSuffix(open, `"`)),
			last.kind == tUnit && (len(open) == 1 || !strings.HasSuffix(open, `'`)):
			typed = last
			tokens = tokens[:n-1]
		case last.kind == tDuration || last.kind == tNumber:
			return nil // a number has no completion while it is being typed
		}
	}
	k.word = typed.text
	k.span = typed.span

	scope := ""
	if n := len(tokens); n > 1 && tokens[n-1].text == "." && tokens[n-2].kind == tWord && typed.kind != tText {
		scope = tokens[n-2].text
		k.names(scope)
		if _, subject, _ := k.walk(tokens[:n-2]); subject.Type.Kind == Number {
			// What has the dimension of the other side comes first.
			fits := func(c Candidate) int {
				i, _ := s.Find(Name{scope, c.Text})
				if i.Type.Kind == Number && i.Type.Unit.Dimension == subject.Type.Unit.Dimension && !i.Absent {
					return 0
				}
				return 1
			}
			slices.SortStableFunc(k.out, func(a, b Candidate) int { return fits(a) - fits(b) })
		}
		return k.ranked()
	}
	operand, subject, call := k.walk(tokens)
	switch {
	case typed.kind == tText:
		k.texts(subject, call)
	case typed.kind == tUnit:
		k.units(subject)
	case operand:
		k.operands(subject, call)
	default:
		k.operators(subject, call, tokens)
	}
	return k.ranked()
}

type completer struct {
	schema  *Schema
	purpose Purpose
	src     string
	cursor  int
	word    string
	span    Span
	out     []Candidate
}

func (k *completer) add(text, kind, detail string, back int) {
	k.out = append(k.out, Candidate{Text: text, Kind: kind, Detail: detail, Span: k.span, Back: back})
}

// walk goes through the tokens and finds whether an operand is wanted next,
// the name last spoken of, and the innermost open call.
func (k *completer) walk(tokens []token) (operand bool, subject Info, call string) {
	operand = true
	var calls []string
	for i, t := range tokens {
		switch t.kind {
		case tWord:
			if t.text == "over" && !operand && len(calls) > 0 && takesWindow(calls[len(calls)-1]) {
				calls[len(calls)-1] = "over " + calls[len(calls)-1]
				operand = true
				continue
			}
			if keywords[t.text] && t.text != "true" && t.text != "false" {
				operand = true
				if t.text == "and" || t.text == "or" {
					if !k.between(tokens[:i]) {
						subject = Info{}
					}
				}
				continue
			}
			name := Name{Key: t.text}
			if i > 1 && tokens[i-1].text == "." {
				name.Scope = tokens[i-2].text
			}
			if info, ok := k.schema.Find(name); ok {
				subject = info
			}
			operand = false
		case tNumber, tDuration, tText, tUnit, tBad:
			operand = false
		case tSign:
			switch t.text {
			case "(":
				name := ""
				if i > 0 && tokens[i-1].kind == tWord && !keywords[tokens[i-1].text] {
					name = tokens[i-1].text
				}
				calls = append(calls, name)
				operand = true
			case ")":
				if len(calls) > 0 {
					calls = calls[:len(calls)-1]
				}
				operand = false
			case ".":
			case ",":
				operand = true
			default:
				operand = true
			}
		}
	}
	if len(calls) > 0 {
		call = calls[len(calls)-1]
	}
	return operand, subject, call
}

// between reports whether an and that follows belongs to between or outside.
func (k *completer) between(tokens []token) bool {
	for i := len(tokens) - 1; i >= 0; i-- {
		switch tokens[i].text {
		case "between", "outside":
			return true
		case "and", "or", "then", "else":
			return false
		}
	}
	return false
}

func (k *completer) names(scope string) {
	for _, i := range k.schema.All() {
		if i.Name.Scope == scope && i.Name.Key != "" {
			k.add(i.Name.Key, kindOf(i.Name.Scope), k.detail(i), 0)
		}
	}
}

func kindOf(scope string) string {
	return map[string]string{"": "metric", "set": "setting", "intended": "setting", "attr": "attribute",
		"label": "label", "device": "fact", "raised": "rule"}[scope]
}

func (k *completer) detail(i Info) string {
	t := i.Type.Kind.String()
	if i.Type.Kind == Number {
		if t = i.Type.Unit.Display(); t == "" {
			t = "number"
		}
	}
	if i.Title != "" {
		t = i.Title + ", " + t
	}
	if len(i.Values) > 0 && len(i.Values) <= 4 {
		t += ": " + strings.Join(i.Values, ", ")
	}
	return t
}

func (k *completer) operands(subject Info, call string) {
	call, over := strings.CutPrefix(call, "over ")
	if f := functions[call]; f != nil {
		if over {
			for _, d := range []string{"10min", "30min", "1h", "6h", "1d"} {
				k.add(d, "duration", "window", 0)
			}
			return
		}
		switch f.Name {
		case "raised":
			k.names("raised")
			return
		case "value", "during", "time":
			k.add(`""`, "value", f.Form, 1)
			return
		}
		if f.window || f.Name == "age" || f.Name == "changed" || f.Name == "previous" {
			k.names("")
			return
		}
	}
	if len(subject.Values) > 0 && k.comparing() {
		for _, v := range subject.Values {
			k.add(quote(v), "value", "", 0)
		}
	}
	if k.comparing() {
		switch subject.Type.Kind {
		case Bool:
			k.add("true", "value", "", 0)
			k.add("false", "value", "", 0)
		case Number:
			for _, i := range k.schema.All() {
				if i.Name.Scope == "set" && i.Type.Kind == Number &&
					i.Type.Unit.Dimension == subject.Type.Unit.Dimension && !i.Absent {
					k.add(i.Name.String(), "setting", k.detail(i), 0)
				}
			}
		}
	}
	target := k.purpose == ForTarget || k.purpose == ForLayer || k.purpose == ForAccess
	if !target {
		k.names("")
	}
	for _, i := range k.schema.All() {
		ok := !target || i.Name.Scope == "label" || i.Name.Scope == "device" && i.Name.Key != "link" &&
			i.Name.Key != "status" && i.Name.Key != "zone" || i.Name.Scope == "attr" && k.purpose != ForAccess
		if k.purpose == ForAccess && i.Name.Scope == "device" {
			ok = i.Name.Key == "id" || i.Name.Key == "model"
		}
		if ok && i.Name.Scope != "" && i.Name.Scope != "intended" && i.Name.Scope != "raised" {
			k.add(i.Name.String(), kindOf(i.Name.Scope), k.detail(i), 0)
		}
	}
	for _, f := range Functions {
		if f.Family == FamilyGroup && k.purpose != ForGroup || f.Family == FamilyWindow && k.purpose != ForRule &&
			k.purpose != ForGroup && k.purpose != ForMessage {
			continue
		}
		byItself := k.purpose == ForLayer && (f.Name == "during" || f.Name == "raised")
		if target && !byItself && f.Family != FamilyText && f.Name != "has" && (f.Name != "time" || k.purpose == ForAccess) {
			continue
		}
		back := 1
		if strings.HasSuffix(f.Form, "()") {
			back = 0
		}
		k.add(f.Name+"()", "function", f.Form, back)
	}
	k.add("not ", "operator", "the opposite", 0)
	k.search(target)
}

// search offers whole conditions for a word that is no name: the labels and
// facts that have it as a value, and the ids that have it inside.
func (k *completer) search(target bool) {
	word := strings.ToLower(k.word)
	if len(word) < 2 || k.comparing() {
		return
	}
	for _, i := range k.schema.All() {
		if i.Type.Kind != Text || i.Name.Scope != "label" && i.Name.Scope != "" && (i.Name.Scope != "device" ||
			target) {
			continue
		}
		for _, v := range i.Values {
			if strings.Contains(strings.ToLower(v), word) {
				k.add(i.Name.String()+" == "+quote(v), "condition", "", 0)
			}
		}
	}
	if k.schema.plain {
		for _, i := range k.schema.All() {
			if i.Type.Kind == Text {
				k.add(i.Name.String()+" like "+quote("*"+k.word+"*"), "condition", "with it inside", 0)
			}
		}
		return
	}
	k.add("device.id like "+quote("*"+word+"*"), "condition", "ids with it inside", 0)
	if !target {
		k.add("device.name like "+quote("*"+k.word+"*"), "condition", "names with it inside", 0)
	}
}

// comparing reports whether the cursor stands behind a comparison sign.
func (k *completer) comparing() bool {
	before := strings.TrimRight(k.src[:k.span.Start], " \t\r\n")
	for _, s := range []string{"==", "!=", "<", ">", "<=", ">=", "(", ",", "between", "outside"} {
		if strings.HasSuffix(before, s) {
			return true
		}
	}
	return false
}

// takesWindow reports whether a function takes a window, behind over.
func takesWindow(call string) bool {
	f := functions[call]
	return f != nil && (f.window || f.Name == "time_in")
}

func (k *completer) operators(subject Info, call string, tokens []token) {
	n := len(tokens)
	space := ""
	if k.span.Start == k.span.End && k.span.Start > 0 && !strings.ContainsRune(" \t\n(", rune(k.src[k.span.Start-1])) {
		space = " "
	}
	if n > 0 && tokens[n-1].kind == tNumber && subject.Type.Kind == Number {
		k.units(subject)
		for i := range k.out {
			k.out[i].Text = space + "'" + strings.Trim(k.out[i].Text, "'") + "'"
		}
	}
	condition := subject.Type.Kind == Bool
	for i := n - 1; i >= 0; i-- {
		t := tokens[i]
		if t.text == "and" && !k.between(tokens[:i]) || t.text == "or" || t.text == "not" || t.text == "then" ||
			t.text == "else" || t.text == "if" {
			break
		}
		if t.kind == tSign && isComparison(t.text) || t.text == "in" || t.text == "like" || t.text == "between" ||
			t.text == "outside" {
			condition = true
			if (t.text == "between" || t.text == "outside") && !slices.ContainsFunc(tokens[i:], func(t token) bool {
				return t.text == "and"
			}) {
				k.add("and ", "operator", "and the other limit", 0)
				return
			}
			break
		}
	}
	op := func(text, detail string) { k.add(space+text+" ", "operator", detail, 0) }
	if f := functions[call]; f != nil && (f.window || f.Name == "time_in" && condition) {
		op("over", "the window")
		if f.window {
			return
		}
	}
	if !condition {
		switch subject.Type.Kind {
		case Text:
			op("==", "is")
			op("!=", "is not")
			k.add(space+"in ()", "operator", "is one of", 1)
			k.add(space+`like ""`, "operator", "matches, with * and ?", 1)
		default:
			for _, o := range [][2]string{{">", "is more than"}, {"<", "is less than"}, {">=", "is at least"},
				{"<=", "is at most"}, {"between", "lies within two limits"},
				{"outside", "lies beyond one of two limits"}, {"==", "is"}, {"!=", "is not"}, {"+", ""}, {"-", ""}, {"*", ""}, {"/", ""}} {
				op(o[0], o[1])
			}
		}
		return
	}
	op("and", "both hold")
	op("or", "at least one holds")
	if subject.Type.Kind == Bool {
		op("==", "is")
	}
}

func (k *completer) texts(subject Info, call string) {
	switch strings.TrimPrefix(call, "over ") {
	case "value":
		for _, i := range k.schema.All() {
			if i.Name.Scope == "" && i.Name.Key != "" {
				k.add(quote(i.Name.Key), "metric", k.detail(i), 0)
			}
		}
		return
	case "during":
		for _, v := range []string{"Mon-Fri 06:00-22:00", "daily 22:00-06:00", "Sat-Sun 00:00-24:00"} {
			k.add(quote(v), "value", "time of the week", 0)
		}
		return
	}
	for _, v := range subject.Values {
		k.add(quote(v), "value", "", 0)
	}
}

func (k *completer) units(subject Info) {
	want := subject.Type.Unit
	if subject.Type.Kind != Number {
		return
	}
	seen := map[string]bool{}
	add := func(u unit.Unit) {
		if u.Symbol != "" && !seen[u.Symbol] {
			seen[u.Symbol] = true
			k.add("'"+u.Symbol+"'", "unit", u.Display(), 0)
		}
	}
	add(want)
	for _, symbol := range unit.Symbols() {
		if u, err := unit.Lookup(symbol); err == nil && u.Dimension == want.Dimension && len(k.out) < 30 {
			add(u)
		}
	}
}

// ranked keeps what fits the word being typed: what begins with it first, then
// what has it inside, then what is close to it.
func (k *completer) ranked() []Candidate {
	word := strings.ToLower(strings.Trim(k.word, `"' `))
	if word == "" {
		return k.out[:min(len(k.out), maxCandidates)]
	}
	rank := func(c Candidate) int {
		text := strings.ToLower(strings.Trim(c.Text, `"'() `))
		last := text[strings.LastIndexByte(text, '.')+1:]
		switch {
		case strings.HasPrefix(text, word), strings.HasPrefix(last, word):
			return 0
		case strings.Contains(text, word):
			return 1
		case strings.Contains(strings.ToLower(c.Detail), word) && len(word) > 2:
			return 2
		case len(word) > 2 && value.Nearest(word, []string{last}) != "":
			return 3
		}
		return 9
	}
	out := slices.DeleteFunc(k.out, func(c Candidate) bool { return rank(c) == 9 })
	slices.SortStableFunc(out, func(a, b Candidate) int { return rank(a) - rank(b) })
	return out[:min(len(out), maxCandidates)]
}
