package board_test

import (
	"fmt"
	"io/fs"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"ullage/core/board"
	"ullage/core/model"
	"ullage/core/value"
	cellars "ullage/examples/cellars"
)

func models(t testing.TB) map[string]*model.Model {
	t.Helper()
	files, err := fs.Glob(cellars.Files, "models/*.tm.json")
	if err != nil || len(files) == 0 {
		t.Fatal("no models", err)
	}
	out := map[string]*model.Model{}
	for _, f := range files {
		b, err := cellars.Files.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		m, err := model.Read(b, func(href, _ string) ([]byte, string, bool) {
			b, err := cellars.Files.ReadFile("models/" + href)
			return b, href, err == nil
		})
		if err != nil {
			t.Fatal(f, err)
		}
		out[m.Name] = m
	}
	return out
}

// TestMadeBoards: what is made of each model of the scenario is whole, shows every metric,
// and fits the model.
func TestMadeBoards(t *testing.T) {
	all := models(t)
	var list []*model.Model
	for _, m := range all {
		list = append(list, m)
	}
	boards := map[string]*board.Board{"fleet": board.ForFleet(list), "site": board.ForSite("Fennimore", list, true), "bare site": board.ForSite("Kilnside", list[:1], false),
		"nothing": board.ForFleet(nil)}
	for name, m := range all {
		boards["device "+name] = board.ForDevice("tank-fennimore-07", m)
		boards["model "+name] = board.ForModel(m)
		for _, of := range []string{"device ", "model "} {
			b := boards[of+name]
			for _, p := range m.With(model.Telemetry) {
				if p.Kind == value.None {
					continue
				}
				shown := func(x board.Instrument) bool { return slices.Contains(x.Metrics, p.Name) }
				if !slices.ContainsFunc(b.Instruments, shown) {
					t.Errorf("%s%s does not show %s", of, name, p.Name)
				}
			}
		}
		for _, p := range m.With(model.Setting) {
			if p.Stored() && !slices.ContainsFunc(boards["device "+name].Instruments, func(x board.Instrument) bool { return x.Setting == p.Name }) {
				t.Errorf("the board of a %s does not set %s", name, p.Name)
			}
		}
	}
	for name, b := range boards {
		if err := b.Check(); err != nil {
			t.Errorf("the board %s is wrong: %v", name, err)
		}
		if !b.Made {
			t.Errorf("the board %s does not say that it is made", name)
		}
		if lacks := board.Unfit(b, list); len(lacks) > 0 {
			t.Errorf("the board %s does not fit: %+v", name, lacks)
		}
		back, err := board.Parse(b.YAML())
		if err != nil || len(back.Instruments) != len(b.Instruments) || back.Made {
			t.Errorf("the board %s as a file: %v", name, err)
		}
	}
}

