package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"ullage/core/record"
	"ullage/core/site"
	"ullage/fleet/noun"
)

func (s *server) siteRoutes() {
	serve(s, served[site.Site]{word: "site", words: "sites", tag: "Sites", name: func(x site.Site) string {
		return x.Name
	},
		list:  func(ctx context.Context) ([]site.Site, error) { return s.Fleet.Sites(caller(ctx)), nil },
		get:   func(ctx context.Context, name string) (site.Site, error) { return s.Fleet.Site(caller(ctx), name) },
		tagOf: func(x site.Site) string { x.Devices = 0; return record.Tag(x) },
		put: func(ctx context.Context, x site.Site, cond noun.If) (noun.Saved[site.Site], error) {
			return s.Fleet.PutSite(ctx, caller(ctx), x, cond)
		},
		remove: func(ctx context.Context, name string, cond noun.If) error {
			return s.Fleet.RemoveSite(ctx, caller(ctx), name, cond)
		},
	})
	path := "/api/v1/sites/{name}/plan"
	type picture struct {
		ContentType string `header:"Content-Type"`
		// A drawing may not do anything even where somebody opens it alone.
		Policy string `header:"Content-Security-Policy"`
		Body   []byte
	}
	type fresh struct {
		ThingNamed
		Version string `query:"v" maxLength:"40" doc:"Says nothing; another one makes a browser ask again"`
	}
	huma.Get(s.api, path, func(ctx context.Context, in *fresh) (*picture, error) {
		p, err := s.Fleet.SitePlan(ctx, caller(ctx), in.Name)
		if err != nil {
			return nil, s.failed(err)
		}
		return &picture{p.Type, "default-src 'none'; style-src 'unsafe-inline'; sandbox", p.Picture}, nil
	}, describe("site-plan", "The plan picture of a site", "Sites",
		"As it was given, with a content security policy of its own."), notFound)
	type upload struct {
		ThingNamed
		RawBody []byte `contentType:"application/octet-stream"`
	}
	huma.Put(s.api, path, func(ctx context.Context, in *upload) (*struct{}, error) {
		if err := s.Fleet.SetSitePlan(ctx, caller(ctx), in.Name, append([]byte{}, in.RawBody...)); err != nil {
			return nil, s.failed(err)
		}
		s.Settle()
		return nil, nil
	}, describe("put-site-plan", "Give a site its plan picture: an SVG that only draws, a PNG or a JPEG", "Sites",
		"At most 2 MiB. An SVG may hold shapes and text, and nothing that runs or fetches."),
		notFound,
		func(o *huma.Operation) {
			o.MaxBodyBytes = site.MaxPlan + 1
			o.Errors = append(o.Errors, http.StatusRequestEntityTooLarge)
		})
	huma.Delete(s.api, path, func(ctx context.Context, in *ThingNamed) (*struct{}, error) {
		if err := s.Fleet.SetSitePlan(ctx, caller(ctx), in.Name, nil); err != nil {
			return nil, s.failed(err)
		}
		return nil, nil
	}, describe("remove-site-plan", "Take the plan picture of a site away", "Sites", "The site stays."), notFound)
}
