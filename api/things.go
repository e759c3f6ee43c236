package api

import (
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"ullage/client"
	"ullage/core/check"
	"ullage/core/model"
	"ullage/core/value"
	"ullage/fleet/devices"
	"ullage/fleet/fault"
	"ullage/fleet/folder"
)

// Origin is the address by which a request reached the service.
type Origin struct{ base string }

// Resolve implements huma.Resolver.
func (o *Origin) Resolve(ctx huma.Context) []error {
	u := url.URL{Scheme: "http", Host: ctx.Host()}
	if ctx.TLS() != nil {
		u.Scheme = "https"
	}
	o.base = u.String()
	return nil
}

// OneValue is the path of one value of a device.
type OneValue struct {
	One
	Name string `path:"name" doc:"Name of a metric, attribute or setting" maxLength:"200"`
}

// thingRoutes serve each device as a Thing of the W3C Web of Things: its
// description, and the values that its forms lead to.
func (s *server) thingRoutes() {
	type described struct {
		One
		Origin
	}
	type thing struct {
		ContentType string `header:"Content-Type"`
		Body        json.RawMessage
	}
	huma.Get(s.api, "/api/v1/devices/{id}/description", func(ctx context.Context, in *described) (*thing, error) {
		b, err := s.description(ctx, in.ID, in.base)
		if err != nil {
			return nil, s.failed(err)
		}
		return &thing{"application/td+json", b}, nil
	}, describe("description", "A device's Thing Description (W3C WoT TD 1.1)", "Devices"), notFound)
	huma.Get(s.api, "/api/v1/devices/{id}/values", func(ctx context.Context, in *One) (*body[map[string]any], error) {
		d, m, err := s.Fleet.Registered(caller(ctx), in.ID)
		if err != nil {
			return nil, s.failed(err)
		}
		out := map[string]any{}
		for i := range m.Properties {
			if v := s.value(ctx, d, m, &m.Properties[i]); v.Known() {
				out[m.Properties[i].Name] = v.Shown()
			}
		}
		return &body[map[string]any]{out}, nil
	}, describe("values", "Every value of a device now: telemetry, attributes, and settings as intended", "Devices"),
		notFound)
	huma.Get(s.api, "/api/v1/devices/{id}/values/{name}", func(ctx context.Context, in *OneValue) (*body[any], error) {
		d, m, err := s.Fleet.Registered(caller(ctx), in.ID)
		if err != nil {
			return nil, s.failed(err)
		}
		p, ok := m.Property(in.Name)
		if !ok {
			return nil, s.failed(fault.New(fault.NotFound, "%s has no value %s", m, in.Name).
				Then("see what it has in GET /api/v1/models/%s", m.Name))
		}
		v := s.value(ctx, d, m, p)
		if !v.Known() {
			return nil, s.failed(fault.New(fault.NotFound, "%s has not reported %s yet", in.ID, in.Name).
				Then("see what arrives in its traffic"))
		}
		return &body[any]{v.Shown()}, nil
	}, describe("value", "One value of a device now", "Devices"), notFound)
	type set struct {
		OneValue
		RawBody []byte `contentType:"application/json"`
	}
	huma.Put(s.api, "/api/v1/devices/{id}/values/{name}", func(ctx context.Context, in *set) (*struct{}, error) {
		var x any
		if err := json.Unmarshal(in.RawBody, &x); err != nil {
			return nil, s.failed(fault.New(fault.Invalid, "the body is not JSON").
				Then("send the value alone, like 28.5 or \"auto\""))
		}
		if _, err := s.Fleet.Set(ctx, caller(ctx), in.ID, map[string]any{in.Name: x}, nil, time.Time{}); err != nil {
			return nil, s.failed(err)
		}
		s.Settle()
		return nil, nil
	}, describe("set-value", "Set one setting on a device", "Devices"), notFound, func(o *huma.Operation) {
		o.SkipValidateBody = true // the model says more, and says it better
	})
}

func (s *server) value(ctx context.Context, d devices.Device, m *model.Model, p *model.Property) value.Value {
	switch p.Role {
	case model.Attribute:
		return d.Attributes[p.Name]
	case model.Setting:
		st, _, err := s.Fleet.Settings(caller(ctx), d.ID)
		if err != nil {
			return value.Value{}
		}
		if p.KeptByService {
			return st.Kept[p.Name]
		}
		return st.Intended[p.Name]
	}
	now, err := s.Fleet.Device(caller(ctx), d.ID)
	if err != nil {
		return value.Value{}
	}
	return now.Latest[p.Name].Value
}

func (s *server) description(ctx context.Context, id, base string) ([]byte, error) {
	d, m, err := s.Fleet.Registered(caller(ctx), id)
	if err != nil {
		return nil, err
	}
	fill := map[string]string{}
	for name, v := range d.Attributes {
		fill[name] = v.String()
	}
	for name, v := range d.Labels {
		fill[name] = v
	}
	now, err := s.Fleet.Device(caller(ctx), id)
	if err != nil {
		return nil, err
	}
	b, err := m.Describe(model.Instance{ID: id, Service: base, MQTT: "mqtt://" + s.MQTTAt, HTTP: "http://" + s.HTTPAt,
		Fill: fill, Link: fmt.Sprintf("%s/api/v1/models/%s/source", base, url.PathEscape(m.Name+"@"+m.Version)),
		Has: func(name string) bool {
			_, told := d.Attributes[name]
			_, measured := now.Latest[name]
			p, ok := m.Property(name)
			return told || measured || ok && p.Role == model.Setting
		}})
	if err != nil {
		return nil, fault.New(fault.Conflict, "there is no description of %s: %s", id, err).
			Then("give the device that label")
	}
	return b, nil
}

func (s *server) folderRoutes() {
	type load struct{ Body client.Folder }
	huma.Post(s.api, "/api/v1/folder", func(ctx context.Context, in *load) (*body[client.FolderOutcome], error) {
		files := make([]check.File, len(in.Body.Files))
		for i, f := range in.Body.Files {
			files[i] = check.File{Path: f.Path, Data: append([]byte(f.Text), f.Data...)}
		}
		o, err := s.Fleet.Load(ctx, caller(ctx), files, in.Body.Preview, in.Body.AtOnce)
		if err != nil {
			return nil, s.failed(err)
		}
		s.Settle()
		out := client.FolderOutcome{Items: []client.FolderItem{}, Changed: o.Changed, Loaded: o.Loaded,
			Findings: []client.FolderFinding{}}
		for _, i := range o.Items {
			item := client.FolderItem{Kind: i.Kind, Name: i.Name, File: i.File, State: i.State, Version: i.Version,
				Before: i.Before, Devices: i.Devices, Weight: i.Weight, Lines: i.Lines}
			if i.Changes != nil {
				item.Changes = changesOf(i.Changes)
			}
			out.Items = append(out.Items, item)
		}
		for _, f := range o.Findings {
			out.Findings = append(out.Findings, client.FolderFinding{File: f.File, Line: f.Line, Column: f.Column,
				Severity: f.Severity, Sentence: f.Sentence, Suggest: f.Suggest})
		}
		return &body[client.FolderOutcome]{out}, nil
	},
		describe("load-folder", "Compare a fleet folder with the service, and put what differs in force: all of it or nothing", "Models"),
		func(o *huma.Operation) { o.MaxBodyBytes = folder.MaxBytes })
}
