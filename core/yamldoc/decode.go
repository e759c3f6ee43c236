package yamldoc

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"reflect"
	"strings"
	"unicode/utf8"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"ullage/core/value"
)

// ErrTags is that a file holds tags with which the parser cannot cope.
var ErrTags = errors.New("the file is not YAML that can be read; look for tags (!…) that do not belong there")

// ErrEmpty is that nothing is in a file but comments.
var ErrEmpty = errors.New("the file is empty")

// Parse parses the one document of a file that is Bounded. Anchors and aliases are refused: a few
// lines of them can stand for gigabytes.
func Parse(src []byte) (f *ast.File, err error) {
	if !utf8.Valid(src) {
		return nil, errors.New("the file is not text in UTF-8; save it as UTF-8")
	}
	if err := Bounded(src); err != nil {
		return nil, err
	}
	// The parser panics on some tags that nobody writes on purpose.
	defer func() {
		if recover() != nil {
			f, err = nil, ErrTags
		}
	}()
	if f, err = parser.ParseBytes(src, 0); err != nil {
		return nil, Explain(err, "", nil)
	}
	if len(f.Docs) > 1 {
		return nil, errors.New("a file is one YAML document, not several")
	}
	var found references
	for _, d := range f.Docs {
		ast.Walk(&found, d)
	}
	if found.line > 0 {
		return nil, fmt.Errorf("line %d: anchors and aliases (& and *) are not used here; write it out", found.line)
	}
	return f, nil
}

// Unmarked returns a text without the mark that some editors write before UTF-8.
func Unmarked(src []byte) []byte { return bytes.TrimPrefix(src, []byte("\xef\xbb\xbf")) }

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

// Decode reads the file of one thing, of at most so many bytes, into a struct. Keys
// that do not exist are refused with their line. What is what the file is of, as in
// "a site".
func Decode(src []byte, into any, what string, most int) (err error) {
	if len(src) > most {
		return fmt.Errorf("the file has %d bytes; %s may have %d", len(src), what, most)
	}
	src = Unmarked(src)
	f, err := Parse(src)
	if err != nil {
		return err
	}
	if len(f.Docs) == 0 || f.Docs[0].Body == nil || f.Docs[0].Body.Type() == ast.CommentType {
		return ErrEmpty
	}
	defer func() {
		if recover() != nil {
			err = ErrTags
		}
	}()
	if err := yaml.UnmarshalWithOptions(src, into, yaml.DisallowUnknownField()); err != nil {
		return Explain(err, what, KeysOf(into))
	}
	return nil
}

// KeysOf returns the keys that the file of a struct has, in their order.
func KeysOf(of any) []string {
	t := reflect.TypeOf(of)
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	return keysOf(t)
}

func keysOf(t reflect.Type) []string {
	if t.Kind() != reflect.Struct {
		return nil
	}
	var out []string
	for i := range t.NumField() {
		f := t.Field(i)
		name, options, _ := strings.Cut(f.Tag.Get("yaml"), ",")
		switch {
		case strings.Contains(options, "inline"):
			out = append(out, keysOf(f.Type)...)
		case f.IsExported() && name != "-":
			if name == "" {
				name = strings.ToLower(f.Name)
			}
			out = append(out, name)
		}
	}
	return out
}

// Explain makes a sentence, with its place, of what the decoder says: what the file is of, and
// which keys it has, make it a better one and may be left out.
func Explain(err error, what string, keys []string) error {
	var e yaml.Error
	if !errors.As(err, &e) {
		return err
	}
	if t := e.GetToken(); t != nil && t.Position != nil {
		return fmt.Errorf("line %d, column %d: %s", max(t.Position.Line, 1), max(t.Position.Column, 1), said(e, what, keys))
	}
	return errors.New(said(e, what, keys))
}

// Said is Explain without the place, for what is not where it is in the file.
func Said(err error) string {
	var e yaml.Error
	if !errors.As(err, &e) {
		return err.Error()
	}
	return said(e, "", nil)
}

func said(e yaml.Error, what string, keys []string) string {
	switch x := e.(type) {
	case *yaml.UnknownFieldError:
		return unknown(x.Token.Value, x.Token.Position.Column == 1, what, keys)
	case *yaml.SyntaxError: // the parser says so of a key that stands twice, as well
		if strings.HasPrefix(x.Message, "mapping key ") && strings.Contains(x.Message, "already defined") {
			return fmt.Sprintf("the key %q stands twice", value.Clip(x.Token.Value, 60))
		}
	case *yaml.DuplicateKeyError:
		return fmt.Sprintf("the key %q stands twice", value.Clip(x.Token.Value, 60))
	case *yaml.TypeError:
		return fmt.Sprintf("%s stands where there should be %s", kindOf(x.SrcType), kindOf(x.DstType))
	case *yaml.UnexpectedNodeTypeError:
		return fmt.Sprintf("%s stands where there should be %s", cmp.Or(nodes[x.Actual], "something else"), cmp.Or(nodes[x.Expected], "something else"))
	case *yaml.OverflowError:
		return fmt.Sprintf("the number %s is larger than fits", value.Clip(x.SrcNum, 40))
	}
	return e.GetMessage()
}

// unknown says that a key does not exist, and which was meant.
func unknown(key string, outermost bool, what string, keys []string) string {
	if !outermost || what == "" || len(keys) == 0 {
		return fmt.Sprintf("there is no key %q here", value.Clip(key, 60))
	}
	if near := value.Nearest(key, keys); near != "" {
		return fmt.Sprintf("%s has no %q; did you mean %s?", what, value.Clip(key, 60), near)
	}
	return fmt.Sprintf("%s has no %q; the keys are %s", what, value.Clip(key, 60), strings.Join(keys, ", "))
}

// kindOf is what people call a type.
func kindOf(t reflect.Type) string {
	for t != nil && t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	if t == nil {
		return "nothing"
	}
	switch k := t.Kind(); {
	case k == reflect.Slice || k == reflect.Array:
		return "a list"
	case k == reflect.Map || k == reflect.Struct:
		return "keys with values"
	case k == reflect.String:
		return "a text"
	case k == reflect.Bool:
		return "true or false"
	case k == reflect.Float32 || k == reflect.Float64:
		return "a number"
	case k >= reflect.Int && k <= reflect.Uint64:
		return "a whole number"
	}
	return "something else"
}

// nodes is what people call a node; others are a text.
var nodes = map[ast.NodeType]string{ast.MappingType: "keys with values", ast.MappingValueType: "keys with values", ast.SequenceType: "a list", ast.NullType: "nothing",
	ast.IntegerType: "a number", ast.FloatType: "a number", ast.BoolType: "true or false", ast.StringType: "a text", ast.LiteralType: "a text"}

// Encode writes a thing as its file, a whole number as people write it; nil for what cannot
// be written.
func Encode(x any) []byte {
	b, err := yaml.MarshalWithOptions(x, yaml.AutoInt())
	if err != nil {
		return nil
	}
	return b
}
