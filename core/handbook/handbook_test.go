package handbook_test

import (
	"strings"
	"testing"
	"time"

	"ullage/core/handbook"
	"ullage/core/model"
	"ullage/test/scenario"
)

func page(t *testing.T, name string, d handbook.Doors) handbook.Page {
	t.Helper()
	return handbook.Of(scenario.Model(t, name), d, time.Date(2026, 3, 1, 10, 0, 0, 0, time.UTC))
}

func TestPage(t *testing.T) {
	doors := handbook.Doors{Device: "tank-fennimore-07", HTTP: "http://127.0.0.1:8461", Host: "127.0.0.1", Port: "1883"}
	for _, name := range []string{"tank-probe", "cellar-air", "jacket-valve", "cask-bung", "press-scale",
		"cellar-hub"} {
		p := page(t, name, doors)
		md, err := p.Markdown()
		if err != nil {
			t.Fatal(err)
		}
		html, err := p.HTML()
		if err != nil {
			t.Fatal(err)
		}
		for _, r := range append(append(append(p.Telemetry, p.Attributes...), p.Settings...), p.KeptByService...) {
			if !strings.Contains(md, "| `"+r.Name+"` |") || !strings.Contains(html, "<code>"+r.Name+"</code>") {
				t.Errorf("the page of %s does not name %s", name, r.Name)
			}
		}
		if strings.Contains(md, "<no value>") || strings.Contains(html, "ZgotmplZ") || strings.Contains(md, "&#") {
			t.Errorf("the page of %s is not whole", name)
		}
	}
	md, _ := page(t, "tank-probe", doors).Markdown()
	for _, says := range []string{
		`curl -sS -H "Authorization: Bearer $TOKEN" -H 'Content-Type: application/senml+json'`, "mosquitto_sub -h 127.0.0.1 -p 1883",
		"computed as set.tank_depth - ullage", `"model_version":"1.2.0"`, "reference_cm, a number from 0 to 400 cm", "refused outside −40 … 125",
		"ullage/tank-fennimore-07/command/zero_level", "## Settings that the service keeps",
	} {
		if !strings.Contains(md, says) {
			t.Errorf("the page does not say %s", says)
		}
	}
}

// Nothing of a model gets out of its place in the page, or in the shell.
func TestPageIsQuoted(t *testing.T) {
	m, err := model.Parse([]byte(`{"@context":["https://www.w3.org/2022/wot/td/v1.1",{"ullage":"urn:ullage:vocabulary:"}],"@type":"tm:ThingModel","title":"<script>x</script>","properties":{
		"a":{"type":"string","readOnly":true,"title":"one | two","enum":["it's $(here)"]}}}`))
	if err != nil {
		t.Fatal(err)
	}
	p := handbook.Of(m, handbook.Doors{HTTP: "http://127.0.0.1:8461", Host: "127.0.0.1", Port: "1883"},
		time.Date(2026, 3, 1, 10, 0, 0, 0, time.UTC))
	html, err := p.HTML()
	if err != nil || strings.Contains(html, "<script>") {
		t.Errorf("a title is markup: %v", err)
	}
	md, err := p.Markdown()
	if err != nil || !strings.Contains(md, `one \| two`) || !strings.Contains(md, `'{"a":"it'\''s $(here)"}'`) {
		t.Errorf("%v\n%s", err, md)
	}
}
