package revisions_test

import (
	"encoding/json"
	"strings"
	"testing"

	"ullage/examples/cellars"
	"ullage/fleet/fault"
	"ullage/fleet/ingest"
	"ullage/fleet/models"
	"ullage/fleet/revisions"
	"ullage/test/rig"
)

func over(r *rig.Rig) *revisions.Revisions {
	return revisions.New(revisions.Options{Models: r.Models, Devices: r.Devices, Settings: r.Settings, Alarms: r.Alarms,
		Bulk: r.Bulk, Matching: func(string) (map[string]bool, error) {
			return map[string]bool{"tank-kilnside-01": true}, nil
		}})
}

func source(t *testing.T, changes ...string) string {
	t.Helper()
	b, err := cellars.Files.ReadFile("models/tank-probe.tm.json")
	if err != nil {
		t.Fatal(err)
	}
	return strings.NewReplacer(changes...).Replace(string(b))
}

func TestMove(t *testing.T) {
	r := rig.New(t)
	o := over(r)
	tanks := []string{"tank-fennimore-07", "tank-kilnside-01", "tank-kilnside-02"}
	for _, id := range tanks {
		r.Onboard(id, "tank-probe", nil)
	}
	_, err := r.Settings.Set(t.Context(), tanks[0], map[string]any{"max_temp": 39.0, "stir_at": 27.0}, nil, "mara")
	r.Must(err)
	if _, _, err := r.Models.Publish(t.Context(),
		[]byte(source(t, `"1.2.0"`, `"2.0.0"`, `"maximum": 40,`, `"maximum": 36,`)), nil, "mara"); err != nil {
		t.Fatal(err)
	}
	r.Settle()
	version := func(id string) string { d, err := r.Devices.Get(id); r.Must(err); return d.Version }
	if version(tanks[0]) != "1.2.0" || r.Device(tanks[0]).ModelVersion != "1.2.0" {
		t.Error("publishing moved a device")
	}
	// The range of the old version still holds for it.
	if _, err := r.Settings.Set(t.Context(), tanks[0], map[string]any{"max_temp": 38.5}, nil, "mara"); err != nil {
		t.Errorf("a device is judged by a version it was not given: %v", err)
	}
	m, err := o.Move(t.Context(), "tank-probe", "", nil, "", true, "mara")
	if err != nil || m.To.Version != "2.0.0" || len(m.Steps) != 3 || len(m.Differences) != 1 || m.Change != "" ||
		strings.Join(m.Steps[0].Loses, " ") != "max_temp" || len(m.Steps[1].Loses) != 0 {
		t.Fatalf("a preview says %+v, %v", m, err)
	}
	if version(tanks[0]) != "1.2.0" {
		t.Error("a preview moved a device")
	}
	if m, err = o.Move(t.Context(), "tank-probe", "", nil, "x", false, "mara"); err != nil || len(m.Steps) != 1 || version(tanks[1]) != "2.0.0" || version(tanks[2]) != "1.2.0" {
		t.Errorf("by a selector: %+v, %v", m.Steps, err)
	}
	if m, err = o.Move(t.Context(), "tank-probe", "2.0.0", []string{tanks[0]}, "", false, "mara"); err != nil {
		t.Fatal(err)
	}
	r.Settle()
	doc, err := r.Settings.Document(tanks[0])
	r.Must(err)
	if doc.Intended["max_temp"].Num != 32 || doc.Intended["stir_at"].Num != 27 ||
		r.Device(tanks[0]).ModelVersion != "2.0.0" {
		t.Errorf("after the move its settings are %v", doc.Intended)
	}
	if again, err := o.Move(t.Context(), "tank-probe", "2.0.0", []string{tanks[0]}, "", false, "mara"); err != nil || len(again.Steps) != 0 || again.Change != "" {
		t.Errorf("it moves where it is: %+v, %v", again, err)
	}
	back, err := r.Bulk.Undo(t.Context(), m.Change, "mara")
	r.Must(err)
	_, err = r.Bulk.Wait(t.Context(), back.ID)
	r.Must(err)
	if doc, err := r.Settings.Document(tanks[0]); err != nil || doc.Intended["max_temp"].Num != 38.5 || doc.Intended["stir_at"].Num != 27 || version(tanks[0]) != "1.2.0" {
		t.Errorf("undone, its settings are %v, %v", doc.Intended, err)
	}
	if version(tanks[1]) != "2.0.0" {
		t.Error("the undoing of one change moved a device of another")
	}
	if _, err = o.Move(t.Context(), "tank-probe", "2.0.0", []string{tanks[0]}, "", false, "mara"); err != nil {
		t.Fatal(err)
	}
	if _, err := o.Move(t.Context(), "tank-probe", "7.0.0", nil, "", false, "mara"); rig.Code(err) != fault.NotFound || !strings.Contains(err.Error(), "there is 1.2.0, 2.0.0") {
		t.Errorf("to a version that is not there: %v", err)
	}
	r.Rule("rule: hot\nmodels: [tank-probe]\nraise: must_temp > 20\npriority: low\nmessage: hot\n")
	old, err := r.Models.Of("tank-probe", "1.2.0")
	r.Must(err)
	if unfit := o.Unfit(old); len(unfit) != 0 {
		t.Errorf("a rule that fits is said not to: %v", unfit)
	}
	if _, _, err := r.Models.Publish(t.Context(), []byte(source(t, `"1.2.0"`, `"3.0.0"`, `"co2_flow"`, `"gas_flow"`)),
		nil, "mara"); err != nil {
		t.Fatal(err)
	}
	r.Rule("rule: gassy\nmodels: [tank-probe]\nraise: gas_flow > 20\npriority: low\nmessage: gas\n")
	if unfit := o.Unfit(old); len(unfit) != 1 || !strings.Contains(unfit[0], "gas_flow") {
		t.Errorf("a rule over what an older version has not: %v", unfit)
	}
	r.Onboard("hub-kilnside", "cellar-hub", nil)
	if _, err := o.Move(t.Context(), "tank-probe", "", []string{"hub-kilnside"}, "", false, "mara"); rig.Code(err) != fault.Invalid {
		t.Errorf("a device of another model: %v", err)
	}
	r.Restart(true)
	if version(tanks[0]) != "2.0.0" || version(tanks[2]) != "1.2.0" || len(r.Models.Versions("tank-probe")) != 3 {
		t.Error("a restart forgets versions")
	}
	if d, _ := r.Devices.Get(tanks[0]); d.Reported() != "" {
		t.Errorf("it says %s of itself", d.Reported())
	}
	r.SendMessage(ingest.Message{Device: tanks[0], Kind: ingest.About, Body: []byte(`{"model_version":"1.2.0"}`),
		Transport: "mqtt"})
	if d, _ := r.Devices.Get(tanks[0]); d.Reported() != "1.2.0" {
		t.Error("what a device says it was built for is not kept")
	}
}

