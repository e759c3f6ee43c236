package responses_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"ullage/core/maintenance"
	"ullage/core/rule"
	"ullage/core/value"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
	"ullage/fleet/noun"
	"ullage/test/rig"
)

const (
	monitor = "air-kilnside-2"
	other   = "air-kilnside-3"
	afar    = "air-saltmarsh-1"
	tank    = "tank-kilnside-01"
)

const head = `rule: co2_high
models: [cellar-air]
raise: co2 > 1500
priority: medium
message: CO2 at {co2}
suppress: label.row == "cleaning"
responses:
`

// hall is a rig with three monitors, of which two are at one site, and a tank there.
func hall(t *testing.T, responses string) *rig.Rig {
	t.Helper()
	r := rig.New(t)
	for id, site := range map[string]string{monitor: "Kilnside", other: "Kilnside", afar: "Saltmarsh"} {
		r.Onboard(id, "cellar-air", map[string]string{"site": site})
	}
	r.Onboard(tank, "tank-probe", map[string]string{"site": "Kilnside"})
	r.Rule(head + responses)
	return r
}

func breathe(r *rig.Rig, id string, v int) {
	r.Keep(id, fmt.Sprintf(`{"co2":%d,"fan_on":false}`, v))
	r.Pass(2 * time.Second)
}

// fan is what the fan of a device is intended to do, and who says so.
func fan(t *testing.T, r *rig.Rig, id string) string {
	t.Helper()
	s, _, err := r.Settings.Of(id)
	r.Must(err)
	from, err := r.Settings.Origins(id)
	r.Must(err)
	return s.Intended["fan_mode"].Text + " by " + string(from["fan_mode"].Source)
}

func told(r *rig.Rig, k fact.Kind) []string {
	list, err := r.Facts.Facts(r.T.Context(), fact.Filter{Kind: k, Limit: 100})
	r.Must(err)
	var out []string
	for _, f := range list {
		out = append(out, f.Sentence())
	}
	return out
}

const (
	byModel    = "auto by model"
	byResponse = "on by response"
)

func TestASettingWhileItIsRaised(t *testing.T) {
	for _, c := range []struct{ name, devices, fans string }{
		{"its own device", "", "on auto auto"},
		{"those of its site", `label.site == this.site and device.model == "cellar-air"`, "on on auto"},
		{"every one", `device.model == "cellar-air"`, "on on on"},
		{"those of a label that it does not have", `label.row == this.row`, "auto auto auto"},
	} {
		t.Run(c.name, func(t *testing.T) {
			more := ""
			if c.devices != "" {
				more = "    devices: '" + c.devices + "'\n"
			}
			r := hall(t, "  - set: {fan_mode: \"on\"}\n"+more)
			fans := func() string {
				var out []string
				for _, id := range []string{monitor, other, afar} {
					f, _, _ := strings.Cut(fan(t, r, id), " ")
					out = append(out, f)
				}
				return strings.Join(out, " ")
			}
			breathe(r, monitor, 1600)
			if got := fans(); got != c.fans {
				t.Errorf("raised, the fans are %s, want %s", got, c.fans)
			}
			r.Restart(true)
			if got := fans(); got != c.fans {
				t.Errorf("after a crash the fans are %s, want %s", got, c.fans)
			}
			breathe(r, monitor, 900)
			if got := fans(); got != "auto auto auto" {
				t.Errorf("returned, the fans are %s", got)
			}
			if n := len(told(r, fact.ResponseActed)); c.fans != "auto auto auto" && n != 2 {
				t.Errorf("the journal has %d entries, want 2: %v", n, told(r, fact.ResponseActed))
			}
		})
	}
}

// TestBelowTheOverride: what a person set on the device stands over it, and its return takes
// away its own entry alone.
func TestBelowTheOverride(t *testing.T) {
	r := hall(t, "  - set: {fan_mode: \"on\", buzzer_level: 3}\n")
	_, err := r.Settings.Set(t.Context(), monitor, map[string]any{"fan_mode": "off"}, nil, "mara")
	r.Must(err)
	breathe(r, monitor, 1600)
	if got := fan(t, r, monitor); got != "off by override" {
		t.Errorf("the fan is %s", got)
	}
	s, _, _ := r.Settings.Of(monitor)
	if s.Intended["buzzer_level"] != value.OfNumber(3) {
		t.Errorf("the buzzer is at %v", s.Intended["buzzer_level"])
	}
	_, err = r.Settings.Set(t.Context(), monitor, nil, []string{"fan_mode"}, "mara")
	r.Must(err)
	if got := fan(t, r, monitor); got != byResponse {
		t.Errorf("without the override the fan is %s", got)
	}
	breathe(r, monitor, 900)
	if got := fan(t, r, monitor); got != byModel {
		t.Errorf("returned it is %s", got)
	}
}

