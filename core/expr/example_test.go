package expr_test

import (
	"fmt"
	"time"

	"ullage/core/expr"
	"ullage/core/unit"
	"ullage/core/value"
)

// A condition is checked against what a model has, and judged for one device
// with the margin that is left.
func Example() {
	celsius, _ := unit.Lookup("Cel")
	s := expr.NewSchema("tank-probe 1.2.0", time.Minute)
	usual := 22.0
	number := expr.Type{Kind: expr.Number, Unit: celsius}
	s.Add(expr.Info{Name: expr.Name{Key: "must_temp"}, Type: number, Usual: &usual, Decimals: 1})
	s.Add(expr.Info{Name: expr.Name{Scope: "set", Key: "max_temp"}, Type: number, Decimals: 1})
	plan := expr.NewPlan(s)
	p, found := plan.Compile("must_temp > set.max_temp", expr.ForRule)
	if p == nil {
		fmt.Println(found)
		return
	}
	at := time.Date(2026, 3, 9, 14, 0, 0, 0, time.UTC)
	state := plan.NewState(at)
	slot, _ := plan.Slot(expr.Name{Scope: "set", Key: "max_temp"})
	state.Set(slot, expr.Sample{Value: value.OfNumber(32)})
	slot, _ = plan.Slot(expr.Name{Key: "must_temp"})
	state.Observe(slot, at.UnixMilli(), value.OfNumber(30.5))
	a := p.Judge(state)
	headspace, _, _ := a.Headspace()
	fmt.Printf("%s, headspace %.0f %%\n", a.Truth, 100*headspace)
	_, found = expr.Compile("must_tmp > 32", s, expr.ForRule)
	fmt.Println(found)
	// Output:
	// false, headspace 15 %
	// column 1: no metric must_tmp in tank-probe 1.2.0; did you mean must_temp?
}
