package replay_test

import (
	"testing"
	"time"

	"ullage/core/check"
	"ullage/core/expr"
	"ullage/core/model"
	"ullage/core/replay"
	"ullage/core/rule"
	"ullage/core/value"
	"ullage/test/scenario"
)

// A member counts while it is one, and what is raised ends with the last of them.
func TestGroupMembersComeAndGo(t *testing.T) {
	m := scenario.Model(t, "cellar-air")
	r, err := rule.Parse([]byte("rule: much_co2\nmodels: [cellar-air]\neach: label.site\nraise: max_of(co2) > 1500\npriority: high\nmessage: much\n"))
	if err != nil {
		t.Fatal(err)
	}
	begin := time.Date(2026, 3, 9, 14, 0, 0, 0, time.UTC)
	at := func(seconds int) time.Time { return begin.Add(time.Duration(seconds) * time.Second) }
	within := func(spans ...int) (out [][2]int64) {
		for i := 0; i < len(spans); i += 2 {
			out = append(out, [2]int64{at(spans[i]).UnixMilli(), at(spans[i+1]).UnixMilli()})
		}
		return out
	}
	type member struct {
		co2    float64
		within [][2]int64
	}
	for name, c := range map[string]struct {
		members []member
		want    []int // from and to, in seconds
	}{
		"always":                     {[]member{{1800, nil}, {700, nil}}, []int{0, -1}},
		"for a while":                {[]member{{1800, within(60, 120)}, {700, nil}}, []int{60, 120}},
		"twice":                      {[]member{{1800, within(60, 120, 200, 260)}, {700, nil}}, []int{60, 120, 200, 260}},
		"handed on":                  {[]member{{1800, within(60, 120)}, {1900, within(120, 180)}, {700, nil}}, []int{60, 180}},
		"the last one goes":          {[]member{{1800, within(60, 120)}}, []int{60, 120}},
		"nobody in between":          {[]member{{1800, within(60, 120)}, {1800, within(200, 260)}}, []int{60, 120, 200, 260}},
		"to the end":                 {[]member{{1800, within(200, 300)}, {700, within(0, 300)}}, []int{200, -1}},
		"never there while it reads": {[]member{{1800, within(400, 500)}, {700, nil}}, nil},
	} {
		t.Run(name, func(t *testing.T) {
			plan, compiled, err := check.GroupRule(r, []*model.Model{m}, check.Around{Rules: []string{r.Name}})
			if err != nil {
				t.Fatal(err)
			}
			g := replay.NewGroup(replay.GroupOptions{Plan: plan, Rule: compiled, Label: expr.Name{Scope: "label", Key: "site"}, Value: "Kilnside", Zone: time.UTC, Judge: begin, From: begin})
			var members []replay.Member
			for _, x := range c.members {
				col := replay.Column{Metric: "co2"}
				for s := 0; s < 300; s += 10 {
					col.At, col.Values = append(col.At, at(s).UnixMilli()), append(col.Values, value.OfNumber(x.co2))
				}
				members = append(members, replay.Member{State: plan.NewState(begin), Columns: []replay.Column{col}, Within: x.within})
			}
			got := g.Run(members, at(300))
			if len(got.Spans) != len(c.want)/2 || got.Alarms != len(got.Spans) {
				t.Fatalf("%d alarms: %+v, want %v", got.Alarms, got.Spans, c.want)
			}
			for i, s := range got.Spans {
				from, to := int(s.From.Sub(begin).Seconds()), -1
				if !s.To.IsZero() {
					to = int(s.To.Sub(begin).Seconds())
				}
				if from != c.want[2*i] || to != c.want[2*i+1] {
					t.Errorf("raised from %d to %d, want %v", from, to, c.want[2*i:2*i+2])
				}
			}
		})
	}
}