func TestPreview(t *testing.T) {
	r := rig.New(t)
	o := over(r)
	r.Onboard("tank-kilnside-01", "tank-probe", nil)
	r.Rule("rule: must_too_warm\nmodels: [tank-probe]\nraise: must_temp > set.max_temp\npriority: high\nmessage: warm\n")
	for _, c := range []struct {
		name, text string
		state      models.State
		refused    string
		rules      int
		finding    string
	}{
		{"as published", source(t), models.Same, "", 0, ""},
		{"a new version", source(t, `"1.2.0"`, `"1.2.1"`, `"Tank probe"`, `"Probe"`), models.Newer, "", 0, ""},
		{"without a new version", source(t, `"Tank probe"`, `"Probe"`), "", "give this file version 1.2.1", 0, ""},
		{"a rule does not fit", source(t, `"1.2.0"`, `"2.0.0"`, `"max_temp"`, `"most_temp"`), models.Newer, "", 1, ""},
		{"another", source(t, `"tank-probe"`, `"vat-probe"`), models.New, "", 0, ""},
		{"wrong", source(t, `"g/L"`, `"g/furlong"`), "", "", 0, "furlong"},
		{"wrong formula", source(t, `set.tank_depth - ullage`, `set.tank_depht - ullage`), "", "", 0, "did you mean set.tank_depth"},
		{"not JSON", "{", "", "", 0, "ends too early"},
		{"YAML", "title: Lid\n'@type': tm:ThingModel\n'@context': https://www.w3.org/2022/wot/td/v1.1\n", models.New, "", 0, ""},
	} {
		d := o.Preview(c.text, "", nil)
		refused := ""
		if d.Refused != nil {
			refused = d.Refused.Error()
		}
		found := ""
		for _, f := range d.Findings {
			found += f.Sentence
		}
		if d.State != c.state || !strings.Contains(refused, c.refused) || c.refused == "" && refused != "" ||
			len(d.Rules) != c.rules || c.finding != "" && (!strings.Contains(found, c.finding) || d.Model != nil) {
			t.Errorf("%s: state %q, refused %q, rules %v, findings %v", c.name, d.State, refused, d.Rules, d.Findings)
		}
	}
}

// Whoever edits a model has its own text alone; what it refers to is kept.
func TestPartsAreKept(t *testing.T) {
	r := rig.New(t)
	const head = `{"@context":["https://www.w3.org/2022/wot/td/v1.1",{"ullage":"urn:ullage:vocabulary:"}],"@type":"tm:ThingModel",`
	base := json.RawMessage(head + `"title":"Base","properties":{"battery":{"type":"number","unit":"V","readOnly":true}}}`)
	lid := head + `"title":"Lid","ullage:name":"lid","version":{"model":"1.0.0"},"links":[{"rel":"tm:extends","href":"./base.tm.json"}],"properties":{"open":{"type":"boolean","readOnly":true}}}`
	if _, _, err := r.Models.Publish(t.Context(), []byte(lid), nil, "mara"); err == nil || !strings.Contains(err.Error(), "there is no model at ./base.tm.json") {
		t.Errorf("without its parent: %v", err)
	}
	m, _, err := r.Models.Publish(t.Context(), []byte(lid), map[string]json.RawMessage{"base.tm.json": base}, "mara")
	r.Must(err)
	if _, ok := m.Property("battery"); !ok {
		t.Error("the parent's telemetry is not there")
	}
	r.Restart(false)
	m, changed, err := r.Models.Publish(t.Context(), []byte(strings.Replace(lid, "1.0.0", "1.0.1", 1)), nil, "mara")
	if err != nil || !changed {
		t.Fatalf("without its parent, later: %v", err)
	}
	if _, ok := m.Property("battery"); !ok {
		t.Error("the parent's telemetry is gone")
	}
	// A published model may be extended by its name.
	if m, _, err = r.Models.Publish(t.Context(),
		[]byte(strings.NewReplacer(`"lid"`, `"great-lid"`, `./base.tm.json`, `./tank-probe@1.2.0.tm.json`).
			Replace(lid)), nil, "mara"); err != nil {
		t.Fatal(err)
	}
	if _, ok := m.Property("must_temp"); !ok {
		t.Error("a published parent is not found")
	}
}
