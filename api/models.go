package api

import (
	"context"
	"encoding/json"
	"net"
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"ullage/client"
	"ullage/core/check"
	"ullage/core/handbook"
	"ullage/core/model"
	"ullage/core/unit"
	"ullage/core/value"
	"ullage/fleet/access"
	"ullage/fleet/derived"
	"ullage/fleet/devices"
	"ullage/fleet/fault"
	"ullage/fleet/models"
	"ullage/fleet/revisions"
)

// Named is the path of something with a name. It is exported because huma
// reads embedded structs only then.
type Named struct {
	Name string `path:"name" doc:"Name" maxLength:"63"`
}

// NamedModel is the path of a model.
type NamedModel struct {
	Name string `path:"name" doc:"Name of a model, in its newest version, or NAME@VERSION" maxLength:"140" example:"tank-probe@1.2.0"`
}

func (s *server) modelRoutes() {
	// Models are published and moved to, so they have verbs of their own for that.
	serve(s, served[client.Model]{word: "model", words: "models", tag: "Models", name: func(m client.Model) string {
		return m.Name
	},
		list: func(ctx context.Context) ([]client.Model, error) {
			out := []client.Model{}
			c := caller(ctx)
			counts := s.Fleet.VersionCounts(c)
			for _, m := range s.Fleet.Models(c) {
				out = append(out, s.model(c, m, counts))
			}
			return out, nil
		},
		get: func(ctx context.Context, name string) (client.Model, error) {
			c := caller(ctx)
			m, err := s.Fleet.Model(c, name)
			if err != nil {
				return client.Model{}, err
			}
			out := s.model(c, m, s.Fleet.VersionCounts(c))
			own := s.ownUnits(ctx)
			for i, p := range out.Properties {
				out.Properties[i] = own.property(p)
			}
			return out, nil
		},
	})
	type whole struct {
		NamedModel
		Whole bool `query:"whole" doc:"Write out all that it extends, imports and is composed of"`
	}
	huma.Get(s.api, "/api/v1/models/{name}/source", func(ctx context.Context, in *whole) (*body[json.RawMessage], error) {
		m, err := s.Fleet.Model(caller(ctx), in.Name)
		if err != nil {
			return nil, s.failed(err)
		}
		if in.Whole {
			return &body[json.RawMessage]{m.Whole}, nil
		}
		return &body[json.RawMessage]{m.Source}, nil
	}, describe("model-source", "A model's Thing Model as it was published", "Models"), notFound)
	type source struct {
		RawBody []byte `contentType:"application/json"`
	}
	huma.Post(s.api, "/api/v1/models", func(ctx context.Context, in *source) (*body[client.PublishedModel], error) {
		src, parts := withParts(in.RawBody)
		m, changed, err := s.Fleet.Publish(ctx, caller(ctx), src, parts)
		if err != nil {
			return nil, s.failed(err)
		}
		s.Settle()
		return &body[client.PublishedModel]{client.PublishedModel{Name: m.Name, Version: m.Version, Changed: changed}},
			nil
	},
		describe("load-model", "Publish a Thing Model, alone or as {\"model\": …, \"parts\": {NAME: …}} with the files it refers to. Devices stay with the version they were given", "Models"), func(o *huma.Operation) {
			o.MaxBodyBytes = model.MaxSource * 8
			o.SkipValidateBody = true // model.Parse says more, and says it better
		})
	s.modelWriting()
	s.modelMoving()
}

// withParts takes apart a model that comes with the files it refers to.
func withParts(b []byte) ([]byte, map[string]json.RawMessage) {
	var x struct {
		Type  any                        `json:"@type"`
		Model json.RawMessage            `json:"model"`
		Parts map[string]json.RawMessage `json:"parts"`
	}
	if json.Unmarshal(b, &x) != nil || x.Type != nil || x.Model == nil {
		return b, nil
	}
	return x.Model, x.Parts
}

