package api

import (
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"reflect"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"ullage/client"
	"ullage/core/batch"
	"ullage/core/bundle"
	"ullage/fleet/devices"
	"ullage/fleet/fault"
	"ullage/fleet/scoped"
)

// batchRoutes onboard many devices: a list is looked at first, and nothing is made of
// it; then its devices are made in parts, each all or none.
func (s *server) batchRoutes() {
	type file struct{ FileBody }
	huma.Post(s.api, "/api/v1/devices/list", func(ctx context.Context, in *file) (*body[client.BatchPlan], error) {
		b, err := io.ReadAll(io.LimitReader(in.r, batch.MaxBytes+1))
		if err != nil {
			return nil, s.failed(fault.New(fault.Invalid, "the list ended before it was whole").Then("send it again"))
		}
		l, err := batch.Read(b)
		if err != nil {
			return nil, s.failed(fault.New(fault.Invalid, "%s", err).On("list"))
		}
		news := make([]devices.New, len(l.Rows))
		for i, r := range l.Rows {
			news[i] = devices.New{ID: r.ID, Name: r.Name, Model: r.Model, Hub: r.Hub, Labels: r.Labels}
		}
		errs, err := s.Fleet.PlanMany(caller(ctx), news)
		if err != nil {
			return nil, s.failed(err)
		}
		out := client.BatchPlan{Devices: []client.NewDevice{}, Findings: []client.ImportFinding{}, Bad: l.Bad, More: l.More}
		for _, f := range l.Findings {
			out.Findings = append(out.Findings, client.ImportFinding(f))
		}
		for i, r := range l.Rows {
			if errs[i] != nil {
				if out.Bad++; len(out.Findings) < batch.MaxFindings {
					out.Findings = append(out.Findings, client.ImportFinding{Line: r.Line, Sentence: fault.From(errs[i]).Error()})
				} else {
					out.More++
				}
				continue
			}
			out.Devices = append(out.Devices, client.NewDevice{ID: r.ID, Name: r.Name, Model: r.Model, Hub: r.Hub, Labels: r.Labels,
				NewCredential: client.NewCredential{Credential: r.Credential}})
		}
		return &body[client.BatchPlan]{out}, nil
	}, describe("read-list", "Look at a list of devices in CSV or JSON Lines: what would be onboarded, and what is wrong, line by line", "Devices",
		"Nothing is made. Columns are id, model, name, hub, credential and label.NAME, in any order."))
	s.api.OpenAPI().Paths["/api/v1/devices/list"].Post.RequestBody = &huma.RequestBody{Required: true,
		Description: "The list", Content: map[string]*huma.MediaType{"text/csv": {Schema: &huma.Schema{Type: "string"}}}}
	type many struct {
		Accept string `header:"Accept" doc:"application/zip for the bundles alone, as they are"`
		Body   client.Batch
	}
	huma.Post(s.api, "/api/v1/devices/batch", func(ctx context.Context, in *many) (*huma.StreamResponse, error) {
		news, ws := make([]devices.New, len(in.Body.Devices)), make([]devices.Wanted, len(in.Body.Devices))
		for i, n := range in.Body.Devices {
			news[i] = devices.New{ID: n.ID, Name: n.Name, Model: n.Model, Hub: n.Hub, Labels: n.Labels}
			ws[i] = wanted(n.NewCredential)
		}
		made, err := s.Fleet.CreateMany(ctx, caller(ctx), news, ws)
		if err != nil {
			return nil, s.failed(err)
		}
		// Whatever is asked next knows them. What follows from one part would wait for the
		// commit of the next, and all parts that are on their way would end at once.
		known := make(chan struct{})
		go func() {
			defer close(known)
			s.Shown()
		}()
		out := client.BatchMade{Devices: []client.BatchDevice{}}
		all := bundle.NewMany(s.Now(), len(made))
		for _, d := range made {
			if err := s.handed(&out, all, d); err != nil {
				return nil, s.failed(err)
			}
		}
		answer, err := s.packed(out, all)
		if err != nil {
			return nil, err
		}
		<-known
		return &huma.StreamResponse{Body: func(c huma.Context) {
			if in.Accept == "application/zip" {
				c.SetHeader("Content-Type", in.Accept)
				_, _ = c.BodyWriter().Write(answer.Body.Bundles)
				return
			}
			c.SetHeader("Content-Type", "application/json")
			_ = json.NewEncoder(c.BodyWriter()).Encode(answer.Body)
		}}, nil
	}, describe("create-devices", "Onboard some devices, all or none; their credentials are in the bundles of the answer, this once", "Devices",
		fmt.Sprintf("At most %d at once. The bundles are one zip file that holds one for each device, and a manifest; they have no samples.", devices.MaxMany)),
		func(o *huma.Operation) {
			o.MaxBodyBytes = 8 << 20
			o.Responses = map[string]*huma.Response{"200": {Description: "OK", Content: map[string]*huma.MediaType{
				"application/json": {Schema: s.api.OpenAPI().Components.Schemas.Schema(reflect.TypeFor[client.BatchMade](), true, "BatchMade")},
				"application/zip":  {Schema: &huma.Schema{Type: "string", Format: "binary"}}}}}
		})
}

