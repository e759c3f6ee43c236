package api

import (
	"context"
	"fmt"
	"net/url"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"ullage/client"
	"ullage/core/bundle"
	"ullage/core/geo"
	"ullage/core/health"
	"ullage/core/layering"
	"ullage/core/model"
	"ullage/core/record"
	"ullage/core/unit"
	"ullage/core/value"
	"ullage/fleet/contact"
	"ullage/fleet/devices"
	"ullage/fleet/present"
	"ullage/fleet/settings"
)

// One is the path of a device.
type One struct {
	ID string `path:"id" doc:"Device id" maxLength:"63"`
}

func (s *server) deviceRoutes() {
	type deviceFilter struct {
		Where
		Health string   `query:"health" enum:"sound,awaited,watch,poor,dark" doc:"Only of this health"`
		Model  string   `query:"model" doc:"Only of this model"`
		Label  []string `query:"label" maxItems:"20" doc:"Only with this label, as site=Fennimore"`
		Brief  bool     `query:"brief" doc:"Without attributes, margins, latest readings and alarms"`
		Order  string   `query:"order" maxLength:"64" doc:"Field to order by, with - before it the other way round; by id where not given" example:"headspace"`
		After  string   `query:"after" maxLength:"2000" doc:"Where the last page ended; the next page's address is in its Link header"`
		Limit  int      `query:"limit" minimum:"0" maximum:"100000" doc:"At most this many; all where not given"`
	}
	fields := record.Fields[client.Device]()
	huma.Get(s.api, "/api/v1/devices", func(ctx context.Context, f *deviceFilter) (*listed[client.Device], error) {
		c := caller(ctx)
		_, among, err := s.Fleet.Among(c, f.Where.Where)
		if err != nil {
			return nil, s.failed(err)
		}
		all := s.Fleet.Chosen(c, among)
		out, whole := []client.Device{}, map[string]*present.Device{}
		for _, d := range all {
			if f.Health != "" && string(d.Health) != f.Health ||
				f.Model != "" && d.Model != f.Model || !labelled(d, f.Label) {
				continue
			}
			out = append(out, deviceAs(d, true))
			whole[d.ID] = d
		}
		id := func(d client.Device) string { return d.ID }
		page, err := pageOf(out, Paged{Order: f.Order, After: f.After, Limit: f.Limit}, "device", "/api/v1/devices",
			fields, id, s)
		if err != nil {
			return nil, s.failed(err)
		}
		if !f.Brief {
			own := s.ownUnits(ctx)
			for i := range page.Body {
				page.Body[i] = own.device(whole[page.Body[i].ID])
			}
		}
		// The next page is of the same filter.
		q := url.Values{}
		for k, v := range map[string]string{"where": f.Where.Where, "health": f.Health, "model": f.Model,
			"label": strings.Join(f.Label, ",")} {
			if v != "" {
				q.Set(k, v)
			}
		}
		if f.Brief {
			q.Set("brief", "true")
		}
		if page.Link != "" && len(q) > 0 {
			page.Link = strings.Replace(page.Link, "?", "?"+q.Encode()+"&", 1)
		}
		return page, nil
	}, describe("devices", "Devices now, by id", "Devices"))
	huma.Get(s.api, "/api/v1/devices/{id}", func(ctx context.Context, in *One) (*body[client.Device], error) {
		return s.device(ctx, in.ID)
	}, describe("device", "One device now", "Devices"), notFound)
	type create struct{ Body client.NewDevice }
	huma.Post(s.api, "/api/v1/devices", func(ctx context.Context, in *create) (*body[client.Onboarded], error) {
		d, given, err := s.Fleet.Create(ctx, caller(ctx), devices.New{ID: in.Body.ID, Name: in.Body.Name, Model: in.Body.Model,
			Hub: in.Body.Hub, Labels: in.Body.Labels}, wanted(in.Body.NewCredential))
		if err != nil {
			return nil, s.failed(err)
		}
		s.Settle()
		return &body[client.Onboarded]{s.onboarded(ctx, d, given)}, nil
	}, describe("create-device", "Onboard a device; its credential is shown this once", "Devices"))
	type rotate struct {
		One
		Body struct {
			Keep bool `json:"keep,omitempty" doc:"Let the old credentials work on"`
			client.NewCredential
		}
	}
	huma.Post(s.api, "/api/v1/devices/{id}/credentials", func(ctx context.Context, in *rotate) (*body[client.Onboarded], error) {
		given, err := s.Fleet.Renew(ctx, caller(ctx), in.ID, wanted(in.Body.NewCredential), in.Body.Keep)
		if err != nil {
			return nil, s.failed(err)
		}
		s.Settle()
		d, _, err := s.Fleet.Registered(caller(ctx), in.ID)
		if d.ID == "" { // without a model it has a token all the same
			return nil, s.failed(err)
		}
		return &body[client.Onboarded]{s.onboarded(ctx, d, given)}, nil
	}, describe("new-credential", "Give a device a new credential; it is shown this once", "Devices"), notFound)
	type replace struct {
		One
		Body struct {
			Serial string `json:"serial,omitempty" maxLength:"200" doc:"Serial number of the new hardware, for the journal"`
			client.NewCredential
		}
	}
	huma.Post(s.api, "/api/v1/devices/{id}/replace", func(ctx context.Context, in *replace) (*body[client.Onboarded], error) {
		given, err := s.Fleet.Replace(ctx, caller(ctx), in.ID, in.Body.Serial, wanted(in.Body.NewCredential))
		if err != nil {
			return nil, s.failed(err)
		}
		s.Settle()
		d, _, err := s.Fleet.Registered(caller(ctx), in.ID)
		if d.ID == "" {
			return nil, s.failed(err)
		}
		return &body[client.Onboarded]{s.onboarded(ctx, d, given)}, nil
	}, describe("replace-hardware", "Put other hardware behind the id of a device", "Devices",
		"It gets a new credential, and all it was let in by before ends; its history, settings and labels stay."), notFound)
	huma.Get(s.api, "/api/v1/devices/{id}/credentials", func(ctx context.Context, in *One) (*body[[]client.Credential], error) {
		list, uses, err := s.Fleet.Credentials(caller(ctx), in.ID)
		if err != nil {
			return nil, s.failed(err)
		}
		out := []client.Credential{}
		for i, c := range list {
			u := uses[i]
			x := client.Credential{ID: c.ID, Kind: string(c.Kind), Serial: c.Serial, CreatedAt: c.CreatedAt.UTC(),
				ExpiresAt: optional(c.ExpiresAt), RevokedAt: optional(c.RevokedAt), UsedAt: optional(u.At), UsedFrom: u.From, UsedOver: u.Over, Replaces: c.Replaces}
			if !u.SharedAt.IsZero() {
				x.SharedAt, x.SharedWith = optional(u.SharedAt), u.Other
			}
			out = append(out, x)
		}
		return &body[[]client.Credential]{out}, nil
	}, describe("credentials", "By what a device is let in, the newest first", "Devices"), notFound)
	huma.Get(s.api, "/api/v1/devices/{id}/contact", func(ctx context.Context, in *One) (*body[client.Contact], error) {
		f, err := s.Fleet.Contact(caller(ctx), in.ID)
		if err != nil {
			return nil, s.failed(err)
		}
		f.Now = s.Now()
		out := client.Contact{Device: in.ID, Steps: []client.ContactStep{}, Findings: []client.ContactFinding{}}
		for _, x := range contact.Steps(f) {
			out.Steps = append(out.Steps, client.ContactStep{Step: x.Name, State: string(x.State), At: optional(x.At), Says: x.Says, Next: x.Next})
		}
		for _, x := range contact.Diagnose(f) {
			out.Findings = append(out.Findings, client.ContactFinding(x))
		}
		return &body[client.Contact]{out}, nil
	}, describe("contact", "How far a device is on its way in, and why it is not in or not well", "Devices",
		"The steps are those since it was given its newest credential, as far back as its traffic goes."), notFound)
	type ofDevice struct {
		One
		Credential string `path:"credential" maxLength:"64" doc:"Id of the credential"`
	}
	huma.Delete(s.api, "/api/v1/devices/{id}/credentials/{credential}", func(ctx context.Context, in *ofDevice) (*struct{}, error) {
		if err := s.Fleet.Revoke(ctx, caller(ctx), in.ID, in.Credential); err != nil {
			return nil, s.failed(err)
		}
		s.Settle()
		return nil, nil
	}, describe("revoke-credential", "End a credential of a device at once, open connections too", "Devices"), notFound)
	type label struct {
		One
		Body struct {
			Labels map[string]string `json:"labels" doc:"Labels to set; an empty text removes one"`
		}
	}
	huma.Post(s.api, "/api/v1/devices/{id}/labels", func(ctx context.Context, in *label) (*body[client.Device], error) {
		if err := s.Fleet.Label(ctx, caller(ctx), in.ID, in.Body.Labels); err != nil {
			return nil, s.failed(err)
		}
		s.Settle()
		return s.device(ctx, in.ID)
	}, describe("label-device", "Set and remove labels", "Devices"), notFound)
	type change struct {
		One
		Body client.DeviceChange
	}
	huma.Patch(s.api, "/api/v1/devices/{id}", func(ctx context.Context, in *change) (*body[client.Device], error) {
		if name := in.Body.Name; name != nil {
			if err := s.Fleet.Rename(ctx, caller(ctx), in.ID, *name); err != nil {
				return nil, s.failed(err)
			}
		}
		if hub := in.Body.Hub; hub != nil {
			if err := s.Fleet.Behind(ctx, caller(ctx), in.ID, *hub); err != nil {
				return nil, s.failed(err)
			}
		}
		s.Settle()
		return s.device(ctx, in.ID)
	}, describe("change-device", "Give a device another name for people, or another hub", "Devices"), notFound)
	type position struct {
		One
		Body geo.Position
	}
	huma.Put(s.api, "/api/v1/devices/{id}/position", func(ctx context.Context, in *position) (*body[client.Device], error) {
		if err := s.Fleet.Place(ctx, caller(ctx), in.ID, &in.Body); err != nil {
			return nil, s.failed(err)
		}
		s.Settle()
		return s.device(ctx, in.ID)
	}, describe("place-device", "Say where a device stands", "Devices"), notFound)
	huma.Delete(s.api, "/api/v1/devices/{id}/position", func(ctx context.Context, in *One) (*body[client.Device], error) {
		if err := s.Fleet.Place(ctx, caller(ctx), in.ID, nil); err != nil {
			return nil, s.failed(err)
		}
		s.Settle()
		return s.device(ctx, in.ID)
	}, describe("unplace-device", "Take back where a device stands: it is shown at its site", "Devices"), notFound)
	type status struct {
		One
		Body struct {
			Status devices.Status `json:"status" enum:"active,suspended,retired" doc:"active lets it in again; retired is for good"`
		}
	}
	huma.Post(s.api, "/api/v1/devices/{id}/status", func(ctx context.Context, in *status) (*body[client.Device], error) {
		if err := s.Fleet.SetStatus(ctx, caller(ctx), in.ID, in.Body.Status); err != nil {
			return nil, s.failed(err)
		}
		s.Settle()
		return s.device(ctx, in.ID)
	}, describe("set-status", "Suspend, let in again, or retire a device", "Devices"), notFound)
}

