package expr

import (
	"math/rand/v2"
	"testing"
	"time"

	"ullage/core/value"
)

// Rules without windows take nothing on the hot path.
func TestNoAllocation(t *testing.T) {
	plan, s, programs := bench(t)
	r := rand.New(rand.NewPCG(1, 1))
	temp, _ := plan.Slot(Name{Key: "must_temp"})
	at := s.Now()
	step := func() {
		at += 10_000
		s.Observe(temp, at, value.OfNumber(20+r.Float64()*10))
		for _, p := range programs {
			p.Judge(s)
		}
	}
	for range 3000 {
		step()
	}
	if n := testing.AllocsPerRun(2000, step); n != 0 {
		t.Errorf("a reading through ten rules allocates %g times", n)
	}
}

// bench is ten rules with four windows on one device.
func bench(t testing.TB) (*Plan, *State, []*Program) {
	s := cellar()
	s.Interval = 10 * time.Second
	plan := NewPlan(s)
	var programs []*Program
	for _, src := range []string{
		`must_temp > set.max_temp`, `mean(must_temp over 10min) > set.max_temp - 1`, `max(must_temp over 1h) - min(must_temp over 1h) > 4`, `rate(must_temp over 30min) > 2 'K/h'`,
		`must_temp > 30 and label.stage == "fermenting"`, `must_temp outside 10 and 35`, `p95(must_temp over 5min) > 33`, `stddev(must_temp over 10min) > 5`,
		`must_temp > 25 and not fan_on`, `age(must_temp) > 15min or must_temp < 4`,
	} {
		p, found := plan.Compile(src, ForRule)
		if p == nil {
			t.Fatal(found)
		}
		programs = append(programs, p)
	}
	st := plan.NewState(value.FromMillis(now))
	for name, v := range map[Name]value.Value{{"set", "max_temp"}: value.OfNumber(32),
		{"label", "stage"}: value.OfText("fermenting")} {
		slot, _ := plan.Slot(name)
		st.Set(slot, Sample{Value: v})
	}
	return plan, st, programs
}

func FuzzCompile(f *testing.F) {
	for _, s := range []string{`must_temp > set.max_temp and label.stage == "fermenting"`,
		`mean(density over 10min) between 1 'g/L' and 2`, `if a then b else c`, `1 < x < 5`, `cycle in ("a", 3)`,
		`time_in(fan_on over 1h) > 3min`, `value("é") like "*"`, `"\u{41}`, `((`, `'Cel'`, `x && y || !z`, `during("Mon 1:00-2:00")`, `version("1") < version(attr.firmware)`, `-.5e-3 'K/h'`, "\xff"} {
		f.Add(s)
	}
	schema := cellar()
	f.Fuzz(func(t *testing.T, src string) {
		tree, found := Parse(src)
		for _, x := range found {
			if x.Column < 1 || x.Sentence == "" || x.Span.Start < 0 || x.Span.End > len(src) ||
				x.Span.Start > x.Span.End {
				t.Errorf("%q: %+v", src, x)
			}
		}
		if len(found.Errors()) == 0 {
			once := tree.String()
			again, more := Parse(once)
			if len(more.Errors()) > 0 || again.String() != once {
				t.Errorf("%q is written %q, which is read as %q, %v", src, once, again, more)
			}
		}
		for _, purpose := range []Purpose{ForFilter, ForRule, ForGroup, ForTarget, ForAccess, ForMessage} {
			p, found := Compile(src, schema, purpose)
			if (p == nil) != (len(found.Errors()) > 0) {
				t.Fatalf("%q gives no program and no error", src)
			}
			if p == nil {
				continue
			}
			s := device(p, map[string]any{"must_temp": 30.0, "density": 1050.0, "fan_on": true, "cycle": "idle",
				"set.max_temp": 32.0})
			a := p.Judge(s)
			if purpose != ForMessage && (a.Margin > 0 && a.Truth != False || a.Margin < 0 && a.Truth != True) {
				t.Errorf("%q is %s with margin %g", src, a.Truth, a.Margin)
			}
			p.Explain(s)
			p.Say(s)
		}
		Complete(src, len(src)/2, schema, ForRule)
		Complete(src, len(src), schema, ForFilter)
	})
}

func BenchmarkCompile(b *testing.B) {
	s := cellar()
	b.ReportAllocs()
	for b.Loop() {
		if p, _ := Compile(`mean(must_temp over 10min) > set.max_temp - 1.5 and label.stage == "fermenting"`, s,
			ForRule); p == nil {
			b.Fatal()
		}
	}
}

func BenchmarkReading(b *testing.B) {
	plan, s, programs := bench(b)
	slot, _ := plan.Slot(Name{Key: "must_temp"})
	at := s.Now()
	r := rand.New(rand.NewPCG(1, 1))
	temp := 25.0
	step := func() {
		at += 10_000
		temp = min(max(temp+(r.Float64()-0.5)/4, 18), 36) // a temperature drifts, it does not jump
		s.Observe(slot, at, value.OfNumber(temp))
		for _, p := range programs {
			p.Judge(s)
		}
	}
	for range 1000 {
		step()
	}
	b.ReportAllocs()
	for b.Loop() {
		step()
	}
}
