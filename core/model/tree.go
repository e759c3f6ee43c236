package model

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"github.com/go-json-experiment/json/jsontext"

	"ullage/core/value"
	"ullage/core/yamldoc"
)

// Bounds of what is read, so that a small file cannot ask for much memory.
const (
	// MaxSource is the largest model file that is read, in bytes.
	MaxSource = 1 << 20
	// MaxDepth is how deep a file may be nested.
	MaxDepth = 32
	// MaxMembers is how many values a model may hold once everything that it
	// extends and imports is written out.
	MaxMembers = 200_000
)

// node is a JSON value that keeps the order of its members.
type node struct {
	kind byte   // one of { [ " 0 t n, for object, array, text, number, truth and null
	text string // of a text, or a number as it was written
	num  float64
	yes  bool
	keys []string // of an object, beside kids
	kids []*node
}

func textNode(s string) *node { return &node{kind: '"', text: s} }
func object() *node           { return &node{kind: '{'} }
func list(kids ...*node) *node {
	return &node{kind: '[', kids: kids}
}

// words names what a node is, for messages.
func (n *node) words() string {
	switch n.kind {
	case '{':
		return "an object"
	case '[':
		return "a list"
	case '"':
		return "text"
	case '0':
		return "a number"
	case 't':
		return "true or false"
	}
	return "null"
}

// get returns a member of an object, or nil.
func (n *node) get(key string) *node {
	if n == nil || n.kind != '{' {
		return nil
	}
	for i, k := range n.keys {
		if k == key {
			return n.kids[i]
		}
	}
	return nil
}

// str returns the text of a member, or "".
func (n *node) str(key string) string {
	if m := n.get(key); m != nil && m.kind == '"' {
		return m.text
	}
	return ""
}

func (n *node) truth(key string) bool {
	m := n.get(key)
	return m != nil && m.kind == 't' && m.yes
}

// set puts a member in, in place of one of that name.
func (n *node) set(key string, v *node) {
	for i, k := range n.keys {
		if k == key {
			n.kids[i] = v
			return
		}
	}
	n.keys, n.kids = append(n.keys, key), append(n.kids, v)
}

func (n *node) remove(key string) {
	for i, k := range n.keys {
		if k == key {
			n.keys = append(n.keys[:i:i], n.keys[i+1:]...)
			n.kids = append(n.kids[:i:i], n.kids[i+1:]...)
			return
		}
	}
}

// clone copies objects and lists. What holds no others is never changed, and so
// is shared; so are names, which are copied when one is added or removed.
func (n *node) clone() *node {
	if n == nil || len(n.kids) == 0 {
		if n != nil && (n.kind == '{' || n.kind == '[') {
			c := *n
			return &c
		}
		return n
	}
	c := *n
	c.keys = n.keys[:len(n.keys):len(n.keys)]
	c.kids = make([]*node, len(n.kids))
	for i, k := range n.kids {
		c.kids[i] = k.clone()
	}
	return &c
}

// size counts the values in n.
func (n *node) size() int {
	if n == nil {
		return 0
	}
	total := 1
	for _, k := range n.kids {
		total += k.size()
	}
	return total
}

// any returns n as encoding/json would have decoded it.
func (n *node) any() any {
	if n == nil {
		return nil
	}
	switch n.kind {
	case '{':
		m := make(map[string]any, len(n.keys))
		for i, k := range n.keys {
			m[k] = n.kids[i].any()
		}
		return m
	case '[':
		l := make([]any, len(n.kids))
		for i, k := range n.kids {
			l[i] = k.any()
		}
		return l
	case '"':
		return n.text
	case '0':
		return n.num
	case 't':
		return n.yes
	}
	return nil
}

// same reports whether two values say the same; the order of members does not
// count.
func (n *node) same(o *node) bool {
	if n.kind != o.kind || len(n.kids) != len(o.kids) || n.text != o.text && n.kind == '"' || n.num != o.num ||
		n.yes != o.yes {
		return false
	}
	for i, k := range n.kids {
		other := o.kids[i]
		if n.kind == '{' {
			if other = o.get(n.keys[i]); other == nil {
				return false
			}
		}
		if !k.same(other) {
			return false
		}
	}
	return true
}

// at follows a JSON pointer (RFC 6901); nil where there is nothing.
func (n *node) at(pointer string) *node {
	if pointer == "" {
		return n
	}
	if pointer[0] != '/' {
		return nil
	}
	for _, s := range strings.Split(pointer[1:], "/") {
		s = unescape(s)
		switch {
		case n == nil:
			return nil
		case n.kind == '[':
			i, err := strconv.Atoi(s)
			if err != nil || i < 0 || i >= len(n.kids) {
				return nil
			}
			n = n.kids[i]
		default:
			n = n.get(s)
		}
	}
	return n
}

