package api_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"ullage/client"
	"ullage/core/person"
	"ullage/core/unit"
	"ullage/test/rig"
)

// Whoever prefers another unit is shown it wherever numbers are, and what is stored
// and sent stays as it is.
func TestOwnUnits(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.Onboard(tank, "tank-probe", nil)
	b.Rule("rule: must_too_warm\nmodels: [tank-probe]\nraise: must_temp > set.max_temp\npriority: high\nmessage: it is {must_temp}\n")
	for i, v := range []float64{20, 25, 33} {
		b.Keep(tank, fmt.Sprintf(`{"at":%q,"must_temp":%v,"ullage":30.5}`, rig.Start.Add(time.Duration(i-3)*time.Second).Format(time.RFC3339), v))
	}
	_, err := b.client.SetPreferences(t.Context(), person.Preferences{Units: unit.Preferred{"temperature": "degF", "length": "[in_i]"}})
	b.Must(err)
	own := b.client.InOwnUnits()

	d, err := own.Device(t.Context(), tank)
	b.Must(err)
	if got := d.Latest["must_temp"].Value; got != 91.4 {
		t.Errorf("the device shows %v °F, want 91.4", got)
	}
	if got := d.Latest["battery"]; got.Value != nil {
		t.Errorf("the device shows a battery: %v", got)
	}
	if len(d.Margins) == 0 || d.Margins[0].Limit != 89.6 || d.Margins[0].Value != 91.4 || d.Margins[0].Display != "°F" {
		t.Errorf("margins are %+v, want 91.4 of 89.6 °F", d.Margins)
	}
	span := client.Span{From: rig.Start.Add(-time.Minute), To: rig.Start, Step: time.Minute}
	h, err := own.History(t.Context(), tank, "must_temp", span)
	b.Must(err)
	if k := h.Steps[0]; k.Min != 68 || k.Max != 91.4 || k.Last != 91.4 {
		t.Errorf("history is %+v, want 68 to 91.4", k)
	}
	rs, err := own.Readings(t.Context(), tank, "must_temp", client.Span{From: span.From, To: span.To}, 10)
	b.Must(err)
	if got := rs.Readings[1].Value; got != 77.0 {
		t.Errorf("a single reading is %v, want 77", got)
	}
	a, err := own.Ask(t.Context(), client.Query{Devices: []string{tank}, Metrics: []string{"must_temp", "ullage"}, Span: "1h"})
	b.Must(err)
	if l := a.Lines[0]; l.Display != "°F" || l.Decimals != 1 || l.Steps[0].Last != 91.4 && l.Steps[len(l.Steps)-1].Last != 91.4 {
		t.Errorf("a query gives %+v", l)
	}
	if l := a.Lines[1]; l.Display != "in" || l.Decimals != 2 {
		t.Errorf("lengths are %s with %d decimals, want in with 2", l.Display, l.Decimals)
	}
	m, _, err := own.Models().Get(t.Context(), "tank-probe")
	b.Must(err)
	for _, p := range m.Properties {
		if p.Name == "must_temp" && (p.Display != "°F" || p.Usual[0] != 64.4) {
			t.Errorf("the model says %+v of must_temp, want usual from 64.4 °F", p)
		}
	}
	alarms, err := own.Alarms(t.Context(), client.AlarmFilter{})
	b.Must(err)
	if len(alarms.Items) != 1 || alarms.Items[0].Value != 91.4 || alarms.Items[0].Limit != 89.6 || alarms.Items[0].Display != "°F" {
		t.Errorf("alarms are %+v, want one of 91.4 over 89.6 °F", alarms.Items)
	}
	then := rig.Start.Format(time.RFC3339)
	for units, want := range map[string]string{"own": `"value":91.4`, "model": `"value":33`} {
		_, body := b.call("GET", "/api/v1/as-of?at="+then+"&metric=must_temp,ullage&units="+units, "", "Authorization", "Bearer "+signIn(b, "engineer"))
		if !strings.Contains(body, want) {
			t.Errorf("as of then in units of %s it is %.600s, want %s", units, body, want)
		}
	}
	f := func(units string) string {
		_, body := b.call("GET", "/api/v1/export?metric=must_temp&device="+tank+"&span=1h&units="+units, "", b.bearer()...)
		return body
	}
	if got := f("own"); !strings.Contains(got, "[degF]") || !strings.Contains(got, ",77") {
		t.Errorf("an export in own units is\n%s", got)
	}
	if got := f("model"); strings.Contains(got, "degF") || !strings.Contains(got, ",25") {
		t.Errorf("an export in the model's units is\n%s", got)
	}

	// What is written in °F is stored, and sent, in °C: exactly.
	for fahrenheit, celsius := range map[string]float64{"77": 25, "77.54": 25.3, "82.4": 28} {
		resp, body := b.call("POST", "/api/v1/devices/"+tank+"/settings?units=own", `{"set":{"max_temp":`+fahrenheit+`}}`, b.bearer()...)
		if resp.StatusCode != 200 || !strings.Contains(body, `"intended":`+fahrenheit) {
			t.Errorf("setting %s °F is answered %d %s", fahrenheit, resp.StatusCode, body)
		}
		s, err := b.client.Settings(t.Context(), tank)
		b.Must(err)
		for _, x := range s.Settings {
			if x.Name == "max_temp" && (x.Intended != celsius || x.Unit != "Cel") {
				t.Errorf("%s °F are stored as %v %s, want %v", fahrenheit, x.Intended, x.Unit, celsius)
			}
		}
	}
	resp, body := b.call("POST", "/api/v1/devices/"+tank+"/settings?units=own", `{"set":{"max_temp":900}}`, b.bearer()...)
	if resp.StatusCode != 422 {
		t.Errorf("900 °F are answered %d %s", resp.StatusCode, body)
	}

	// Without a word of it, and for another person, all is as in the models.
	d, err = b.client.Device(t.Context(), tank)
	b.Must(err)
	if got := d.Latest["must_temp"].Value; got != 33.0 {
		t.Errorf("without own units the device shows %v, want 33", got)
	}
	other := as(b, "night-duty", person.Viewer).InOwnUnits()
	d, err = other.Device(t.Context(), tank)
	b.Must(err)
	if got := d.Latest["must_temp"].Value; got != 33.0 {
		t.Errorf("somebody else is shown %v, want 33", got)
	}
}

func TestPreferencesAreChecked(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	for body, says := range map[string]string{
		`{"units":{"temperature":"kPa"}}`:  "none of temperature",
		`{"units":{"colour":"Cel"}}`:       "no dimension",
		`{"zone":"Middle/Earth"}`:          "no time zone",
		`{"zone":"Local"}`:                 "no time zone",
		`{"theme":"pink"}`:                 "theme",
		`{"week":"wednesday"}`:             "week",
		`{"units":{"temperature":"degF"}}`: "",
		`{"zone":"Pacific/Chatham"}`:       "",
		`{}`:                               "",
	} {
		resp, got := b.call("PUT", "/api/v1/me/preferences", body, b.bearer()...)
		if ok := resp.StatusCode == 200; ok != (says == "") || !strings.Contains(got, says) {
			t.Errorf("%s is answered %d %s, want %q", body, resp.StatusCode, got, says)
		}
	}
	if resp, got := b.call("GET", "/api/v1/devices?units=martian", "", b.bearer()...); resp.StatusCode != 422 ||
		!strings.Contains(got, "write model or own") {
		t.Errorf("units=martian is answered %d %s", resp.StatusCode, got)
	}
}
