package commands_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"ullage/fleet/commands"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
	"ullage/test/rig"
)

// tanks onboards so many probes and returns their ids.
func tanks(r *rig.Rig, n int) []string {
	var ids []string
	for i := range n {
		ids = append(ids, fmt.Sprintf("tank-kilnside-%03d", i))
		r.Onboard(ids[i], "tank-probe", nil)
	}
	return ids
}

// ofJob returns the commands of a job by device.
func ofJob(r *rig.Rig, id string) map[string]commands.Command {
	r.T.Helper()
	cs, err := r.Commands.List(r.T.Context(), commands.Filter{Job: id})
	r.Must(err)
	out := map[string]commands.Command{}
	for _, c := range cs {
		if _, twice := out[c.Device]; twice {
			r.T.Fatalf("%s was given the command twice", c.Device)
		}
		out[c.Device] = c
	}
	return out
}

func opened(cs map[string]commands.Command) (out []commands.Command) {
	for _, c := range cs {
		if c.Phase.Open() {
			out = append(out, c)
		}
	}
	slices.SortFunc(out, func(a, b commands.Command) int { return strings.Compare(a.Device, b.Device) })
	return out
}

// TestManyKeepToTheirLimit plays replies, failures, silences and crashes in random order:
// never are more commands open than was said, each device gets one, and the job ends.
func TestManyKeepToTheirLimit(t *testing.T) {
	for seed := range rig.Times(12, 3) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			random := rand.New(rand.NewPCG(uint64(seed), 17))
			r := rig.New(t)
			ids := tanks(r, 25)
			most := 1 + random.IntN(6)
			j, err := r.Commands.GiveMany(t.Context(), commands.Job{Devices: ids, Name: "zero_level", Input: json.RawMessage(`{"reference_cm":30}`), AtOnce: most, By: "mara", Whole: true})
			r.Must(err)
			for step := 0; ; step++ {
				r.Settle()
				cs := ofJob(r, j.ID)
				open := opened(cs)
				if len(open) > most {
					t.Fatalf("step %d: %d are open, at most %d were wanted", step, len(open), most)
				}
				now, err := r.Commands.Job(j.ID)
				r.Must(err)
				if !now.EndedAt.IsZero() {
					break
				}
				if len(open) == 0 || step > 500 {
					t.Fatalf("step %d: nothing is open and %d of %d were given", step, now.Given, len(ids))
				}
				c := open[random.IntN(len(open))]
				switch random.IntN(6) {
				case 0:
					r.Restart(random.IntN(2) == 0)
				case 1:
					r.Pass(time.Duration(random.IntN(90)) * time.Second)
				case 2:
					reply(r, c.Device, `{"id":"`+c.ID+`","error":"lost in foam"}`)
				default:
					r.Commands.HandOver(c.Device, c.ID)
					reply(r, c.Device, `{"id":"`+c.ID+`","output":{"offset_cm":1}}`)
				}
			}
			cs := ofJob(r, j.ID)
			if len(cs) != len(ids) {
				t.Errorf("%d of %d devices were given it", len(cs), len(ids))
			}
			counts, err := r.Commands.Counts(t.Context(), []string{j.ID})
			r.Must(err)
			if c := counts[j.ID]; c[commands.Done]+c[commands.Failed]+c[commands.Expired] != len(ids) {
				t.Errorf("the ends are %v of %d", c, len(ids))
			}
		})
	}
}

func TestManyAreWithdrawn(t *testing.T) {
	r := rig.New(t)
	ids := tanks(r, 8)
	j, err := r.Commands.GiveMany(t.Context(), commands.Job{Devices: ids, Name: "identify", Expiry: commands.Expiry{After: time.Hour}, AtOnce: 3, By: "mara", Whole: true})
	r.Must(err)
	r.Settle()
	if n := len(opened(ofJob(r, j.ID))); n != 3 {
		t.Fatalf("%d are open, want 3", n)
	}
	if _, err = r.Devices.SetStatus(t.Context(), ids[3], "suspended", "mara"); err != nil {
		t.Fatal(err)
	}
	first := opened(ofJob(r, j.ID))[0]
	reply(r, first.Device, `{"id":"`+first.ID+`"}`)
	r.Settle()
	// The suspended one is passed over, with the reason, and the next has its turn.
	cs := ofJob(r, j.ID)
	if c := cs[ids[3]]; c.Phase != commands.Withdrawn || !strings.Contains(c.Error, "is suspended") {
		t.Errorf("the suspended one has %+v", c)
	}
	if c := cs[ids[4]]; c.Phase != commands.Waiting {
		t.Errorf("the one after it has %+v", c)
	}
	_, err = r.Commands.WithdrawJob(t.Context(), j.ID, "mara")
	r.Must(err)
	r.Settle()
	r.Restart(true)
	now, err := r.Commands.Job(j.ID)
	r.Must(err)
	cs = ofJob(r, j.ID)
	if len(opened(cs)) != 0 || now.EndedAt.IsZero() || now.WithdrawnBy != "mara" || len(cs) != 5 {
		t.Errorf("after it was withdrawn it is %+v with %d commands, %d open", now, len(cs), len(opened(cs)))
	}
	if _, err := r.Commands.WithdrawJob(t.Context(), j.ID, "mara"); rig.Code(err) != fault.Conflict {
		t.Errorf("withdrawn twice: %v", err)
	}
	if js := r.Journal(fact.CommandGiven); !slices.ContainsFunc(js, func(s string) bool { return strings.Contains(s, "told 8 devices to identify") }) {
		t.Errorf("the journal says %q", js)
	}
}

func TestWhatManyAreRefused(t *testing.T) {
	r := newRig(t)
	r.Onboard("bung-saltmarsh-112", "cask-bung", nil)
	for _, c := range []struct {
		ids    []string
		name   string
		atOnce int
		says   string
	}{
		{nil, "identify", 0, "no device is chosen"},
		{[]string{tank}, "identify", -1, "at most -1"},
		{[]string{tank, "bung-saltmarsh-112"}, "identify", 0, "has no command"},
		{[]string{tank}, "zero_level", 0, "reference_cm"},
		{[]string{"tank-nowhere-01"}, "identify", 0, "tank-nowhere-01"},
		{make([]string, commands.MostDevices+1), "identify", 0, "too many at once"},
	} {
		_, err := r.Commands.GiveMany(t.Context(), commands.Job{Devices: c.ids, Name: c.name, AtOnce: c.atOnce, By: "mara", Whole: true})
		if err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s for %d devices: %v, want %q", c.name, len(c.ids), err, c.says)
		}
	}
	if n := len(r.Commands.Jobs()); n != 0 {
		t.Errorf("%d jobs are there", n)
	}
	if _, err := r.Commands.Job("01"); rig.Code(err) != fault.NotFound {
		t.Errorf("an unknown job: %v", err)
	}
}