// merge lays a patch over n as RFC 7396 says: members replace those of the same
// name, objects are merged, null removes. Both are used up.
func (n *node) merge(patch *node) *node {
	if patch.kind != '{' || n == nil || n.kind != '{' {
		patch.sweep()
		return patch
	}
	for i, k := range patch.keys {
		p := patch.kids[i]
		if p.kind == 'n' {
			n.remove(k)
			continue
		}
		if old := n.get(k); old != nil {
			n.set(k, old.merge(p))
			continue
		}
		p.sweep()
		n.keys, n.kids = append(n.keys, k), append(n.kids, p)
	}
	return n
}

// sweep takes members that are null out of objects.
func (n *node) sweep() {
	if n.kind != '{' {
		return
	}
	for i := 0; i < len(n.kids); i++ {
		if n.kids[i].kind == 'n' {
			n.remove(n.keys[i])
			i--
			continue
		}
		n.kids[i].sweep()
	}
}

// json writes n; with indent on lines of their own.
func (n *node) json(indent bool) []byte {
	var b bytes.Buffer
	n.write(&b)
	if !indent {
		return b.Bytes()
	}
	var out bytes.Buffer
	if json.Indent(&out, b.Bytes(), "", "  ") != nil {
		return b.Bytes()
	}
	return append(out.Bytes(), '\n')
}

func (n *node) write(b *bytes.Buffer) {
	quote := func(s string) {
		if q, err := jsontext.AppendQuote(b.AvailableBuffer(), s); err == nil {
			b.Write(q)
			return
		}
		b.WriteString(`""`) // no text of a file that was read
	}
	switch n.kind {
	case '{':
		b.WriteByte('{')
		for i, k := range n.keys {
			if i > 0 {
				b.WriteByte(',')
			}
			quote(k)
			b.WriteByte(':')
			n.kids[i].write(b)
		}
		b.WriteByte('}')
	case '[':
		b.WriteByte('[')
		for i, k := range n.kids {
			if i > 0 {
				b.WriteByte(',')
			}
			k.write(b)
		}
		b.WriteByte(']')
	case '"':
		quote(n.text)
	case '0':
		b.WriteString(n.text)
	case 't':
		b.WriteString(strconv.FormatBool(n.yes))
	default:
		b.WriteString("null")
	}
}

// read reads JSON into a tree: bounded in depth, and every member named once.
func read(src []byte) (*node, *Finding) {
	if len(src) > MaxSource {
		return nil, &Finding{"", fmt.Sprintf("the file has %d bytes; a model may have %d", len(src), MaxSource)}
	}
	src = yamldoc.Unmarked(src) // also of a model that is referred to
	r := reader{d: jsontext.NewDecoder(bytes.NewBuffer(src)), src: src}
	n, wrong := r.value(0)
	if wrong != nil {
		return nil, wrong
	}
	if _, err := r.d.ReadToken(); err != io.EOF {
		return nil, &Finding{"", "there is something behind the end of the model; a file holds one"}
	}
	return n, nil
}

type reader struct {
	d    *jsontext.Decoder
	src  []byte
	slab []node // nodes are made many at a time
}

func (r *reader) node(n node) *node {
	if len(r.slab) == 0 {
		r.slab = make([]node, 128)
	}
	out := &r.slab[0]
	r.slab = r.slab[1:]
	*out = n
	return out
}

// wrong is what the decoder found, at the place where it is.
func (r *reader) wrong(err error) *Finding {
	var se *jsontext.SyntacticError
	if !errors.As(err, &se) {
		f := jsonFinding(r.src, err)
		f.Pointer = string(r.d.StackPointer())
		return &f
	}
	offset := min(max(int(se.ByteOffset), 0), len(r.src))
	at := string(se.JSONPointer)
	if errors.Is(err, jsontext.ErrDuplicateName) {
		_, name, _ := cutLast(at, "/")
		return &Finding{at, fmt.Sprintf("%q is written twice; one of the two would be lost", unescape(name))}
	}
	sentence := "this is not JSON: " + se.Err.Error()
	if errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, io.EOF) {
		offset, sentence = len(r.src), "the file ends too early; a bracket or a quote is not closed"
	}
	line := bytes.Count(r.src[:offset], []byte("\n")) + 1
	column := offset - bytes.LastIndexByte(r.src[:offset], '\n')
	return &Finding{at, fmt.Sprintf("line %d, column %d: %s", line, column, sentence)}
}

func cutLast(s, sep string) (before, after string, found bool) {
	if i := strings.LastIndex(s, sep); i >= 0 {
		return s[:i], s[i+len(sep):], true
	}
	return s, "", false
}