func (s *server) device(ctx context.Context, id string) (*body[client.Device], error) {
	d, err := s.Fleet.Device(caller(ctx), id)
	if err != nil {
		return nil, s.failed(err)
	}
	return &body[client.Device]{s.ownUnits(ctx).device(d)}, nil
}

// wanted turns what was asked for into what the registry makes.
func wanted(n client.NewCredential) devices.Wanted {
	w := devices.Wanted{Kind: devices.Kind(n.Credential), Request: []byte(n.CSR)}
	if len(w.Request) > 0 && w.Kind == "" {
		w.Kind = devices.Certificate
	}
	return w
}

// onboarded puts together what the person needs next: the credential, a bundle, and
// commands that work as they are.
func (s *server) onboarded(ctx context.Context, d devices.Device, given devices.Given) client.Onboarded {
	out := client.Onboarded{ID: d.ID, Model: d.Model, Token: given.Token, Certificate: string(given.Chain), Key: string(given.Key),
		ExpiresAt: optional(given.ExpiresAt), CA: string(s.Authority), MQTT: s.MQTTAt, HTTP: s.HTTPAt,
		MQTTTLS: s.MQTTTLSAt, HTTPTLS: s.HTTPTLSAt, Status: string(d.Status)}
	payload := "{}"
	_, m, err := s.Fleet.Registered(caller(ctx), d.ID)
	if err == nil {
		payload = string(m.Examples(d.ID, s.Now()).Readings)
	}
	if given.Token != "" { // the token itself would stay in the history of the shell
		host, port, _ := strings.Cut(s.MQTTAt, ":")
		out.TryMQTT = fmt.Sprintf("mosquitto_pub -h %s -p %s -i %s -u %s -P \"$TOKEN\" -q 1 -t ullage/%s/readings -m '%s'", host,
			port, d.ID, d.ID, d.ID, payload)
		out.TryHTTP = fmt.Sprintf("curl -sS -H \"Authorization: Bearer $TOKEN\" -H 'Content-Type: application/json' -d '%s' http://%s/device/v1/readings", payload, s.HTTPAt)
	}
	if err != nil || len(s.Authority) == 0 {
		return out
	}
	files, err := bundle.Files(s.bundleOf(d, m, given, false))
	if err == nil {
		out.Bundle, err = bundle.Zip(d.ID, files, s.Now())
	}
	if err != nil {
		s.Log.Error("a bundle could not be made", "device", d.ID, "error", err)
	}
	return out
}

