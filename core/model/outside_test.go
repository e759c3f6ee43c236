package model_test

import (
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"ullage/core/model"
)

const outside = "../../test/corpora/node_modules/@thing-description-playground/core/examples"

// parents are the models that the standard's own examples extend and import
// (W3C WoT TD 1.1, examples 51, 54 and 57), by the address they are asked for.
var parents = map[string]string{
	"http://example.com/SmartControlLampTM":                    `{"@context":"https://www.w3.org/2022/wot/td/v1.1","@type":"tm:ThingModel","title":"Smart Lamp Control","properties":{"dim":{"type":"integer","minimum":0,"maximum":100}}}`,
	"http://example.com/BasicOnOffTM.tm.jsonld":                `{"@context":"https://www.w3.org/2022/wot/td/v1.1","@type":"tm:ThingModel","title":"Basic On/Off Thing Model","properties":{"onOff":{"type":"boolean"}}}`,
	"http://example.com/SmartLampControlwithDimming.tm.jsonld": `{"@context":"https://www.w3.org/2022/wot/td/v1.1","@type":"tm:ThingModel","title":"Smart Lamp Control with Dimming","properties":{"dim":{"type":"integer","minimum":0,"maximum":100}}}`,
	"https://raw.githubusercontent.com/thingweb/thingweb-playground/master/packages/core/examples/tms/valid/version.json": "",
}

func findOutside(t *testing.T) model.Finder {
	return func(href, _ string) ([]byte, string, bool) {
		src, ok := parents[href]
		if ok && src == "" {
			b, err := os.ReadFile(filepath.Join(outside, "tms", "valid", path.Base(href)))
			if err != nil {
				t.Fatal(err)
			}
			return b, href, true
		}
		return []byte(src), href, ok
	}
}

// place is where each refused example is wrong.
var place = map[string]string{
	"absent_context": "/@context", "absent_tm": "/@type", "no_curly_bracket": "/securityDefinitions/example_sc/scheme",
	"single_curly_bracket": "/securityDefinitions/example_sc/scheme", "optionalWrongLocation": "/tm:optional/0", "unavailableParent": "/links/0/href",

	"camelCase": "/actions/toggle/forms/0/op/0", "duplicateEnum": "/properties/status/enum/2", "duplicatePropertyAffordanceNames": "/properties/status",
	"duplicateSecurityDefinitions": "/securityDefinitions/basic_sc", "emptyEnum": "/properties/status/enum", "emptyForm": "/events/overheating/forms",
	"emptySecDef": "/securityDefinitions", "emptySecurity": "/security", "invalidDataType": "/actions/status/input/type",
	"invalidInteractionElement": "/actions/wrongAction", "invalidOp": "/properties/brightness/forms/2/op/0", "invalidSecuMatch": "/actions/toggle/forms/0/security/0",
	"invalidSecuScheme": "/securityDefinitions/basic_sc/scheme", "multipleRelType": "/links/1/rel", "noContext": "/@context", "noForm1": "/properties/status",
	"noForm2": "/actions/status", "noForm3": "/events/status", "noHref": "/events/overheating/forms/0", "noTitle": "/title",
	"usingTM": "/properties/status/enum/0", "versionInstanceMissing": "/version",
}

// Examples that others wrote (npm @thing-description-playground/core 1.4.0,
// at a fixed version) judge what is read: the valid ones load, the invalid ones are refused
// with the place.
func TestOutsideExamples(t *testing.T) {
	judged := 0
	for _, kind := range []string{"tms", "tds"} {
		for _, verdict := range []string{"valid", "warning", "invalid"} {
			files, err := filepath.Glob(filepath.Join(outside, kind, verdict, "*.json"))
			if err != nil {
				t.Fatal(err)
			}
			for _, f := range files {
				judged++
				src, err := os.ReadFile(f)
				if err != nil {
					t.Fatal(err)
				}
				var wrong error
				if kind == "tms" {
					_, wrong = model.Read(src, findOutside(t))
				} else if found := model.CheckThing(src); len(found) > 0 {
					wrong = found
				}
				name := strings.TrimSuffix(filepath.Base(f), ".json")
				switch {
				case verdict != "invalid" && wrong != nil:
					t.Errorf("%s/%s/%s is refused: %v", kind, verdict, name, wrong)
				case verdict == "invalid" && wrong == nil:
					t.Errorf("%s/%s passes", kind, name)
				case verdict == "invalid":
					if found, ok := wrong.(model.Findings); !ok || !slices.ContainsFunc(found, func(f model.Finding) bool {
						return f.Pointer == place[name] && f.Sentence != ""
					}) {
						t.Errorf("%s/%s is wrong at %s; found %v", kind, name, place[name], wrong)
					}
				}
			}
		}
	}
	if judged < 80 {
		t.Fatalf("%d examples are installed; run: make setup", judged)
	}
}
