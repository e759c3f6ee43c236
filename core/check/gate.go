package check

import (
	"fmt"
	"strings"

	"ullage/core/expr"
	"ullage/core/model"
	"ullage/core/unit"
	"ullage/core/value"
)

// What a gate may ask of a device of the wave beside what rules may.
const (
	GateApplied   = "applied"   // the change is confirmed
	GateRefused   = "refused"   // the device has refused some of it
	GateAlarmed   = "alarmed"   // an urgent or high alarm was raised since the wave began
	GateHeadspace = "headspace" // the least over its rules, in percent
)

// GateSchema returns the Schema of the conditions of a gate over devices of some models.
func GateSchema(models []*model.Model, a Around) (*expr.Schema, error) {
	s, err := Group(models, a, func(expr.Name) bool { return false })
	if err != nil {
		return nil, err
	}
	for _, key := range []string{GateApplied, GateRefused, GateAlarmed} {
		s.Add(expr.Info{Name: expr.Name{Scope: "device", Key: key}, Type: expr.Type{Kind: expr.Bool}, Decimals: -1})
	}
	percent, err := unit.Lookup("%")
	if err != nil {
		return nil, err
	}
	s.Add(expr.Info{Name: expr.Name{Scope: "device", Key: GateHeadspace}, Type: expr.Type{Kind: expr.Number, Unit: percent}, Decimals: 0})
	return s, nil
}

// Befores calls yield for every before(x) of a condition, with x as it is written.
func Befores(src string, yield func(x string)) {
	tree, _ := expr.Parse(src)
	tree.Spans("before", func(_, thing expr.Span) { yield(src[thing.Start:thing.End]) })
}

// Gate compiles the conditions of a gate. Each before(x) is written as the number that it
// stands for, which before tells by x; where it is not known yet, x itself stands for it.
func Gate(s *expr.Schema, conditions []string, before func(x string) (number string, known bool)) ([]*expr.Program, error) {
	var out []*expr.Program
	plan := expr.NewPlan(s)
	for _, src := range conditions {
		tree, found := expr.Parse(src)
		if errs := found.Errors(); len(errs) > 0 {
			return nil, fmt.Errorf("gate, %s: %w", src, errs)
		}
		var b strings.Builder
		at := 0
		tree.Spans("before", func(call, thing expr.Span) {
			b.WriteString(src[at:call.Start])
			x := src[thing.Start:thing.End]
			if n, known := before(x); known {
				b.WriteString(n)
			} else {
				b.WriteString("(" + x + ")")
			}
			at = call.End
		})
		b.WriteString(src[at:])
		p, wrong := plan.Compile(b.String(), expr.ForGroup)
		if errs := wrong.Errors(); p == nil {
			return nil, fmt.Errorf("gate, %s: %w", value.Clip(src, 200), errs)
		}
		if p.Type.Kind != expr.Bool {
			return nil, fmt.Errorf("gate, %s: this is %s; a gate asks for what is true or false", value.Clip(src, 200), p.Type)
		}
		out = append(out, p)
	}
	return out, nil
}

// IsProgress reports whether a condition asks who has confirmed, so that it is false until
// they have.
func IsProgress(src string) bool {
	tree, _ := expr.Parse(src)
	is := false
	tree.Names(func(n expr.Name, _ expr.Span) {
		is = is || n == expr.Name{Scope: "device", Key: GateApplied}
	})
	return is
}
