package check_test

import (
	"strings"
	"testing"

	"ullage/core/check"
)

// TestLayerFiles: what is wrong with layers, their order and their responses is told with
// its file and place.
func TestLayerFiles(t *testing.T) {
	for _, c := range []struct{ path, text, says string }{
		{"layers/x.yaml", "layer: x\nset: {max_tmp: 3}\n", "layers/x.yaml:2 error: no model that the target leaves has a setting max_tmp; did you mean max_temp?"},
		{"layers/x.yaml", "layer: x\nset: {max_temp: 90}\n", "layers/x.yaml:2 error: tank-probe"},
		{"layers/x.yaml", "layer: x\ntarget: label.site =\nset: {max_temp: 30}\n", "layers/x.yaml:2 error: target of x"},
		{"layers/x.yaml", "layer: x\ntarget: raised(co2_high)\nset: {fan_mode: \"on\"}\n", "layers/x.yaml:2 error: co2_high has no off-delay"},
		{"layers/x.yaml", "layer: x\ntarget: raised(must_too_warm)\nset: {max_temp: 30}\n", "layers/x.yaml:2 error: x would come and go by what it gives itself"},
		{"layers/x.yaml", "layer: base\nset: {max_temp: 30}\n", "layers/x.yaml:1 error: base is described in layers/base.yaml already"},
		{"layers/x.yaml", "layer: X\nset: {max_temp: 30}\n", "layers/x.yaml:1 error: a layer is named in small letters"},
		{"layers/x.yaml", "layer: x\nset: {max_temp: 30}\n", "layers/order.yaml:2 warning: the order does not name x"},
		{"layers/order.yaml", "order: [base, base]\n", "layers/order.yaml:1 error: base stands twice"},
		{"layers/order.yaml", "order: [base, none]\n", "layers/order.yaml:1 error: there is no layer none"},
		{"rules/co2_evacuate.yaml", "rule: co2_evacuate\nmodels: [cellar-air]\nraise: co2 > set.co2_evacuate\noff_delay: 2min\npriority: urgent\nmessage: x\nresponses:\n  - set: {co2_evacuate: 3000}\n",
			"rules/co2_evacuate.yaml:8 error: it would raise and return by what it does itself"},
		{"rules/co2_evacuate.yaml", "rule: co2_evacuate\nmodels: [cellar-air]\nraise: co2 > 1\noff_delay: 2min\npriority: urgent\nmessage: x\nresponses:\n  - set: {fan: 1}\n",
			"rules/co2_evacuate.yaml:8 error: co2_evacuate, responses: it sets fan to 1"},
	} {
		files := exampleFolder(t)
		put := false
		for i := range files {
			if files[i].Path == c.path {
				files[i].Data, put = []byte(c.text), true
			}
		}
		if !put {
			files = append(files, check.File{Path: c.path, Data: []byte(c.text)})
		}
		var said []string
		for _, f := range check.Folder(files).Findings {
			said = append(said, strings.Join([]string{f.File, ":", string(rune('0' + f.Line%10)), " ", f.Severity, ": ", f.Sentence}, ""))
		}
		found := false
		for _, x := range said {
			found = found || strings.HasPrefix(x, c.says)
		}
		if !found {
			t.Errorf("%q in %s: it says\n%s\nwant %s", c.text, c.path, strings.Join(said, "\n"), c.says)
		}
	}
}
