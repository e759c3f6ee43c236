package model

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"strconv"
	"strings"
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

func (n *node) clone() *node {
	if n == nil {
		return nil
	}
	c := *n
	c.keys = append([]string(nil), n.keys...)
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
	if n.kind != o.kind || len(n.kids) != len(o.kids) || n.text != o.text && n.kind == '"' || n.num != o.num || n.yes != o.yes {
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
// name, objects are merged, null removes. Neither is changed.
func (n *node) merge(patch *node) *node {
	if patch.kind != '{' || n == nil || n.kind != '{' {
		return patch.whole()
	}
	out := n.clone()
	for i, k := range patch.keys {
		p := patch.kids[i]
		if p.kind == 'n' {
			out.remove(k)
			continue
		}
		out.set(k, out.get(k).merge(p))
	}
	return out
}

// whole returns a copy without members that are null.
func (n *node) whole() *node {
	if n.kind != '{' {
		return n.clone()
	}
	out := object()
	for i, k := range n.keys {
		if n.kids[i].kind != 'n' {
			out.set(k, n.kids[i].whole())
		}
	}
	return out
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
		e := json.NewEncoder(b)
		e.SetEscapeHTML(false)
		_ = e.Encode(s) // a text is always encoded
		b.Truncate(b.Len() - 1)
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
	d := json.NewDecoder(bytes.NewReader(src))
	d.UseNumber()
	r := reader{d: d, src: src}
	n, wrong := r.value(0)
	if wrong != nil {
		return nil, wrong
	}
	if _, err := d.Token(); err != io.EOF {
		return nil, &Finding{"", "there is something behind the end of the model; a file holds one"}
	}
	return n, nil
}

type reader struct {
	d    *json.Decoder
	src  []byte
	path []string
}

func (r *reader) where() string {
	if len(r.path) == 0 {
		return ""
	}
	return "/" + strings.Join(r.path, "/")
}

func (r *reader) value(depth int) (*node, *Finding) {
	t, err := r.d.Token()
	if err != nil {
		f := jsonFinding(r.src, err)
		f.Pointer = r.where()
		return nil, &f
	}
	switch t := t.(type) {
	case string:
		return textNode(t), nil
	case json.Number:
		f, err := strconv.ParseFloat(string(t), 64)
		if err != nil {
			return nil, &Finding{r.where(), fmt.Sprintf("the number %s does not fit a 64-bit float", clip(string(t)))}
		}
		return &node{kind: '0', text: string(t), num: f}, nil
	case bool:
		return &node{kind: 't', yes: t}, nil
	case nil:
		return &node{kind: 'n'}, nil
	case json.Delim:
		if depth == MaxDepth {
			return nil, &Finding{r.where(), fmt.Sprintf("the file is nested more than %d deep", MaxDepth)}
		}
		n := &node{kind: byte(t)}
		return n, r.members(n, depth)
	}
	return nil, &Finding{r.where(), "this is not JSON"}
}

func (r *reader) members(n *node, depth int) *Finding {
	seen := map[string]bool{}
	for r.d.More() {
		segment := strconv.Itoa(len(n.kids))
		if n.kind == '{' {
			t, err := r.d.Token()
			if err != nil {
				f := jsonFinding(r.src, err)
				f.Pointer = r.where()
				return &f
			}
			key, _ := t.(string)
			segment = escape(key)
			if seen[key] {
				r.path = append(r.path, segment)
				return &Finding{r.where(), fmt.Sprintf("%q is written twice; one of the two would be lost", key)}
			}
			seen[key] = true
			n.keys = append(n.keys, key)
		}
		r.path = append(r.path, segment)
		kid, wrong := r.value(depth + 1)
		if wrong != nil {
			return wrong
		}
		r.path = r.path[:len(r.path)-1]
		n.kids = append(n.kids, kid)
	}
	if _, err := r.d.Token(); err != nil { // the closing bracket
		f := jsonFinding(r.src, err)
		f.Pointer = r.where()
		return &f
	}
	return nil
}

func jsonFinding(src []byte, err error) Finding {
	offset := int64(len(src))
	pointer := ""
	sentence := "the file ends too early; a bracket or a quote is not closed"
	if se, ok := err.(*json.SyntaxError); ok {
		offset, sentence = se.Offset, "this is not JSON: "+se.Error()
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