func TestAside(t *testing.T) {
	for _, aside := range []rule.Aside{rule.Hold, rule.Release} {
		during := byResponse
		if aside == rule.Release {
			during = byModel
		}
		for _, c := range []struct {
			name       string
			begin, end func(*rig.Rig)
			after      string
		}{
			{"suppressed by design", func(r *rig.Rig) {
				_, err := r.Devices.Label(t.Context(), monitor, map[string]string{"row": "cleaning"}, "mara")
				r.Must(err)
			}, func(r *rig.Rig) {
				_, err := r.Devices.Label(t.Context(), monitor, map[string]string{"row": ""}, "mara")
				r.Must(err)
			}, byResponse},
			{"out of service", func(r *rig.Rig) {
				_, err := r.Maintenances.Put(t.Context(), maintenance.Maintenance{Name: "cleaning", Devices: `label.site == "Kilnside"`,
					To: r.Clock.Now().Add(time.Hour)}, noun.If{}, "mara", true)
				r.Must(err)
			}, func(r *rig.Rig) {
				r.Must(r.Maintenances.Remove(t.Context(), "cleaning", noun.If{}, "mara"))
			}, byResponse},
			{"disabled", func(r *rig.Rig) {
				x, err := r.Alarms.Rule("co2_high")
				r.Must(err)
				x.Disabled = true
				_, err = r.Alarms.SetRule(t.Context(), x, "mara")
				r.Must(err)
			}, func(r *rig.Rig) {
				for _, e := range r.Responses.List() {
					if e.Left == "" {
						t.Errorf("it does not say why %s stays", e.ID)
					}
					_, err := r.Responses.Release(t.Context(), e.ID, "mara")
					r.Must(err)
				}
			}, byModel},
			{"removed", func(r *rig.Rig) {
				r.Must(r.Alarms.RemoveRule(t.Context(), "co2_high", noun.If{}, "mara"))
			}, func(r *rig.Rig) {
				for _, e := range r.Responses.List() {
					_, err := r.Responses.Release(t.Context(), e.ID, "mara")
					r.Must(err)
				}
			}, byModel},
			{"shelved", func(r *rig.Rig) {
				_, err := r.Alarms.Shelve(t.Context(), r.OpenAlarms()[0].ID, r.Clock.Now().Add(time.Hour), "noise", "mara")
				r.Must(err)
				during = byResponse // to shelve changes who is called, and nothing else
			}, func(*rig.Rig) {}, byResponse},
		} {
			t.Run(string(aside)+" "+c.name, func(t *testing.T) {
				r := hall(t, "  - set: {fan_mode: \"on\"}\n    aside: "+string(aside)+"\n")
				breathe(r, monitor, 1600)
				c.begin(r)
				r.Settle()
				r.Pass(3 * time.Second)
				r.Pass(3 * time.Second)
				if got := fan(t, r, monitor); got != during {
					t.Errorf("aside the fan is %s, want %s", got, during)
				}
				c.end(r)
				r.Settle()
				r.Pass(3 * time.Second)
				r.Pass(3 * time.Second)
				if got := fan(t, r, monitor); got != c.after {
					t.Errorf("afterwards the fan is %s, want %s", got, c.after)
				}
			})
		}
	}
}

// TestLateReadings: what comes late raises an alarm and sets nothing, until a reading that is
// on time says the same.
func TestLateReadings(t *testing.T) {
	r := hall(t, "  - set: {fan_mode: \"on\"}\n")
	at := func(ago time.Duration) string { return r.Clock.Now().Add(-ago).Format(time.RFC3339) }
	r.Keep(monitor, fmt.Sprintf(`{"at":%q,"co2":1600}`, at(3*time.Minute)))
	r.Pass(2 * time.Second)
	if len(r.OpenAlarms()) != 1 || fan(t, r, monitor) != byModel {
		t.Errorf("a reading of three minutes ago raised %d alarms, and the fan is %s", len(r.OpenAlarms()), fan(t, r, monitor))
	}
	breathe(r, monitor, 1700)
	if got := fan(t, r, monitor); got != byResponse {
		t.Errorf("after a reading on time the fan is %s", got)
	}
}

