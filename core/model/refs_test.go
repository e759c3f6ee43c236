package model_test

import (
	"path"
	"strings"
	"testing"

	"ullage/core/model"
)

// A reference leads to what its target is once everything is written out:
// inherited, overridden in part, itself a reference.
func TestReferencesOfWhatIsInherited(t *testing.T) {
	head := `"@context":["https://www.w3.org/2022/wot/td/v1.1",{"ullage":"urn:ullage:vocabulary:"}],"@type":"tm:ThingModel","version":{"model":"1.0.0"},`
	files := map[string]string{
		"base.tm.json":  `{` + head + `"title":"Base","ullage:name":"base","properties":{"battery":{"type":"number","unit":"V","readOnly":true,"ullage:role":"telemetry","maximum":5}}}`,
		"mid.tm.json":   `{` + head + `"title":"Mid","ullage:name":"mid","links":[{"rel":"tm:extends","href":"./base.tm.json"}],"properties":{"battery":{"maximum":3.7}}}`,
		"other.tm.json": `{` + head + `"title":"Other","ullage:name":"other","properties":{"a":{"tm:ref":"./third.tm.json#/properties/b"},"c":{"type":"number","unit":"Cel","readOnly":true}}}`,
		"third.tm.json": `{` + head + `"title":"Third","ullage:name":"third","properties":{"b":{"tm:ref":"./other.tm.json#/properties/c","minimum":-5}}}`,
	}
	find := func(href, _ string) ([]byte, string, bool) {
		src, ok := files[path.Base(href)]
		return []byte(src), path.Base(href), ok
	}
	for _, c := range []struct{ name, extra, property, unit, says string }{
		{"overridden in part", `"properties":{"x":{"tm:ref":"./mid.tm.json#/properties/battery","minimum":2}}`, "x", "V", "between 2 and 3.7"},
		{"inherited alone", `"properties":{"x":{"tm:ref":"./mid.tm.json#/properties/battery"}}`, "x", "V", "at most 3.7"},
		{"one's own, from the parent", `"links":[{"rel":"tm:extends","href":"./mid.tm.json"}],"properties":{"x":{"tm:ref":"#/properties/battery","maximum":4}}`, "x", "V", "at most 4"},
		{"files that refer to each other", `"properties":{"x":{"tm:ref":"./other.tm.json#/properties/a"}}`, "x", "Cel", "at least -5"},
	} {
		m, err := model.Read([]byte(`{`+head+`"title":"T","ullage:name":"t",`+c.extra+`}`), find)
		if err != nil {
			t.Errorf("%s: %v", c.name, err)
			continue
		}
		p, ok := m.Property(c.property)
		if !ok || p.Unit != c.unit || !strings.HasPrefix(p.RangeWords(), c.says) {
			t.Errorf("%s: it is %+v in %s, %s; want %s and %q", c.name, ok, p.Unit, p.RangeWords(), c.unit, c.says)
		}
	}
	_, err := model.Read([]byte(`{`+head+`"title":"T","ullage:name":"t","links":[{"rel":"tm:extends","href":"https://models.example/library/of/very/long/names/that/nobody/reads/pump-controller-of-the-cellar.tm.jsonld?v=3"}]}`), find)
	if err == nil || !strings.Contains(err.Error(), "save it beside this file as pump-controller-of-the-cellar.tm.jsonld,") {
		t.Errorf("a model elsewhere gives %v, want the name to save it under", err)
	}
}

// A title in any script is one.
func TestTitlesInAnyScript(t *testing.T) {
	names := map[string]bool{}
	for _, title := range []string{"قبو النبيذ", "酒窖温度计", "Датчик погреба", "Κελάρι", "Tank probe"} {
		m, err := model.Read([]byte(`{"@context":"https://www.w3.org/2022/wot/td/v1.1","@type":"tm:ThingModel","title":"`+title+`","properties":{"t":{"type":"number"}}}`), nil)
		if err != nil {
			t.Errorf("%s: %v", title, err)
			continue
		}
		if m.Title != title || m.Name == "" || names[m.Name] {
			t.Errorf("%s is called %q with the title %q, want a name of its own and its title", title, m.Name, m.Title)
		}
		names[m.Name] = true
	}
}