// renewRoutes give many devices other credentials.
func (s *server) renewRoutes() {
	type renew struct{ Body client.RenewMany }
	huma.Post(s.api, "/api/v1/device-credentials", func(ctx context.Context, in *renew) (*body[client.BatchMade], error) {
		given, errs, err := s.Fleet.RenewMany(ctx, caller(ctx), in.Body.Devices, wanted(client.NewCredential{Credential: in.Body.Credential}), in.Body.Keep)
		if err != nil {
			return nil, s.failed(err)
		}
		s.Settle()
		out := client.BatchMade{Devices: []client.BatchDevice{}, Failed: []client.ImportFinding{}}
		all := bundle.NewMany(s.Now(), len(in.Body.Devices))
		for i, id := range in.Body.Devices {
			if errs[i] != nil {
				out.Failed = append(out.Failed, client.ImportFinding{Line: i + 1, Sentence: id + ": " + fault.From(errs[i]).Error()})
				continue
			}
			d, m, err := s.Fleet.Registered(caller(ctx), id)
			if err == nil {
				err = s.handed(&out, all, scoped.Made{Device: d, Given: given[i], Model: m})
			}
			if err != nil {
				return nil, s.failed(err)
			}
		}
		return s.packed(out, all)
	}, describe("renew-devices", "Give some devices another credential each; they are in the bundles of the answer, this once", "Devices",
		fmt.Sprintf("At most %d at once. Devices of which it fails stay as they are, and are told.", devices.MaxMany)))
}

// handed adds what a device was given to an answer.
func (s *server) handed(out *client.BatchMade, all *bundle.Many, d scoped.Made) error {
	given := d.Given
	if err := all.Add(s.bundleOf(d.Device, d.Model, given, true)); err != nil {
		return err
	}
	kind := "token"
	if given.Token == "" {
		kind = "certificate"
	}
	out.Devices = append(out.Devices, client.BatchDevice{ID: d.ID, Model: d.Device.Model, Credential: given.ID, Kind: kind, ExpiresAt: optional(given.ExpiresAt)})
	return nil
}

// packed ends an answer with its bundles and a manifest.
func (s *server) packed(out client.BatchMade, all *bundle.Many) (_ *body[client.BatchMade], err error) {
	if out.Bundles, err = all.Close(bundle.File{Name: "manifest.csv", Data: manifest(out.Devices)}); err != nil {
		return nil, s.failed(err)
	}
	return &body[client.BatchMade]{out}, nil
}

// manifest lists what was made, in CSV. It holds nothing that is secret.
func manifest(ds []client.BatchDevice) []byte {
	var b bytes.Buffer
	w := csv.NewWriter(&b)
	w.Write([]string{"id", "model", "kind", "credential", "expires_at"})
	for _, d := range ds {
		until := ""
		if d.ExpiresAt != nil {
			until = d.ExpiresAt.UTC().Format(time.RFC3339)
		}
		w.Write([]string{d.ID, d.Model, d.Kind, d.Credential, until})
	}
	w.Flush()
	return b.Bytes()
}
