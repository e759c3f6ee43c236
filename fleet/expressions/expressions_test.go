package expressions_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"ullage/core/expr"
	"ullage/fleet/expressions"
	"ullage/fleet/fault"
	"ullage/test/rig"
)

func cellars(t testing.TB) (*rig.Rig, *expressions.Expressions) {
	r := rig.New(t)
	for i := 1; i <= 4; i++ {
		r.Onboard(fmt.Sprintf("tank-fennimore-%02d", i), "tank-probe",
			map[string]string{"site": "Fennimore", "stage": []string{"fermenting", "resting"}[i%2]})
	}
	r.Onboard("tank-kilnside-01", "tank-probe", map[string]string{"site": "Kilnside"})
	r.Onboard("air-kilnside-1", "cellar-air", map[string]string{"site": "Kilnside"})
	r.Onboard("bung-saltmarsh-112", "cask-bung", map[string]string{"site": "Saltmarsh"})
	r.Rule("rule: must_too_warm\nmodels: [tank-probe]\nraise: must_temp > set.max_temp\npriority: high\nmessage: m\n")
	for i := 1; i <= 4; i++ {
		r.Keep(fmt.Sprintf("tank-fennimore-%02d", i), fmt.Sprintf(`{"must_temp":%d,"ullage":%d}`, 25+3*i, 10*i))
	}
	r.Keep("air-kilnside-1", `{"co2":900,"fan_on":true}`)
	r.Keep("bung-saltmarsh-112", `{"ullage":250}`)
	r.Send("tank-fennimore-01", "") // refused, and nothing else
	return r, r.Expressions
}

func TestWhere(t *testing.T) {
	r, d := cellars(t)
	for _, c := range []struct{ where, want string }{
		{`must_temp > 30`, "tank-fennimore-02 tank-fennimore-03 tank-fennimore-04"},
		{`must_temp > set.max_temp`, "tank-fennimore-03 tank-fennimore-04"},
		{`raised(must_too_warm)`, "tank-fennimore-03 tank-fennimore-04"},
		{`not raised(must_too_warm) and device.model == "tank-probe"`, "tank-fennimore-01 tank-fennimore-02 tank-kilnside-01"},
		{`ullage > 20 'cm'`, "bung-saltmarsh-112 tank-fennimore-03 tank-fennimore-04"},
		{`label.site == "Kilnside"`, "air-kilnside-1 tank-kilnside-01"},
		{`label.site == "Kilnside" or must_temp > 36`, "air-kilnside-1 tank-fennimore-04 tank-kilnside-01"},
		{`not (must_temp > 0)`, ""}, // unknown is neither
		{`not has(must_temp)`, "air-kilnside-1 bung-saltmarsh-112 tank-kilnside-01"},
		{`has(label.stage) and label.stage != "resting"`, "tank-fennimore-02 tank-fennimore-04"},
		{`fan_on`, "air-kilnside-1"},
		{`device.id like "tank-*-01"`, "tank-fennimore-01 tank-kilnside-01"},
		{`device.link == "never"`, "tank-kilnside-01"},
		{`set.max_ullage < 30 'cm'`, "bung-saltmarsh-112"},
		{`intended.max_temp == 32`, "tank-fennimore-01 tank-fennimore-02 tank-fennimore-03 tank-fennimore-04 tank-kilnside-01"},
		{`now() - device.joined < 1h and device.zone == "UTC" and device.status != "retired" and device.model_version != ""`, "air-kilnside-1 bung-saltmarsh-112 tank-fennimore-01 tank-fennimore-02 tank-fennimore-03 tank-fennimore-04 tank-kilnside-01"},
	} {
		set, err := d.Where(c.where)
		var got []string
		for id := range set {
			got = append(got, id)
		}
		slices.Sort(got)
		if err != nil || strings.Join(got, " ") != c.want {
			t.Errorf("%s picks %v, %v; want %s", c.where, got, err, c.want)
		}
	}
	r.Pass(time.Hour)
	if set, err := d.Where("must_temp > 0"); err != nil || len(set) != 0 {
		t.Errorf("readings that are too old pick %v, %v", set, err)
	}
	if set, err := d.Where("age(must_temp) > 30min"); err != nil || len(set) != 5 {
		t.Errorf("age picks %v, %v", set, err)
	}
	_, err := d.Where("must_tmp > 3 and label.site = 5")
	f := fault.From(err)
	if f.Code != fault.Invalid || len(f.Findings) != 3 ||
		!strings.Contains(f.Findings[0].Sentence, "did you mean must_temp?") {
		t.Errorf("a wrong condition gives %+v", f)
	}
}

