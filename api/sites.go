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
		list: func(context.Context) ([]site.Site, error) {
			all := s.Sites.List()
			for i := range all {
				all[i].Devices = s.Devices.CountAtSite(all[i].Name)
			}
			return all, nil
		},
		get: func(_ context.Context, name string) (site.Site, error) {
			x, err := s.Sites.Get(name)
			x.Devices = s.Devices.CountAtSite(x.Name)
			return x, err
		},
		tagOf: func(x site.Site) string { x.Devices = 0; return record.Tag(x) },
		put: func(ctx context.Context, x site.Site, c noun.If, by string) (noun.Saved[site.Site], error) {
			return s.Sites.Put(ctx, x, c, by)
		},
		remove: func(ctx context.Context, name string, c noun.If, by string) error {
			return s.Sites.Remove(ctx, name, c, by)
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
		p, err := s.Sites.PlanOf(ctx, in.Name)
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
		if err := s.Sites.SetPlan(ctx, in.Name, append([]byte{}, in.RawBody...), by(ctx).Person); err != nil {
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
		if err := s.Sites.SetPlan(ctx, in.Name, nil, by(ctx).Person); err != nil {
			return nil, s.failed(err)
		}
		return nil, nil
	}, describe("remove-site-plan", "Take the plan picture of a site away", "Sites", "The site stays."), notFound)
}