func TestWhatIsWrong(t *testing.T) {
	one := func(rest string) string {
		return "board: hall\ninstruments:\n  - instrument: trace\n    place: [0, 0, 6, 4]\n    metrics: [must_temp]\n" + rest
	}
	for _, c := range []struct{ src, key, says string }{
		{one(""), "", ""},
		{one("span: 12min\nparameters: [site, device]\n"), "", ""},
		{one("span: 2026-03-01T10:00:00Z..2026-03-02T10:00:00Z\n"), "", ""},
		{"board: Hall\ninstruments: []\n", "/board", "small letters"},
		{one("span: soon\n"), "/span", "no span of time"},
		{one("span: 2026-03-02T10:00:00Z..2026-03-01T10:00:00Z\n"), "/span", "no span of time"},
		{one("parameters: [site, site]\n"), "/parameters/1", "is there twice"},
		{one("devices: label.site = \"x\"\n"), "/devices", "=="},
		{one("  - instrument: dial\n    place: [5, 3, 3, 3]\n    metrics: [co2]\n"), "/instruments/1/place", "stand on each other"},
		{one("  - instrument: dail\n    place: [6, 0, 3, 3]\n"), "/instruments/1/instrument", "no instrument"},
		{one("  - instrument: dial\n    place: [10, 0, 3, 3]\n    metrics: [co2]\n"), "/instruments/1/place", "not on the grid"},
		{one("  - instrument: dial\n    place: [6, 0, 3]\n    metrics: [co2]\n"), "/instruments/1/place", "column, row, width and height"},
		{one("  - instrument: dial\n    place: [6, 0, 3, 3]\n"), "/instruments/1/metrics", "shows metrics"},
		{one("  - instrument: dial\n    place: [6, 0, 3, 3]\n    metrics: [a, b]\n"), "/instruments/1/metrics", "one metric"},
		{one("  - instrument: alarms\n    place: [6, 0, 3, 3]\n    metrics: [a]\n"), "/instruments/1/metrics", "shows no metrics"},
		{one("  - instrument: tally\n    place: [6, 0, 3, 3]\n"), "/instruments/1/count", "counts devices by"},
		{one("  - instrument: tally\n    place: [6, 0, 3, 3]\n    count: \"co2 >> 3\"\n"), "/instruments/1/count", "count:"},
		{one("  - instrument: control\n    place: [6, 0, 3, 3]\n    setting: a\n    command: b\n"), "/instruments/1", "one setting or of one command"},
		{one("  - instrument: note\n    place: [6, 0, 3, 3]\n"), "/instruments/1/text", "has a text"},
		{one("  - instrument: plan\n    place: [6, 0, 3, 3]\n    at: {tank-1: [30, 140]}\n"), "/instruments/1/at", "stands nowhere"},
		{one("  - instrument: roster\n    place: [6, 0, 3, 3]\n    at: {tank-1: [30, 40]}\n"), "/instruments/1/at", "only a plan"},
		{one("    group_by: model\n"), "/instruments/0/group_by", "grouped by a label"},
		{one("    agregate: max\n"), "", "agregate"},
		{"board: hall\ninstruments:\n  - {instrument: bars, place: [0, 0, 3, 3], metrics: [co2], compare: 24h}\n", "/instruments/0", "only a trace compares"},
		{"board: hall\ninstruments:\n  - {instrument: trace, place: [0, 0, 3, 3], metrics: [co2], states: link}\n", "/instruments/0/states", "only a strip"},
		{"board: hall\ninstruments:\n  - {instrument: strip, place: [0, 0, 3, 3], states: fan}\n", "/instruments/0/states", "link or alarm"},
		{"board: hall\ninstruments:\n  - {instrument: strip, place: [0, 0, 3, 3], states: link, metrics: [fan_on]}\n", "/instruments/0/states", "leave one of the two out"},
		{"board: hall\ninstruments:\n  - {instrument: strip, place: [0, 0, 3, 3]}\n", "/instruments/0/metrics", "name one"},
		{"board: hall\ninstruments:\n  - {instrument: strip, place: [0, 0, 3, 3], metrics: [fan_on], step: 1h}\n", "/instruments/0/step", "only bars"},
		{"board: hall\ninstruments:\n  - {instrument: bars, place: [0, 0, 3, 3], metrics: [co2], step: 1s}\n", "/instruments/0/step", "from 1min to 31d"},
		{"board: hall\ninstruments:\n  - {instrument: bars, place: [0, 0, 3, 3], metrics: [co2], step: 1h, group_by: site}\n", "/instruments/0/step", "leave out step or group_by"},
		{"board: hall\ninstruments:\n  - {instrument: trace, place: [0, 0, 3, 3], metrics: [co2], compare: yesterday}\n", "/instruments/0/compare", "like 24h or 7d"},
		{"board: hall\ninstruments:\n  - {instrument: trace, place: [0, 0, 3, 3], metrics: [co2], forecast: 30d}\n", "/instruments/0/forecast", "from 5min to 14d"},
		{"board: hall\ninstruments:\n  - {instrument: trace, place: [0, 0, 3, 3], metrics: [co2, must_temp], forecast: 6h}\n", "/instruments/0/forecast", "one metric"},
		{"board: hall\ninstruments:\n  - {instrument: plan, place: [0, 0, 3, 3], at: {tank-fennimore-07/: [3, 3]}}\n", "/instruments/0/at", "a device and a metric"},
		{"board: hall\ninstruments:\n" + strings.Repeat("  - instrument: alarms\n    place: [0, 0, 1, 1]\n", 500), "/instruments", "60 are the most"},
	} {
		_, err := board.Parse([]byte(c.src))
		if (err == nil) != (c.says == "") || err != nil && !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s\n→ %v, want %q", c.src, err, c.says)
			continue
		}
		if e, ok := err.(*board.Error); ok && e.Key != c.key {
			t.Errorf("%s\n→ at %s, want %s", c.src, e.Key, c.key)
		}
	}
}

