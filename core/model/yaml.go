package model

import (
	"fmt"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"ullage/core/yamldoc"
)

// FromYAML turns a Thing Model written in YAML into the same in JSON, members
// in their order. Anchors and aliases are refused: a few lines of them can
// stand for gigabytes. The error is of type Findings.
func FromYAML(src []byte) (out []byte, err error) {
	if len(src) > MaxSource {
		return nil, Findings{{"", fmt.Sprintf("the file has %d bytes; a model may have %d", len(src), MaxSource)}}
	}
	if err := yamldoc.Bounded(src); err != nil {
		return nil, Findings{{"", err.Error()}}
	}
	// The YAML decoder panics on some tags that nobody writes on purpose.
	defer func() {
		if recover() != nil {
			out, err = nil, Findings{{"", "the file is not YAML that can be read; look for tags (!…) that do not belong there"}}
		}
	}()
	doc, err := parser.ParseBytes(src, 0)
	if err != nil {
		return nil, Findings{{"", yaml.FormatError(err, false, false)}}
	}
	if len(doc.Docs) != 1 {
		return nil, Findings{{"", "a model is one YAML document, not several"}}
	}
	var found references
	ast.Walk(&found, doc.Docs[0])
	if found.line > 0 {
		return nil,
			Findings{{"", fmt.Sprintf("line %d: anchors and aliases (& and *) are not used in models; write it out", found.line)}}
	}
	if out, err = yaml.YAMLToJSON(src); err != nil {
		return nil, Findings{{"", yaml.FormatError(err, false, false)}}
	}
	return out, nil
}

// references finds the first anchor or alias.
type references struct{ line int }

// Visit implements ast.Visitor.
func (r *references) Visit(n ast.Node) ast.Visitor {
	switch n.(type) {
	case *ast.AnchorNode, *ast.AliasNode:
		if r.line == 0 {
			r.line = n.GetToken().Position.Line
		}
		return nil
	}
	return r
}