// modelWriting serves the editor and the authors of firmware.
func (s *server) modelWriting() {
	type text struct{ Body client.ModelText }
	large := func(o *huma.Operation) { o.MaxBodyBytes = model.MaxSource * 8 }
	huma.Post(s.api, "/api/v1/models/preview", func(ctx context.Context, in *text) (*body[client.ModelPreview], error) {
		c := caller(ctx)
		d, err := s.Fleet.Preview(c, in.Body.Text, in.Body.Format, in.Body.Parts)
		if err != nil {
			return nil, s.failed(err)
		}
		return &body[client.ModelPreview]{s.preview(c, d)}, nil
	}, describe("preview-model", "Check a model that is being written, and say what publishing it would do", "Models"),
		large)
	type message struct {
		Body struct {
			Name    string `json:"name" doc:"What the model is called" example:"tank-probe"`
			Message string `json:"message" doc:"What a device sends: a JSON object of values, one with its time, a list, or SenML"`
		}
	}
	type made struct {
		Text string `json:"text" doc:"A Thing Model in JSON, to be edited"`
	}
	huma.Post(s.api, "/api/v1/models/from-message", func(ctx context.Context, in *message) (*body[made], error) {
		src, err := model.FromMessage([]byte(in.Body.Message), in.Body.Name)
		if err != nil {
			return nil, s.failed(err)
		}
		return &body[made]{made{string(src)}}, nil
	}, describe("model-from-message", "Make a model of a message, to be edited", "Models"), large)
	type kind struct {
		Kind string `path:"kind" enum:"model,rule,site,layer,examples" doc:"The kind of file"`
	}
	huma.Get(s.api, "/api/v1/schemas/{kind}", func(ctx context.Context, in *kind) (*body[json.RawMessage], error) {
		b, err := check.FileSchema(in.Kind)
		if err != nil {
			return nil, s.failed(fault.New(fault.NotFound, "%s", err))
		}
		return &body[json.RawMessage]{b}, nil
	}, describe("schema", "The JSON Schema of a kind of file, for editors", "Models"), notFound)
	type page struct {
		NamedModel
		Format string `query:"format" enum:"html,markdown" default:"html" doc:"What it is written in"`
		Device string `query:"device" doc:"The id in the lines to paste" maxLength:"63"`
	}
	type file struct {
		ContentType        string `header:"Content-Type"`
		ContentDisposition string `header:"Content-Disposition"`
		Body               []byte
	}
	huma.Get(s.api, "/api/v1/models/{name}/page", func(ctx context.Context, in *page) (*file, error) {
		m, err := s.Fleet.Model(caller(ctx), in.Name)
		if err != nil {
			return nil, s.failed(err)
		}
		host, port, _ := net.SplitHostPort(s.MQTTAt)
		p := handbook.Of(m, handbook.Doors{Device: in.Device, HTTP: "http://" + s.HTTPAt, Host: host, Port: port},
			s.Now())
		out, kind, end, write := "", "text/html; charset=utf-8", ".html", p.HTML
		if in.Format == "markdown" {
			kind, end, write = "text/markdown; charset=utf-8", ".md", p.Markdown
		}
		if out, err = write(); err != nil {
			return nil, s.failed(err)
		}
		return &file{kind, `attachment; filename="` + m.Name + "-" + m.Version + end + `"`, []byte(out)}, nil
	}, describe("model-page", "The page that authors of firmware work from", "Models"), notFound)
	huma.Get(s.api, "/api/v1/models/{name}/examples", func(ctx context.Context, in *NamedModel) (*body[model.Examples], error) {
		m, err := s.Fleet.Model(caller(ctx), in.Name)
		if err != nil {
			return nil, s.failed(err)
		}
		return &body[model.Examples]{m.Examples(m.Name+"-1", s.Now())}, nil
	}, describe("model-examples", "Payloads that a device of the model may send and get", "Models"), notFound)
}