func TestUnfit(t *testing.T) {
	all := models(t)
	b := &board.Board{Name: "hall", Instruments: []board.Instrument{
		{Kind: "trace", Place: []int{0, 0, 6, 4}, Metrics: []string{"must_temp", "must_tmp"}},
		{Kind: "control", Place: []int{6, 0, 3, 3}, Setting: "max_tmp"},
		{Kind: "control", Place: []int{9, 0, 3, 3}, Command: "sing"},
		{Kind: "control", Place: []int{9, 3, 3, 3}, Command: "identify"},
	}}
	got := board.Unfit(b, []*model.Model{all["tank-probe"]})
	var said []string
	for _, l := range got {
		said = append(said, fmt.Sprintf("%d %s", l.Instrument, l.Sentence))
	}
	if want := "0 no model has the metric must_tmp; did you mean must_temp?|1 no model has the setting max_tmp; did you mean max_temp?|2 no model has the command sing"; strings.Join(said, "|") != want {
		t.Errorf("it says %q", said)
	}
}

// TestPlacesNeverOverlap: a board is refused exactly where two of its instruments share a
// cell.
func TestPlacesNeverOverlap(t *testing.T) {
	for seed := range uint64(400) {
		r := rand.New(rand.NewPCG(seed, 1))
		b := &board.Board{Name: "hall"}
		cells := map[[2]int]bool{}
		twice := false
		for range 1 + r.IntN(5) {
			w, h := 1+r.IntN(6), 1+r.IntN(4)
			x, y := r.IntN(13-w), r.IntN(8)
			b.Instruments = append(b.Instruments, board.Instrument{Kind: "alarms", Place: []int{x, y, w, h}})
			for i := x; i < x+w; i++ {
				for j := y; j < y+h; j++ {
					twice = twice || cells[[2]int{i, j}]
					cells[[2]int{i, j}] = true
				}
			}
		}
		if err := b.Check(); (err != nil) != twice {
			t.Fatalf("seed %d: %v, overlap %t: %v", seed, b.Instruments, twice, err)
		}
	}
}

func FuzzParse(f *testing.F) {
	// Small ones: whatever is new about a large one is made small first, which takes a minute.
	f.Add([]byte("board: a\ninstruments:\n  - instrument: trace\n    place: [0, 0, 6, 4]\n    metrics: [co2]\n    devices: label.site == \"Kilnside\"\n"))
	f.Add([]byte("board: a\nspan: 6h\nparameters: [site]\ninstruments: [{instrument: tally, place: [0,0,1,1], count: co2 > 3}]"))
	f.Add([]byte("board: a\ninstruments: [{instrument: plan, place: [0,0,1,1], at: {x: [1]}}]"))
	f.Fuzz(func(t *testing.T, src []byte) {
		b, err := board.Parse(src)
		if err != nil {
			return
		}
		again, err := board.Parse(b.YAML())
		if err != nil {
			t.Fatalf("what was written is not read: %v\n%s", err, b.YAML())
		}
		if string(again.YAML()) != string(b.YAML()) {
			t.Fatalf("written again it is another one:\n%s\n%s", b.YAML(), again.YAML())
		}
	})
}