// TestOftenIsHeldBack: a response acts so often on a device in an hour, also when the
// service was restarted meanwhile, and says so.
func TestOftenIsHeldBack(t *testing.T) {
	r := hall(t, "  - set: {fan_mode: \"on\"}\n    at_most: 3\n")
	acted := 0
	for i := range 6 {
		breathe(r, monitor, 1600)
		if fan(t, r, monitor) == byResponse {
			acted++
		}
		breathe(r, monitor, 900)
		if i == 1 {
			r.Restart(true)
		}
	}
	if acted != 3 || len(told(r, fact.ResponseHeldBack)) != 3 {
		t.Errorf("it acted %d times and was held back %d times, want 3 and 3", acted, len(told(r, fact.ResponseHeldBack)))
	}
	r.Clock.Forward(time.Hour)
	breathe(r, monitor, 1600)
	if got := fan(t, r, monitor); got != byResponse {
		t.Errorf("an hour later the fan is %s", got)
	}
}

func TestCommands(t *testing.T) {
	r := hall(t, "  - command: test_buzzer\n    input: {seconds: 5}\n  - command: test_buzzer\n    input: {seconds: 1}\n    when: returned\n")
	seconds := func() (out []string) {
		for _, c := range r.Commands.Waiting(monitor) {
			var in struct{ Seconds float64 }
			r.Must(json.Unmarshal(c.Input, &in))
			out = append(out, fmt.Sprintf("%v %s", in.Seconds, c.By))
		}
		return out
	}
	breathe(r, monitor, 1600)
	if got := fmt.Sprint(seconds()); got != "[5 rule co2_high]" {
		t.Errorf("raised it gave %s", got)
	}
	breathe(r, monitor, 900)
	if got := fmt.Sprint(seconds()); got != "[5 rule co2_high 1 rule co2_high]" {
		t.Errorf("returned it gave %s", got)
	}
	list, err := r.Facts.Facts(t.Context(), fact.Filter{Rule: "co2_high", Kind: fact.CommandGiven, Limit: 10})
	r.Must(err)
	if len(list) != 2 || list[0].Person != "" || !strings.HasPrefix(list[0].Sentence(), "the rule co2_high told it to test_buzzer") {
		t.Errorf("the journal says %v", list)
	}
}

// TestTheSwitch stops all responses, leaves what they set unless that is released too, and
// lets those of alarms that hold act again.
func TestTheSwitch(t *testing.T) {
	for _, release := range []bool{false, true} {
		r := hall(t, "  - set: {fan_mode: \"on\"}\n")
		breathe(r, monitor, 1600)
		_, err := r.Responses.Turn(t.Context(), true, release, "the fans trip the fuse", "mara")
		r.Must(err)
		r.Settle()
		want := byResponse
		if release {
			want = byModel
		}
		if got := fan(t, r, monitor); got != want {
			t.Errorf("stopped, releasing %v, the fan is %s, want %s", release, got, want)
		}
		breathe(r, other, 1600)
		if got := fan(t, r, other); got != byModel {
			t.Errorf("stopped, an other one rises and its fan is %s", got)
		}
		r.Restart(false)
		if !r.Responses.Switch().Off {
			t.Fatal("a restart forgot that responses are stopped")
		}
		_, err = r.Responses.Turn(t.Context(), false, false, "", "mara")
		r.Must(err)
		r.Alarms.Respond()
		r.Settle()
		if got := fan(t, r, other); got != byResponse {
			t.Errorf("started again, the fan of the other one is %s", got)
		}
	}
}

// TestAnotherVersion: while it is raised, a rule is given another value, and then none.
func TestAnotherVersion(t *testing.T) {
	r := hall(t, "  - set: {fan_mode: \"on\"}\n")
	breathe(r, monitor, 1600)
	r.Rule(head + "  - set: {fan_mode: \"off\"}\n")
	if got := fan(t, r, monitor); got != "off by response" {
		t.Errorf("with the other version the fan is %s", got)
	}
	r.Rule(strings.TrimSuffix(head, "responses:\n"))
	if got := fan(t, r, monitor); got != byModel {
		t.Errorf("without responses the fan is %s", got)
	}
	if n := len(r.Responses.List()); n != 0 {
		t.Errorf("%d entries are left", n)
	}
}

