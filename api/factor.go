package api

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"ullage/client"
	"ullage/transport/conns"
)

// factorRoutes serve the second factor of whoever is signed in.
func (s *server) factorRoutes() {
	throttled := func(o *huma.Operation) {
		o.Errors = append(o.Errors, http.StatusConflict, http.StatusTooManyRequests)
	}
	huma.Post(s.api, "/api/v1/me/second-factor", func(ctx context.Context, in *remote[client.FactorPassword]) (*body[client.FactorSetup], error) {
		x, err := s.People.BeginFactor(ctx, by(ctx), in.Body.Password, conns.HostOf(in.address))
		if err != nil {
			return nil, s.failed(err)
		}
		return &body[client.FactorSetup]{client.FactorSetup(x)}, nil
	}, describe("begin-second-factor", "Begin to set up a second factor", "Access"), throttled)
	huma.Post(s.api, "/api/v1/me/second-factor/confirm", func(ctx context.Context, in *remote[client.FactorCode]) (*body[client.RecoveryCodes], error) {
		codes, err := s.People.ConfirmFactor(ctx, by(ctx), in.Body.Code, conns.HostOf(in.address))
		if err != nil {
			return nil, s.failed(err)
		}
		return &body[client.RecoveryCodes]{client.RecoveryCodes{Codes: codes}}, nil
	}, describe("confirm-second-factor", "Put a second factor in force", "Access"), throttled)
	huma.Post(s.api, "/api/v1/me/second-factor/off", func(ctx context.Context, in *remote[client.FactorPassword]) (*struct{}, error) {
		if err := s.People.DropFactor(ctx, by(ctx), in.Body.Password, in.Body.Code, conns.HostOf(in.address)); err != nil {
			return nil, s.failed(err)
		}
		return nil, nil
	}, describe("drop-second-factor", "Take one's second factor off", "Access"), throttled)
	huma.Delete(s.api, "/api/v1/people/{name}/second-factor", func(ctx context.Context, in *ThingNamed) (*struct{}, error) {
		if err := s.People.RemoveFactor(ctx, in.Name, caller(ctx).Name); err != nil {
			return nil, s.failed(err)
		}
		return nil, nil
	}, describe("remove-second-factor", "Take the second factor off somebody who has lost it", "People"), notFound, throttled)
}