// bundleOf is what goes into a device's bundle; in brief without samples.
func (s *server) bundleOf(d devices.Device, m *model.Model, given devices.Given, brief bool) bundle.Bundle {
	return bundle.Bundle{Device: d.ID, Model: m, MQTT: s.MQTTTLSAt, HTTP: s.HTTPTLSAt, Time: s.TimeAt,
		CA: s.Authority, Token: given.Token, Chain: given.Chain, Key: given.Key, At: s.Now(), Expires: given.ExpiresAt, Brief: brief}
}

func labelled(d *present.Device, labels []string) bool {
	for _, l := range labels {
		if k, v, _ := strings.Cut(l, "="); d.Labels[k] != v {
			return false
		}
	}
	return true
}

func deviceOf(d *present.Device) client.Device { return deviceAs(d, false) }

// deviceAs returns a device as the API shows it; in brief without what lists do
// not show.
func deviceAs(d *present.Device, brief bool) client.Device {
	c := client.Device{
		ID: d.ID, Name: d.Name, Hub: d.Hub, Model: d.Model, ModelVersion: d.ModelVersion, ModelTitle: d.ModelTitle, Labels: d.Labels, Status: string(d.Status),
		JoinedAt: d.JoinedAt, Attributes: map[string]any{}, Link: string(d.Link), LastAt: optional(d.LastAt), Interval: value.Duration(d.Interval).String(),
		Health: string(d.Health), Reasons: d.Reasons, Margins: []client.Margin{}, Latest: map[string]client.Latest{}, Alarms: []client.OpenAlarm{},
		Revision: d.Revision, Applied: d.Applied, Drifting: d.Drifting, Refusals: d.Refusals,
	}
	if said := d.Device.Reported(); said != d.ModelVersion {
		c.Reported = said
	}
	if c.Reasons == nil {
		c.Reasons = []string{}
	}
	if c.Drifting == nil {
		c.Drifting = []string{}
	}
	if p := d.Position; p != nil {
		c.Position = p
	}
	if d.Least != nil {
		h := d.Least.Headspace
		c.Headspace = &h
	}
	if brief {
		return c
	}
	for _, x := range d.Components {
		y := client.Component{Name: x.Name, Health: string(x.Health), Reasons: append([]string{}, x.Reasons...)}
		if x.Least != nil {
			h := x.Least.Headspace
			y.Headspace = &h
		}
		c.Components = append(c.Components, y)
	}
	for k, v := range d.Attributes {
		c.Attributes[k] = v.Any()
	}
	for _, m := range d.Margins {
		c.Margins = append(c.Margins, marginOf(m))
	}
	for k, l := range d.Latest {
		c.Latest[k] = client.Latest{At: l.At, Value: l.Value.Any(), Quality: l.Quality.Words()}
	}
	for _, a := range d.Alarms {
		c.Alarms = append(c.Alarms, client.OpenAlarm{ID: a.ID, Rule: a.Rule, Priority: string(a.Priority),
			State: string(a.State), Message: a.Message, RaisedAt: a.RaisedAt})
	}
	return c
}

