package api

import (
	"bytes"
	"context"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"ullage/client"
	"ullage/core/join"
	"ullage/core/record"
	"ullage/fleet/fault"
	"ullage/fleet/noun"
)

// joinRoutes serve join keys, and who asked to join.
func (s *server) joinRoutes() {
	serve(s, served[join.Key]{word: "join key", words: "join-keys", tag: "Joining", name: func(k join.Key) string { return k.Name },
		list: func(ctx context.Context) ([]join.Key, error) { return s.Fleet.JoinKeys(caller(ctx)), nil },
		get:  func(ctx context.Context, name string) (join.Key, error) { return s.Fleet.JoinKey(caller(ctx), name) },
		tagOf: func(k join.Key) string {
			k.Joined, k.Waiting, k.Listed = 0, 0, 0
			return record.Tag(k)
		},
		put: func(ctx context.Context, k join.Key, cond noun.If) (noun.Saved[join.Key], error) {
			return s.Fleet.PutJoinKey(ctx, caller(ctx), k, cond)
		},
		remove: func(ctx context.Context, name string, cond noun.If) error {
			return s.Fleet.RemoveJoinKey(ctx, caller(ctx), name, cond)
		},
	})
	type make struct{ Body join.Key }
	huma.Post(s.api, "/api/v1/join-keys", func(ctx context.Context, in *make) (*body[client.JoinKeyMade], error) {
		k, secret, err := s.Fleet.MakeJoinKey(ctx, caller(ctx), in.Body)
		if err != nil {
			return nil, s.failed(err)
		}
		s.Settle()
		return &body[client.JoinKeyMade]{client.JoinKeyMade{JoinKey: k, Secret: secret}}, nil
	}, describe("make-join-key", "Make a key with which devices join by themselves; its secret is shown this once", "Joining"),
		func(o *huma.Operation) { o.MaxBodyBytes = 2 << 20 })
	huma.Post(s.api, "/api/v1/join-keys/{name}/revoke", func(ctx context.Context, in *ThingNamed) (*body[client.JoinKey], error) {
		k, err := s.Fleet.RevokeJoinKey(ctx, caller(ctx), in.Name)
		if err != nil {
			return nil, s.failed(err)
		}
		s.Settle()
		return &body[client.JoinKey]{k}, nil
	}, describe("revoke-join-key", "End a join key for good", "Joining"), notFound)
	type labels struct {
		ThingNamed
		Body client.JoinSerials
	}
	big := func(o *huma.Operation) { o.MaxBodyBytes = 2 << 20 }
	huma.Post(s.api, "/api/v1/join-keys/{name}/labels", func(ctx context.Context, in *labels) (*body[[]client.JoinLabel], error) {
		_, ls, err := s.Fleet.JoinLabels(caller(ctx), in.Name, in.Body.Serials)
		if err != nil {
			return nil, s.failed(err)
		}
		return &body[[]client.JoinLabel]{ls}, nil
	}, describe("join-labels", "The secret of each of some serials", "Joining"), notFound, big)
	type sheet struct {
		ContentType string `header:"Content-Type"`
		Policy      string `header:"Content-Security-Policy"`
		Cache       string `header:"Cache-Control"`
		Body        []byte
	}
	huma.Post(s.api, "/api/v1/join-keys/{name}/sheet", func(ctx context.Context, in *labels) (*sheet, error) {
		k, ls, err := s.Fleet.JoinLabels(caller(ctx), in.Name, in.Body.Serials)
		if err != nil {
			return nil, s.failed(err)
		}
		if len(ls) > maxSheet {
			return nil, s.failed(fault.New(fault.TooLarge, "%d labels are too many for one sheet; %d are the most", len(ls), maxSheet).Then("ask for them in parts"))
		}
		var b bytes.Buffer
		if err := (join.Sheet{Key: k.Name, Model: k.Model, Expires: k.ExpiresAt.Format(time.DateOnly), Labels: ls}).Write(&b); err != nil {
			return nil, s.failed(err)
		}
		return &sheet{"text/html; charset=utf-8", "default-src 'none'; style-src 'unsafe-inline'; sandbox", "no-store", b.Bytes()}, nil
	}, describe("join-sheet", "A sheet of labels to print, with the secret of each serial as a QR code", "Joining"), notFound, big)

	serve(s, served[join.Request]{word: "join request", words: "join-requests", tag: "Joining", name: func(r join.Request) string { return r.ID },
		list: func(ctx context.Context) ([]join.Request, error) { return s.Fleet.JoinRequests(caller(ctx)), nil },
		get: func(ctx context.Context, id string) (join.Request, error) {
			return s.Fleet.JoinRequest(caller(ctx), id)
		},
	})
	type decide struct{ Body client.JoinDecision }
	huma.Post(s.api, "/api/v1/join-requests/decide", func(ctx context.Context, in *decide) (*body[client.JoinDecided], error) {
		chosen, err := s.chosenJoins(ctx, in.Body)
		if err != nil {
			return nil, s.failed(err)
		}
		out := client.JoinDecided{Count: len(chosen), Requests: chosen}
		if len(out.Requests) > maxShown {
			out.Requests = out.Requests[:maxShown]
		}
		if in.Body.Preview {
			return &body[client.JoinDecided]{out}, nil
		}
		ids := []string{}
		for _, r := range chosen {
			ids = append(ids, r.ID)
		}
		if out.Changed, err = s.Fleet.DecideJoins(ctx, caller(ctx), ids, in.Body.Admit, in.Body.Reason); err != nil {
			return nil, s.failed(err)
		}
		s.Settle()
		for i, r := range out.Requests {
			if now, err := s.Fleet.JoinRequest(caller(ctx), r.ID); err == nil {
				out.Requests[i] = now
			}
		}
		return &body[client.JoinDecided]{out}, nil
	}, describe("decide-joins", "Let devices in that asked to join, or refuse them", "Joining"), func(o *huma.Operation) { o.MaxBodyBytes = 1 << 20 })
}

const (
	maxSheet = 2000 // labels
	maxShown = 100  // requests of a decision
)

// chosenJoins returns the requests that a decision is about.
func (s *server) chosenJoins(ctx context.Context, d client.JoinDecision) ([]join.Request, error) {
	byWhere := strings.TrimSpace(d.Where) != ""
	if byWhere == (len(d.Requests) > 0) {
		return nil, fault.New(fault.Invalid, "a decision is about some requests, or about those of a condition").Then("say either requests or where")
	}
	all := s.Fleet.JoinRequests(caller(ctx))
	out := []join.Request{}
	if byWhere {
		fields := record.Fields[join.Request]()
		f, found := record.NewFilter("join request", d.Where, fields)
		if f == nil {
			return nil, wrongWhere(found, fields)
		}
		now := s.Now()
		for _, r := range all {
			if r.State == join.Waiting && f.Passes(r, now) {
				out = append(out, r)
			}
		}
		return out, nil
	}
	byID := map[string]join.Request{}
	for _, r := range all {
		byID[r.ID] = r
	}
	for _, id := range d.Requests {
		r, ok := byID[id]
		if !ok {
			return nil, fault.New(fault.NotFound, "there is no request to join %q; did the device ask anew since?", id).Then("look at the list again").On("join request")
		}
		out = append(out, r)
	}
	return out, nil
}
