package api

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"ullage/client"
	"ullage/docs"
	"ullage/fleet/fault"
)

// documentRoutes serve the documents of this version.
func (s *server) documentRoutes() {
	huma.Get(s.api, "/api/v1/documents", func(context.Context, *struct{}) (*body[[]client.Document], error) {
		all, err := docs.All()
		if err != nil {
			return nil, s.failed(err)
		}
		out := make([]client.Document, len(all))
		for i, d := range all {
			out[i] = client.Document{Name: d.Name, Title: d.Title}
		}
		return &body[[]client.Document]{out}, nil
	}, describe("documents", "The documents of this version, in the order to read them", "Service"))
	huma.Get(s.api, "/api/v1/documents/{name}", func(_ context.Context, in *Named) (*body[client.Document], error) {
		all, err := docs.All()
		if err != nil {
			return nil, s.failed(err)
		}
		for _, d := range all {
			if d.Name == in.Name {
				return &body[client.Document]{client.Document{Name: d.Name, Title: d.Title, Text: d.Text}}, nil
			}
		}
		return nil, s.failed(fault.New(fault.NotFound, "there is no document %q", in.Name))
	}, describe("document", "One document, in Markdown", "Service"), notFound)
}