func (s *server) preview(c access.Caller, d revisions.Draft) client.ModelPreview {
	out := client.ModelPreview{Findings: []client.TextFinding{}, Changes: []client.Change{}, Rules: d.Rules,
		State: "wrong", Devices: d.Devices}
	if out.Rules == nil {
		out.Rules = []string{}
	}
	for _, f := range d.Findings {
		out.Findings = append(out.Findings, client.TextFinding{Line: f.Line, Column: f.Column, Severity: f.Severity,
			Sentence: f.Sentence, Suggest: f.Suggest})
	}
	if d.Model == nil {
		return out
	}
	m := s.model(c, d.Model, s.Fleet.VersionCounts(c))
	out.Model, out.Whole, out.State = &m, d.Model.Whole, string(d.State)
	if d.Refused != nil {
		out.State, out.Refused = "refused", fault.From(d.Refused).Error()
	}
	if d.Before != nil {
		out.Before = d.Before.Version
	}
	if d.Comparison != nil {
		out.Needs, out.Changes = d.Comparison.Needs, changesOf(d.Comparison.Changes)
	}
	return out
}

func changesOf(cs []model.Change) []client.Change {
	out := []client.Change{}
	for _, c := range cs {
		out = append(out, client.Change{Pointer: c.Pointer, Weight: string(c.Weight), Sentence: c.Sentence})
	}
	return out
}

// modelMoving serves what happens to devices when a model changes.
func (s *server) modelMoving() {
	type move struct {
		Named
		Body client.Move
	}
	huma.Post(s.api, "/api/v1/models/{name}/move", func(ctx context.Context, in *move) (*body[client.Moved], error) {
		b := in.Body
		m, err := s.Fleet.Move(ctx, caller(ctx), in.Name, b.Version, b.Devices, b.Where, b.Preview)
		if err != nil {
			return nil, s.failed(err)
		}
		s.Settle()
		out := client.Moved{Version: m.To.Version, Devices: []client.DeviceMoved{}, Changes: changesOf(m.Differences),
			Moved: !b.Preview, Change: m.Change}
		for _, x := range m.Steps {
			out.Devices = append(out.Devices, client.DeviceMoved{Device: x.Device, From: x.From, Reported: x.Reported,
				Loses: x.Loses})
		}
		return &body[client.Moved]{out}, nil
	}, describe("move-devices", "Give devices another version of their model", "Models"), notFound)
	type backfill struct {
		Named
		Body client.Backfill
	}
	huma.Post(s.api, "/api/v1/models/{name}/backfill", func(ctx context.Context, in *backfill) (*body[client.Job], error) {
		v, err := s.Fleet.Backfill(caller(ctx), in.Name, in.Body.Devices, in.Body.Since)
		if err != nil {
			return nil, s.failed(err)
		}
		return &body[client.Job]{jobOf(v)}, nil
	}, describe("backfill-model", "Compute derived telemetry of the past; the job is asked for how far it is",
		"Models"), notFound)
	huma.Get(s.api, "/api/v1/jobs/{id}", func(ctx context.Context, in *One) (*body[client.Job], error) {
		v, err := s.Fleet.Work(caller(ctx), in.ID)
		if err != nil {
			return nil, s.failed(err)
		}
		return &body[client.Job]{jobOf(v)}, nil
	}, describe("job", "How far some work is", "Models"), notFound)
	huma.Delete(s.api, "/api/v1/jobs/{id}", func(ctx context.Context, in *One) (*struct{}, error) {
		if err := s.Fleet.StopWork(caller(ctx), in.ID); err != nil {
			return nil, s.failed(err)
		}
		return nil, nil
	}, describe("stop-job", "End some work; what it has done stays", "Models"), notFound)
}

func jobOf(v derived.View) client.Job {
	return client.Job{ID: v.ID, Model: v.Model, Devices: v.Devices, Done: v.Done, Readings: v.Readings,
		StartedAt: v.StartedAt, EndedAt: v.EndedAt, Error: v.Error}
}

func notFound(o *huma.Operation) { o.Errors = append(o.Errors, http.StatusNotFound) }