func marginOf(m health.Margin) client.Margin {
	out := client.Margin{Rule: m.Rule, Metric: m.Metric, Of: m.Of, Unit: m.Unit, Display: unit.Display(m.Unit),
		Value: m.Value, Limit: m.Limit, Upward: m.Upward, Headspace: m.Headspace, Known: m.Known, Reason: m.Reason}
	if t := m.ToLimit; !t.Likely.IsZero() {
		out.ToLimit = &client.ToLimit{Likely: t.Likely, Early: optional(t.Early), Late: optional(t.Late)}
	}
	return out
}

func (s *server) settingRoutes() {
	huma.Get(s.api, "/api/v1/devices/{id}/settings", func(ctx context.Context, in *One) (*body[client.Settings], error) {
		st, m, err := s.Fleet.Settings(caller(ctx), in.ID)
		if err != nil {
			return nil, s.failed(err)
		}
		return &body[client.Settings]{s.ownUnits(ctx).settings(s.settingsNow(ctx, st, m))}, nil
	}, describe("settings", "A device's settings, intended and applied", "Settings"), notFound)
	type change struct {
		One
		Body client.SettingsChange
	}
	huma.Post(s.api, "/api/v1/devices/{id}/settings", func(ctx context.Context, in *change) (*body[client.Settings], error) {
		own := s.ownUnits(ctx)
		_, m, err := s.Fleet.Settings(caller(ctx), in.ID)
		if err != nil {
			return nil, s.failed(err)
		}
		st, err := s.Fleet.Set(ctx, caller(ctx), in.ID, own.given(in.Body.Set, m), in.Body.Unset, given(in.Body.Until))
		if err != nil {
			return nil, s.failed(err)
		}
		s.Settle()
		return &body[client.Settings]{own.settings(s.settingsNow(ctx, st, m))}, nil
	}, describe("change-settings", "Set overrides of settings on a device, and take them off", "Settings"), notFound)
	huma.Post(s.api, "/api/v1/devices/{id}/settings/retry", func(ctx context.Context, in *One) (*body[client.Settings], error) {
		_, m, err := s.Fleet.Settings(caller(ctx), in.ID)
		if err != nil {
			return nil, s.failed(err)
		}
		st, err := s.Fleet.SetAgain(ctx, caller(ctx), in.ID)
		if err != nil {
			return nil, s.failed(err)
		}
		s.Settle()
		return &body[client.Settings]{s.ownUnits(ctx).settings(s.settingsNow(ctx, st, m))}, nil
	}, describe("retry-settings", "Send a device what is intended for it once more", "Settings"), notFound)
	type many struct{ Body client.SettingsOfMany }
	huma.Post(s.api, "/api/v1/settings", func(ctx context.Context, in *many) (*body[client.SettingsJob], error) {
		c := caller(ctx)
		ids, err := s.Fleet.Pick(c, in.Body.Devices, in.Body.Where)
		if err != nil {
			return nil, s.failed(err)
		}
		if in.Body.Preview {
			if err := s.Fleet.CheckMany(c, ids, in.Body.Set, in.Body.Unset); err != nil {
				return nil, s.failed(err)
			}
			return &body[client.SettingsJob]{client.SettingsJob{Set: in.Body.Set, Unset: in.Body.Unset, Devices: len(ids)}}, nil
		}
		j, err := s.Fleet.SetMany(ctx, c, ids, in.Body.Set, in.Body.Unset, given(in.Body.Until))
		if err != nil {
			return nil, s.failed(err)
		}
		return &body[client.SettingsJob]{settingsJobOf(j)}, nil
	}, describe("change-many-settings", "Set overrides of settings on many devices; the answer tells how far it is",
		"Settings"))
	huma.Get(s.api, "/api/v1/settings/{id}", func(ctx context.Context, in *One) (*body[client.SettingsJob], error) {
		j, err := s.Fleet.Job(caller(ctx), in.ID)
		if err != nil {
			return nil, s.failed(err)
		}
		return &body[client.SettingsJob]{settingsJobOf(j)}, nil
	}, describe("settings-job", "How far a change of many devices is", "Settings"), notFound)
}

