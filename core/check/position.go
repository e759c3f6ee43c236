package check

import (
	"bytes"
	"encoding/json"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"ullage/core/yamldoc"
)

// place is a line and a column, both from 1; the zero place is not known.
type place struct{ line, column int }

// inJSON returns where the value stands that a JSON pointer (RFC 6901) names,
// or the nearest that there is on the way to it.
func inJSON(src []byte, pointer string) place {
	d := json.NewDecoder(bytes.NewReader(src))
	at := int64(0)
	segments := split(pointer)
	for {
		// The value at the path so far begins behind what is between it and here.
		start := d.InputOffset()
		for start < int64(len(src)) && bytes.IndexByte([]byte(" \t\r\n:,"), src[start]) >= 0 {
			start++
		}
		at = start
		t, err := d.Token()
		if err != nil || len(segments) == 0 {
			break
		}
		delim, _ := t.(json.Delim)
		found := false
		for i := 0; (delim == '{' || delim == '[') && d.More(); i++ {
			name := strconv.Itoa(i)
			if delim == '{' {
				k, err := d.Token()
				if err != nil {
					return lineOf(src, at)
				}
				name, _ = k.(string)
			}
			if name == segments[0] {
				found = true
				break
			}
			var skip json.RawMessage
			if d.Decode(&skip) != nil {
				return lineOf(src, at)
			}
		}
		if !found {
			break
		}
		segments = segments[1:]
	}
	return lineOf(src, at)
}

func lineOf(src []byte, offset int64) place {
	offset = min(max(offset, 0), int64(len(src)))
	before := src[:offset]
	return place{bytes.Count(before, []byte("\n")) + 1, int(offset) - bytes.LastIndexByte(before, '\n')}
}

func split(pointer string) []string {
	if pointer == "" {
		return nil
	}
	out := strings.Split(strings.TrimPrefix(pointer, "/"), "/")
	for i, s := range out {
		out[i] = strings.ReplaceAll(strings.ReplaceAll(s, "~1", "/"), "~0", "~")
	}
	return out
}

// document is a parsed YAML file.
type document struct{ root ast.Node }

func parseYAML(src []byte) (d document) {
	defer func() {
		if recover() != nil {
			d = document{}
		}
	}()
	f, err := yamldoc.Parse(yamldoc.Unmarked(src)) // what is wrong is said where the file itself is read
	if err != nil || len(f.Docs) == 0 {
		return document{}
	}
	return document{f.Docs[0].Body}
}

// find returns the node that a pointer names, or the nearest on the way to it.
func (d document) find(pointer string) ast.Node {
	n := d.root
	for _, s := range split(pointer) {
		var next ast.Node
		switch x := n.(type) {
		case *ast.MappingNode:
			for _, v := range x.Values {
				if v.Key.String() == s || strings.Trim(v.Key.String(), `"'`) == s {
					next = v.Value
				}
			}
		case *ast.MappingValueNode:
			if x.Key.String() == s || strings.Trim(x.Key.String(), `"'`) == s {
				next = x.Value
			}
		case *ast.SequenceNode:
			if i, err := strconv.Atoi(s); err == nil && i >= 0 && i < len(x.Values) {
				next = x.Values[i]
			}
		}
		if next == nil {
			return n
		}
		n = next
	}
	return n
}

func (d document) place(pointer string) place {
	n := d.find(pointer)
	if n == nil || n.GetToken() == nil || n.GetToken().Position == nil {
		return place{1, 1}
	}
	p := n.GetToken().Position
	return place{p.Line, p.Column}
}

// within returns the place of a column, from 1, of the text that a pointer
// names; of a text over several lines only where it begins.
func (d document) within(pointer, text string, column int) place {
	p := d.place(pointer)
	n := d.find(pointer)
	if n == nil || column < 1 {
		return p
	}
	origin := strings.TrimLeft(n.GetToken().Origin, " \t\n")
	switch {
	case strings.HasPrefix(origin, text): // plain
		p.column += column - 1
	case strings.HasPrefix(origin, `"`+text), strings.HasPrefix(origin, `'`+text):
		p.column += column
	}
	return p
}