func TestRefused(t *testing.T) {
	r := rig.New(t)
	for _, c := range []struct{ raise, responses, says string }{
		{"co2 > set.co2_warn", `[{set: {co2_warn: 1000}}]`, "sets co2_warn, at which co2_high looks"},
		{"co2 > 1500", `[{set: {fan_mod: "on"}}]`, "did you mean fan_mode?"},
		{"co2 > 1500", `[{set: {fan_mode: "fast"}}]`, "the model allows"},
		{"co2 > 1500", `[{command: test_buzer}]`, "test_buzer"},
		{"co2 > 1500", `[{command: test_buzzer, input: {seconds: "long"}}]`, "seconds"},
		{"co2 > 1500", `[{}]`, "set settings or give a command"},
		{"co2 > 1500", `[{set: {fan_mode: "on"}, command: test_buzzer}]`, "one of them"},
		{"co2 > 1500", `[{set: {fan_mode: "on"}, when: returned}]`, "belong to a command"},
		{"co2 > 1500", `[{set: {fan_mode: "on"}, aside: maybe}]`, "hold or release"},
		{"co2 > 1500", `[{set: {fan_mode: "on"}, at_most: 600}]`, "1 to 60"},
		{"co2 > 1500", `[{set: {fan_mode: [1]}}]`, "nothing that a setting can be"},
		{"co2 > 1500", `[{set: {fan_mode: "on"}, devices: "label.site = this.site"}]`, "=="},
		{"co2 > 1500", `[{set: {fan_mode: "on"}, devices: "co2 > 5"}]`, "changes by itself"},
		{"co2 > 1500", `[{set: {max_temp: 30}}]`, "max_temp"},
		{"co2 > 1500", `[{set: {max_temp: 30}, devices: 'device.model == "tank-probe"'}]`, ""},
	} {
		x, err := rule.Parse([]byte("rule: co2_high\nmodels: [cellar-air]\nraise: " + c.raise + "\npriority: low\nmessage: x\nresponses: " + c.responses + "\n"))
		if err == nil {
			_, err = r.Alarms.SetRule(t.Context(), *x, "mara")
		}
		if c.says == "" && err != nil || c.says != "" && (err == nil || !strings.Contains(err.Error(), c.says)) {
			t.Errorf("%s: %v, want %q", c.responses, err, c.says)
		}
	}
	if _, err := r.Responses.Release(t.Context(), "none", "mara"); rig.Code(err) != fault.NotFound {
		t.Errorf("releasing nothing says %v", err)
	}
}

// TestLoops: rules that raise each other by way of settings, however long the way.
func TestLoops(t *testing.T) {
	r := rig.New(t)
	r.Rule("rule: warm\nmodels: [tank-probe]\nraise: must_temp > set.max_temp\npriority: low\nmessage: x\n")
	r.Rule("rule: stirred\nmodels: [tank-probe]\nraise: raised(warm) and density > 1\npriority: low\nmessage: x\n")
	x, err := rule.Parse([]byte("rule: slow\nmodels: [tank-probe]\nraise: raised(stirred)\npriority: low\nmessage: x\nresponses: [{set: {max_temp: 30}}]\n"))
	r.Must(err)
	_, err = r.Alarms.SetRule(t.Context(), *x, "mara")
	want := "slow sets max_temp, at which warm looks, and stirred asks whether warm is raised, and slow asks whether stirred is raised"
	if err == nil || !strings.Contains(err.Error(), "looks") || strings.Count(err.Error(), ", and ") != 2 {
		t.Errorf("it says %v, want a circle such as: %s", err, want)
	}
	// A setting of the same name on another model is another one.
	x, err = rule.Parse([]byte("rule: slow\nmodels: [tank-probe]\nraise: raised(stirred)\npriority: low\nmessage: x\nresponses: [{set: {report_every: 30}}]\n"))
	r.Must(err)
	_, err = r.Alarms.SetRule(t.Context(), *x, "mara")
	r.Must(err)
}