func settingsJobOf(j settings.Job) client.SettingsJob {
	return client.SettingsJob{ID: j.ID, By: j.By, At: j.At, Set: j.Set, Unset: j.Unset, Devices: len(j.Devices),
		Done: j.Done, Failed: j.Failed, EndedAt: optional(j.EndedAt)}
}

// settingsNow is settingsOf, with what a device that has had its revisions of this hour
// waits for.
func (s *server) settingsNow(ctx context.Context, st settings.State, m *model.Model) client.Settings {
	c := caller(ctx)
	out := settingsOf(st, m, s.Fleet.Origins(c, st.Device))
	wanted, until := s.Fleet.Waiting(c, st.Device)
	if until.IsZero() {
		return out
	}
	out.WaitsUntil, out.State = &until, "pending"
	for i := range out.Settings {
		if x := &out.Settings[i]; !x.KeptByService && wanted[x.Name] != st.Intended[x.Name] {
			x.Intended, x.State = wanted[x.Name].Shown(), "pending"
		}
	}
	return out
}

func settingsOf(st settings.State, m *model.Model, origins map[string]layering.Origin) client.Settings {
	out := client.Settings{Device: st.Device, Revision: st.Revision, IntendedAt: st.IntendedAt,
		Applied: st.AppliedRevision, AppliedAt: optional(st.AppliedAt), State: "applied", Settings: []client.Setting{}}
	drift := map[string]layering.Difference{}
	for _, d := range st.Drift() {
		drift[d.Name] = d
		out.State = "drift"
	}
	if len(st.Refused) > 0 && st.Confirmed() {
		out.State = "refused"
	}
	if !st.Confirmed() {
		out.State = "pending"
	}
	for _, p := range m.With(model.Setting) {
		c := client.Setting{Name: p.Name, Title: p.Title, Type: kindName(p), Unit: p.Unit,
			Display: unit.Display(p.Unit), Decimals: p.Decimals, Minimum: p.Min, Maximum: p.Max, Enum: p.Enum, KeptByService: p.KeptByService, Secret: p.Secret, Intended: st.Intended[p.Name].Shown(), Source: string(layering.FromModel), State: "applied"}
		if from, ok := origins[p.Name]; ok {
			c.Source, c.From = string(from.Source), from.Name
		}
		if by, ok := st.OverriddenBy[p.Name]; ok {
			c.OverriddenBy, c.OverriddenAt, c.Until = by.By, optional(by.At), optional(by.Until)
		}
		if v, ok := st.Applied[p.Name]; ok {
			c.Applied = v.Shown()
		}
		d, drifting := drift[p.Name]
		switch {
		case p.KeptByService:
			c.Intended, c.Applied, c.State = st.Kept[p.Name].Shown(), st.Kept[p.Name].Shown(), "applied"
		case !st.Confirmed() && st.Applied[p.Name] != st.Intended[p.Name]:
			c.State = "pending"
		case drifting && d.Reason != "":
			c.State, c.Reason = "refused", d.Reason
		case drifting:
			c.State = "drift"
		}
		out.Settings = append(out.Settings, c)
	}
	return out
}
