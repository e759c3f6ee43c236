package api

import (
	_ "embed"
	"html/template"
	"net/http"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"
)

//go:embed docs.html
var docsHTML string

var docsPage = template.Must(template.New("docs").Parse(docsHTML))

type docOperation struct {
	ID, Method, Path, Summary string
	Params                    []docField
	Body, Answer              []docField
}

type docField struct {
	Name, Type, Doc string
	Required        bool
}

type docGroup struct {
	Tag        string
	Operations []docOperation
}

// docs renders the reference from the OpenAPI document itself.
func (s *server) docs(c *gin.Context) {
	doc := s.api.OpenAPI()
	groups := map[string]*docGroup{}
	var order []string
	for path, item := range doc.Paths {
		for method, op := range map[string]*huma.Operation{"GET": item.Get, "POST": item.Post, "PUT": item.Put,
			"DELETE": item.Delete} {
			if op == nil || len(op.Tags) == 0 {
				continue
			}
			g := groups[op.Tags[0]]
			if g == nil {
				g = &docGroup{Tag: op.Tags[0]}
				groups[op.Tags[0]] = g
				order = append(order, op.Tags[0])
			}
			d := docOperation{ID: op.OperationID, Method: method, Path: path, Summary: op.Summary}
			for _, p := range op.Parameters {
				d.Params = append(d.Params, docField{p.Name, typeName(p.Schema) + " in " + p.In,
					p.Schema.Description + p.Description, p.Required})
			}
			if op.RequestBody != nil {
				d.Body = s.fields(op.RequestBody.Content)
			}
			if r := op.Responses["200"]; r != nil {
				d.Answer = s.fields(r.Content)
			}
			g.Operations = append(g.Operations, d)
		}
	}
	slices.Sort(order)
	var page struct {
		Version string
		Groups  []*docGroup
	}
	page.Version = s.Version
	for _, tag := range order {
		g := groups[tag]
		slices.SortFunc(g.Operations, func(a, b docOperation) int {
			return strings.Compare(a.Path+a.Method, b.Path+b.Method)
		})
		page.Groups = append(page.Groups, g)
	}
	c.Header("Content-Type", "text/html; charset=utf-8")
	c.Header("Content-Security-Policy",
		"default-src 'none'; style-src 'self'; img-src 'self'; font-src 'self'; base-uri 'none'; frame-ancestors 'none'")
	if err := docsPage.Execute(c.Writer, page); err != nil {
		s.Log.Error("the API reference could not be written", "error", err)
		c.AbortWithStatus(http.StatusInternalServerError)
	}
}

//go:embed docs.css
var docsCSS []byte

func (s *server) docsStyle(c *gin.Context) { c.Data(http.StatusOK, "text/css; charset=utf-8", docsCSS) }

func (s *server) fields(content map[string]*huma.MediaType) []docField {
	m := content["application/json"]
	if m == nil || m.Schema == nil {
		return nil
	}
	schema := s.resolve(m.Schema)
	list := schema.Type == huma.TypeArray
	if list {
		schema = s.resolve(schema.Items)
	}
	var out []docField
	for name, p := range schema.Properties {
		out = append(out, docField{name, typeName(p), p.Description, slices.Contains(schema.Required, name)})
	}
	slices.SortFunc(out, func(a, b docField) int { return strings.Compare(a.Name, b.Name) })
	if list {
		out = append([]docField{{Name: "[…]", Type: "array", Doc: "of objects with"}}, out...)
	}
	return out
}

func (s *server) resolve(x *huma.Schema) *huma.Schema {
	if x != nil && x.Ref != "" {
		return s.api.OpenAPI().Components.Schemas.SchemaFromRef(x.Ref)
	}
	if x == nil {
		return &huma.Schema{}
	}
	return x
}

func typeName(x *huma.Schema) string {
	if x == nil {
		return ""
	}
	t := x.Type
	if x.Ref != "" {
		t = x.Ref[strings.LastIndexByte(x.Ref, '/')+1:]
	}
	if x.Type == huma.TypeArray && x.Items != nil {
		t = "array of " + typeName(x.Items)
	}
	if x.Format != "" {
		t += " (" + x.Format + ")"
	}
	if t == "" {
		t = "any"
	}
	return t
}
