package expr_test

import (
	"testing"

	"ullage/core/expr"
	"ullage/core/unit"
)

func TestEver(t *testing.T) {
	cel, err := unit.Lookup("Cel")
	if err != nil {
		t.Fatal(err)
	}
	low, high, most := -20.0, 120.0, 40.0
	s := expr.NewSchema("tank-probe 1.2.0", 0)
	s.Add(expr.Info{Name: expr.Name{Key: "must_temp"}, Type: expr.Type{Kind: expr.Number, Unit: cel}, Low: &low, High: &high})
	s.Add(expr.Info{Name: expr.Name{Scope: "set", Key: "max_temp"}, Type: expr.Type{Kind: expr.Number, Unit: cel}, High: &most})
	s.Add(expr.Info{Name: expr.Name{Key: "rssi"}, Type: expr.Type{Kind: expr.Number, Unit: unit.One}})
	s.Add(expr.Info{Name: expr.Name{Key: "fan_on"}, Type: expr.Type{Kind: expr.Bool}})
	for src, want := range map[string]bool{
		"must_temp > 30": true, "must_temp > 120": false, "must_temp >= 120": true, "must_temp > 500": false, "must_temp < -20": false,
		"must_temp == 130": false, "not (must_temp < 500)": false, "must_temp > 500 or fan_on": true, "must_temp > 500 and fan_on": false,
		"must_temp > 30 and must_temp < 20": false, "must_temp > 20 and must_temp < 30": true, "must_temp >= 20 and must_temp <= 20": true,
		"must_temp > 20 and must_temp <= 20": false, "must_temp outside 10 and 30": true,
		"must_temp > set.max_temp": true, "set.max_temp > 45": false, "set.max_temp > must_temp": true, "rssi > 1000": true, "false": false,
		"not false": true, "mean(must_temp over 10min) > 500": true, "must_temp > 30 and (rssi < -90 or must_temp > 500)": true,
		"must_temp > 400 'K'": false, "must_temp > 300 'K'": true,
	} {
		p, found := expr.Compile(src, s, expr.ForRule)
		if p == nil {
			t.Errorf("%s: %v", src, found)
			continue
		}
		if got := p.Ever(); got != want {
			t.Errorf("%s can be true: %v, want %v", src, got, want)
		}
	}
}
