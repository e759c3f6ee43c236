package replay_test

import (
	"testing"
	"time"

	"ullage/core/replay"
	"ullage/core/rule"
)

func TestDry(t *testing.T) {
	start := time.Date(2026, 3, 9, 14, 0, 0, 0, time.UTC)
	at := func(minutes int) time.Time { return start.Add(time.Duration(minutes) * time.Minute) }
	span := func(from, to int) replay.Span { return replay.Span{From: at(from), To: at(to)} }
	set := map[string]any{"fan_mode": "on"}
	end := at(600)
	for _, c := range []struct {
		name     string
		response rule.Response
		subjects map[string][]replay.Span
		on       []string // on which devices it acts; the subject itself where empty
		want     replay.Done
	}{
		{"its own", rule.Response{Set: set}, map[string][]replay.Span{"a": {span(0, 10), span(20, 25)}, "b": {span(0, 1)}}, nil,
			replay.Done{Does: `sets fan_mode to "on"`, Acts: 3, Devices: 2, Lasted: 16 * time.Minute}},
		{"two alarms keep one device", rule.Response{Set: set}, map[string][]replay.Span{"a": {span(0, 10)}, "b": {span(5, 15)}}, []string{"c"},
			replay.Done{Does: `sets fan_mode to "on"`, Acts: 2, Devices: 1, Lasted: 15 * time.Minute}},
		{"too often", rule.Response{Set: set, AtMost: 2}, map[string][]replay.Span{"a": {span(0, 1), span(2, 3), span(4, 5), span(70, 71)}}, nil,
			replay.Done{Does: `sets fan_mode to "on"`, Acts: 3, Devices: 1, Held: 1, Lasted: 3 * time.Minute}},
		{"still raised", rule.Response{Set: set}, map[string][]replay.Span{"a": {{From: at(540)}}}, nil,
			replay.Done{Does: `sets fan_mode to "on"`, Acts: 1, Devices: 1, Lasted: time.Hour}},
		{"suppressed", rule.Response{Set: set, Aside: rule.Release}, map[string][]replay.Span{"a": {{From: at(0), To: at(5), Suppressed: true}}}, nil,
			replay.Done{Does: `sets fan_mode to "on"`}},
		{"a command at its end", rule.Response{Command: "identify", When: rule.WhenReturned}, map[string][]replay.Span{"a": {span(0, 10), {From: at(500)}}}, nil,
			replay.Done{Does: "gives the command identify", Acts: 1, Devices: 1}},
		{"nowhere", rule.Response{Set: set}, map[string][]replay.Span{"a": {span(0, 10)}}, []string{},
			replay.Done{Does: `sets fan_mode to "on"`, Nowhere: 1}},
	} {
		t.Run(c.name, func(t *testing.T) {
			d := replay.NewDry(&rule.Rule{Name: "x", Responses: []rule.Response{c.response}})
			for subject, spans := range c.subjects {
				on := c.on
				if on == nil {
					on = []string{subject}
				}
				d.Add(spans, [][]string{on}, end)
			}
			if got := d.Sum(); len(got) != 1 || got[0] != c.want {
				t.Errorf("it would have done %+v, want %+v", got, c.want)
			}
		})
	}
}