func TestCheckAndComplete(t *testing.T) {
	_, d := cellars(t)
	got, err := d.Check("ullage > 20", "", expr.ForFilter)
	if err != nil || len(got.Findings) != 1 || !got.Findings[0].Warning || !strings.Contains(got.Findings[0].Sentence,
		"cm in tank-probe and in mm in cask-bung") || strings.Join(got.Models, " ") != "cask-bung tank-probe" {
		t.Errorf("a number that means two things: %+v, %v", got, err)
	}
	if got, err := d.Check("ullage > 20 'cm'", "", expr.ForFilter); err != nil || len(got.Findings) != 0 ||
		got.Canonical == "" || got.Cost.Steps == 0 {
		t.Errorf("with its unit: %+v, %v", got, err)
	}
	if _, err := d.Check("true", "no-such-model", expr.ForFilter); fault.From(err).Code != fault.NotFound {
		t.Errorf("of a model that does not exist: %v", err)
	}
	first := func(src, model string) string {
		cs, err := d.Complete(src, len(src), model, expr.ForFilter)
		if err != nil || len(cs) == 0 {
			t.Fatalf("%q: %v %v", src, cs, err)
		}
		return cs[0].Text
	}
	for src, want := range map[string]string{`must_temp > `: "set.max_temp", `label.site == `: `"Kilnside"`,
		"kilns": `label.site == "Kilnside"`, "raised(": "must_too_warm", "co2 > set.": "co2_warn"} {
		if got := first(src, ""); got != want && src != `label.site == ` || !strings.HasPrefix(got, want[:1]) {
			t.Errorf("%q is completed with %q, want %q", src, got, want)
		}
	}
	if got := first("ull", "cask-bung"); got != "ullage" {
		t.Errorf("of one model: %q", got)
	}
}

func TestExplain(t *testing.T) {
	r, d := cellars(t)
	for range 20 {
		r.Pass(time.Minute)
		r.Keep("tank-fennimore-01", `{"must_temp":30}`)
	}
	x, err := d.Explain(t.Context(), "mean(must_temp over 10min)", "tank-fennimore-01", time.Time{}, nil)
	if err != nil || x.Part.Value != "30.0 °C" {
		t.Errorf("now it is %+v, %v", x.Part, err)
	}
	x, err = d.Explain(t.Context(), "must_temp < 29", "tank-fennimore-01", rig.Start.Add(30*time.Second), nil)
	if err != nil || x.Part.Truth != "true" || len(x.Part.Parts) != 1 || x.Part.Parts[0].Value != "28.0 °C" {
		t.Errorf("at its first minute it is %+v, %v", x.Part, err)
	}
	x, err = d.Explain(t.Context(), "mean(must_temp over 10min)", "tank-fennimore-01", rig.Start.Add(time.Minute), nil)
	if err != nil || x.Part.Known || x.Part.Note == "" {
		t.Errorf("before the window was covered it is %+v, %v", x.Part, err)
	}
	for _, c := range []struct {
		src, device, says string
		at                time.Time
	}{
		{"must_temp > 3", "nobody", "there is no device", time.Time{}},
		{"must_tmp > 3", "tank-fennimore-01", "did you mean must_temp?", time.Time{}},
		{"must_temp > 3", "tank-fennimore-01", "has not come yet", rig.Start.Add(48 * time.Hour)},
	} {
		if _, err := d.Explain(t.Context(), c.src, c.device, c.at, nil); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s of %s: %v, want %q", c.src, c.device, err, c.says)
		}
	}
}