func (r *reader) value(depth int) (*node, *Finding) {
	t, err := r.d.ReadToken()
	if err != nil {
		return nil, r.wrong(err)
	}
	switch t.Kind() {
	case '"':
		return r.node(node{kind: '"', text: t.String()}), nil
	case '0':
		text := t.String()
		f, err := strconv.ParseFloat(text, 64)
		if err != nil {
			return nil, &Finding{string(r.d.StackPointer()), fmt.Sprintf("the number %s does not fit a 64-bit float",
				value.Clip(text, 40))}
		}
		return r.node(node{kind: '0', text: text, num: f}), nil
	case 't', 'f':
		return r.node(node{kind: 't', yes: t.Kind() == 't'}), nil
	case '{', '[':
		if depth == MaxDepth {
			return nil, &Finding{string(r.d.StackPointer()),
				fmt.Sprintf("the file is nested more than %d deep", MaxDepth)}
		}
		n := r.node(node{kind: byte(t.Kind())})
		return n, r.members(n, depth)
	}
	return r.node(node{kind: 'n'}), nil
}

func (r *reader) members(n *node, depth int) *Finding {
	for k := r.d.PeekKind(); k != '}' && k != ']'; k = r.d.PeekKind() {
		if n.kind == '{' {
			t, err := r.d.ReadToken()
			if err != nil {
				return r.wrong(err)
			}
			n.keys = append(n.keys, t.String())
		}
		if len(n.kids) == yamldoc.MaxSiblings {
			return &Finding{string(r.d.StackPointer()), fmt.Sprintf("there are more than %d entries side by side",
				yamldoc.MaxSiblings)}
		}
		kid, wrong := r.value(depth + 1)
		if wrong != nil {
			return wrong
		}
		n.kids = append(n.kids, kid)
	}
	if _, err := r.d.ReadToken(); err != nil { // the closing bracket
		return r.wrong(err)
	}
	return nil
}

// plainly says what the library of JSON found at a place, and what was meant there where that
// can be told.
func plainly(src []byte, at int, found string) string {
	what, where, ok := strings.Cut(strings.TrimPrefix(found, "invalid character "), "' ")
	if !ok || !strings.HasPrefix(what, "'") || at >= len(src) {
		return found
	}
	what += "'"
	digit := func(i int) bool { return i >= 0 && i < len(src) && src[i] >= '0' && src[i] <= '9' }
	before := bytes.TrimRight(src[:at], " \t\r\n")
	switch {
	case (src[at] == '}' || src[at] == ']') && bytes.HasSuffix(before, []byte(",")):
		return "there is a comma too many before " + what
	case digit(at) && digit(at-2) && src[at-1] == ',' && where == "looking for beginning of object key string":
		return "a number has a point for its decimals, not a comma"
	case where == "looking for beginning of object key string":
		return what + " cannot begin a name; names stand in double quotes"
	case where == "looking for beginning of value":
		return what + " cannot begin a value; texts stand in double quotes, numbers begin with a digit or a minus"
	case strings.HasPrefix(where, "after object key:value pair"), strings.HasPrefix(where, "after array element"):
		return "a comma or a closing bracket is missing before " + what
	case where == "after top-level value":
		return what + " stands behind the end of it"
	}
	return found
}

func jsonFinding(src []byte, err error) Finding {
	offset := int64(len(src))
	pointer := ""
	sentence := "the file ends too early; a bracket or a quote is not closed"
	if se, ok := err.(*json.SyntaxError); ok && se.Error() == "unexpected end of JSON input" {
		offset = se.Offset
	} else if ok {
		offset = max(se.Offset-1, 0) // it counts what was read, with what is wrong
		sentence = "this is not JSON: " + plainly(src, int(offset), se.Error())
	} else if te, ok := err.(*json.UnmarshalTypeError); ok {
		offset, pointer = te.Offset, "/"+strings.ReplaceAll(te.Field, ".", "/")
		sentence = fmt.Sprintf("this is %s; the standard wants %s", te.Value, te.Type)
	} else if err != io.EOF && err != io.ErrUnexpectedEOF {
		sentence = "this is not JSON: " + err.Error()
	}
	offset = min(max(offset, 0), int64(len(src)))
	line := bytes.Count(src[:offset], []byte("\n")) + 1
	column := int(offset) - bytes.LastIndexByte(src[:offset], '\n')
	return Finding{pointer, fmt.Sprintf("line %d, column %d: %s", line, column, sentence)}
}

// escape writes a member name as a JSON pointer segment (RFC 6901 section 3).
func escape(s string) string {
	if !strings.ContainsAny(s, "~/") {
		return s
	}
	return strings.ReplaceAll(strings.ReplaceAll(s, "~", "~0"), "/", "~1")
}

func unescape(s string) string {
	return strings.ReplaceAll(strings.ReplaceAll(s, "~1", "/"), "~0", "~")
}