func (s *server) model(c access.Caller, m *model.Model, counts map[[2]string]devices.VersionCount) client.Model {
	out := client.Model{Name: m.Name, Title: m.Title, Description: m.Description, Version: m.Version,
		Additional: m.Additional, Interval: value.Duration(m.Interval).
				String(), Properties: []client.Property{}, Commands: m.Commands(),
		Actions: []client.Affordance{}, Events: []client.Affordance{}, Versions: []client.ModelVersion{}, Rules: []string{}, Open: m.Open}
	for _, a := range m.Actions {
		x := affordance(a.Name, a.Title, a.Description, a.Optional, a.Input)
		if a.Output != nil {
			x.Output = handbook.Fields(a.Output)
		}
		x.Component, x.Renews = a.Component, a.Renews
		out.Actions = append(out.Actions, x)
	}
	for _, e := range m.Events {
		out.Events = append(out.Events, affordance(e.Name, e.Title, e.Description, e.Optional, e.Data))
	}
	for i := range m.Properties {
		out.Properties = append(out.Properties, property(&m.Properties[i]))
	}
	versions := s.Fleet.Versions(c, m.Name)
	slices.Reverse(versions)
	for _, v := range versions {
		out.Versions = append(out.Versions, s.version(c, v, counts))
		if v.Version == m.Version {
			out.LoadedAt = v.LoadedAt
		}
	}
	for _, v := range out.Versions {
		out.Devices += v.Devices
		out.Other += v.Other
	}
	for _, r := range s.Fleet.Rules(c) {
		if r.Names(m.Name) {
			out.Rules = append(out.Rules, r.Name)
		}
	}
	return out
}

func (s *server) version(c access.Caller, v models.Published, counts map[[2]string]devices.VersionCount) client.ModelVersion {
	n := counts[[2]string{v.Name, v.Version}]
	out := client.ModelVersion{Version: v.Version, LoadedAt: v.LoadedAt, Devices: n.Devices, Other: n.Otherwise}
	if newest, err := s.Fleet.Model(c, v.Name); err == nil && newest.Version != v.Version && out.Devices > 0 {
		out.Unfit = s.Fleet.Unfit(c, v.Model) // rules were checked against the newest when they were set
	}
	return out
}

func property(p *model.Property) client.Property {
	c := client.Property{Name: p.Name, Title: p.Title, Description: p.Description, Role: string(p.Role),
		Type: kindName(p), Unit: p.Unit, Display: unit.Display(p.Unit), Decimals: p.Decimals, Minimum: p.Min, Maximum: p.Max, Enum: p.Enum,
		Default: p.Default.Any(), KeptByService: p.KeptByService, Secret: p.Secret, Optional: p.Optional, Derived: p.Derived, Tells: string(p.Tells), Component: p.Component, Says: p.Schema.Words()}
	if p.Usual != nil {
		c.Usual = []float64{p.Usual.Low, p.Usual.High}
	}
	if p.Accept != nil {
		c.Accept = []float64{p.Accept.Low, p.Accept.High}
	}
	if p.Retention > 0 {
		c.Retention = value.Duration(p.Retention).String()
	}
	if p.RollupRetention > 0 {
		c.RollupRetention = value.Duration(p.RollupRetention).String()
	}
	return c
}

func kindName(p *model.Property) string {
	if p.Integer {
		return "integer"
	}
	return p.Kind.String()
}

func affordance(name, title, says string, optional bool, data *model.Schema) client.Affordance {
	x := client.Affordance{Name: name, Title: title, Description: says, Optional: optional, Data: handbook.Fields(data)}
	if data == nil {
		return x
	}
	if b, err := json.Marshal(data.Example()); err == nil {
		x.Example = b
	}
	types := map[string]string{"number": "number", "integer": "integer", "string": "text", "boolean": "boolean"}
	for _, f := range data.Fields {
		kind, single := types[f.Schema.Type]
		if !single {
			x.Fields = nil
			return x
		}
		x.Fields = append(x.Fields, client.InputField{Name: f.Name, Title: f.Schema.Title, Type: kind,
			Display: unit.Display(f.Schema.Unit), Minimum: f.Schema.Minimum, Maximum: f.Schema.Maximum, Enum: f.Schema.Enum, Required: slices.Contains(data.Required,
				f.Name), Default: f.Schema.Default})
	}
	return x
}
