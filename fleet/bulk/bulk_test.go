package bulk_test

import (
	"fmt"
	"maps"
	"strings"
	"testing"
	"time"

	"ullage/core/person"
	"ullage/fleet/access"
	"ullage/fleet/bulk"
	"ullage/fleet/devices"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
	"ullage/fleet/noun"
	"ullage/test/rig"
)

var engineer = access.Whole("engineer")

func tanks(r *rig.Rig, n int) []string {
	var ids []string
	for i := range n {
		id := fmt.Sprintf("tank-fennimore-%03d", i)
		r.Onboard(id, "tank-probe", map[string]string{"site": "Fennimore", "row": string(rune('A' + i%2))})
		ids = append(ids, id)
	}
	r.Settle()
	return ids
}

// over waits until a job is over.
func over(r *rig.Rig, id string) *bulk.Job {
	r.T.Helper()
	for range 2000 {
		r.Settle()
		if j, err := r.Bulk.Get(id); err == nil && !j.EndedAt.IsZero() {
			return j
		}
		time.Sleep(time.Millisecond)
	}
	r.T.Fatal("the change is never over")
	return nil
}

func labelsOf(r *rig.Rig, id string) string {
	d, err := r.Devices.Get(id)
	r.Must(err)
	return fmt.Sprint(d.Labels)
}

func TestOf(t *testing.T) {
	d := devices.Device{ID: "a", Status: devices.Active, Labels: map[string]string{"site": "Fennimore", "row": "B"}}
	for _, c := range []struct {
		change bulk.Change
		next   map[string]string
		status devices.Status
		was    string
	}{
		{bulk.Change{Labels: map[string]string{"row": "C"}}, map[string]string{"site": "Fennimore", "row": "C"}, devices.Active, "map[row:B]"},
		{bulk.Change{Labels: map[string]string{"row": "", "stage": "x"}}, map[string]string{"site": "Fennimore", "stage": "x"}, devices.Active, "map[row:B stage:]"},
		{bulk.Change{Labels: map[string]string{"row": "B", "gone": ""}}, d.Labels, devices.Active, "map[]"},
		{bulk.Change{Status: devices.Suspended}, d.Labels, devices.Suspended, "map[]active"},
		{bulk.Change{Status: devices.Active}, d.Labels, devices.Active, "map[]"},
	} {
		next, was, other := c.change.Of(d)
		if !maps.Equal(next.Labels, c.next) || next.Status != c.status || fmt.Sprint(was.Labels)+string(was.Status) != c.was || other != (c.was != "map[]") {
			t.Errorf("%+v gives %v %s, before %v", c.change, next.Labels, next.Status, was)
		}
	}
	if d.Labels["row"] != "B" {
		t.Error("the device itself was changed")
	}
	for _, s := range []devices.Status{devices.Retired, devices.Expected} {
		if _, _, other := (bulk.Change{Status: devices.Active}).Of(devices.Device{Status: s}); other {
			t.Errorf("%s would be active", s)
		}
	}
}

func TestChangeAndUndo(t *testing.T) {
	r := rig.New(t)
	ids := tanks(r, 250) // three parts
	before := labelsOf(r, ids[7])
	ch := bulk.Change{Labels: map[string]string{"stage": "resting", "row": "A"}, Status: devices.Suspended}
	j, err := r.Fleet.BeginChange(t.Context(), engineer, ids, ch, false)
	r.Must(err)
	if done := over(r, j.ID); done.Done != 250 || done.Failed != 0 {
		t.Errorf("done is %d, failed %d", done.Done, done.Failed)
	}
	if got := labelsOf(r, ids[7]); got != "map[row:A site:Fennimore stage:resting]" {
		t.Errorf("the labels are %s", got)
	}
	if _, err := r.Fleet.PlanChange(engineer, ids, "", ch); err != nil {
		t.Fatal(err)
	}
	if again, err := r.Fleet.BeginChange(t.Context(), engineer, ids, ch, false); fault.From(err) == nil || fault.From(err).Code != fault.Conflict {
		t.Errorf("to change them once more gives %+v, %v", again, err)
	}
	// One was changed by hand since, and keeps that.
	_, err = r.Devices.Label(t.Context(), ids[3], map[string]string{"stage": "empty"}, "mara")
	r.Must(err)
	_, err = r.Devices.SetStatus(t.Context(), ids[4], devices.Retired, "mara")
	r.Must(err)
	u, err := r.Fleet.UndoChange(t.Context(), engineer, j.ID)
	r.Must(err)
	over(r, u.ID)
	if got := labelsOf(r, ids[7]); got != before {
		t.Errorf("undone the labels are %s, want %s", got, before)
	}
	if d, _ := r.Devices.Get(ids[7]); d.Status != devices.Expected {
		t.Errorf("undone the status is %s", d.Status)
	}
	if got := labelsOf(r, ids[3]); !strings.Contains(got, "stage:empty") {
		t.Errorf("what was changed by hand since is %s", got)
	}
	if d, _ := r.Devices.Get(ids[4]); d.Status != devices.Retired {
		t.Errorf("who was retired is %s", d.Status)
	}
	for id, says := range map[string]string{j.ID: "undone already", u.ID: "took another one back", "nope": "no change of devices"} {
		if _, err := r.Fleet.UndoChange(t.Context(), engineer, id); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("to undo %s gives %v, want %q", id, err, says)
		}
	}
	told := strings.Join(r.Journal(fact.DevicesChanged), "\n")
	if !strings.Contains(told, "set the label row=A, set the label stage=resting, set the status suspended of 250 devices") || !strings.Contains(told, "undid this") {
		t.Errorf("the journal says\n%s", told)
	}
}

// What was decided is done, also where the service is stopped in the middle of it.
func TestAcrossACrash(t *testing.T) {
	r := rig.New(t)
	ids := tanks(r, 400)
	j, err := r.Fleet.BeginChange(t.Context(), engineer, ids, bulk.Change{Labels: map[string]string{"stage": "resting"}}, false)
	r.Must(err)
	r.Restart(false)
	done := over(r, j.ID)
	n := 0
	for _, id := range ids {
		if strings.Contains(labelsOf(r, id), "stage:resting") {
			n++
		}
	}
	if n != 400 || done.Done != 400 || len(r.Journal(fact.DevicesChanged)) != 1 {
		t.Errorf("%d devices are changed, %d done; told %d times", n, done.Done, len(r.Journal(fact.DevicesChanged)))
	}
	u, err := r.Fleet.UndoChange(t.Context(), engineer, j.ID)
	r.Must(err)
	r.Restart(false)
	over(r, u.ID)
	if got := labelsOf(r, ids[399]); strings.Contains(got, "stage") {
		t.Errorf("undone across a crash the labels are %s", got)
	}
}

func TestWhatIsWrong(t *testing.T) {
	r := rig.New(t)
	ids := tanks(r, 3)
	for _, c := range []struct {
		ids    []string
		where  string
		change bulk.Change
		says   string
	}{
		{ids, "", bulk.Change{}, "nothing would change"},
		{ids, "", bulk.Change{Labels: map[string]string{"Row": "B"}}, `"Row" is no label name`},
		{ids, "", bulk.Change{Status: "asleep"}, `"asleep" is no status`},
		{append(ids, "tank-nowhere"), "", bulk.Change{Status: devices.Suspended}, `no device "tank-nowhere"`},
		{nil, "label.site = 3", bulk.Change{Status: devices.Suspended}, ""},
	} {
		if _, err := r.Fleet.PlanChange(engineer, c.ids, c.where, c.change); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%+v gives %v, want %q", c.change, err, c.says)
		}
	}
	got, err := r.Fleet.PlanChange(engineer, nil, `label.row == "A"`, bulk.Change{Labels: map[string]string{"row": "C"}})
	if err != nil || fmt.Sprint(got) != "[tank-fennimore-000 tank-fennimore-002]" {
		t.Errorf("a condition chooses %v, %v", got, err)
	}
}

// Nobody changes devices that they do not have, nor gives away those that they have.
func TestAccess(t *testing.T) {
	r := rig.New(t)
	ids := tanks(r, 2)
	r.Onboard("tank-kilnside-01", "tank-probe", map[string]string{"site": "Kilnside"})
	_, err := r.People.Put(t.Context(), person.Person{Name: "cellar-master", Grants: person.Grants{{Role: person.Engineer, Access: `label.site == "Fennimore"`}}}, noun.If{}, "engineer")
	r.Must(err)
	r.Settle()
	master := r.Access.Caller("cellar-master", "")
	if _, err := r.Fleet.BeginChange(t.Context(), master, []string{"tank-kilnside-01"}, bulk.Change{Status: devices.Suspended}, false); fault.From(err).Code != fault.NotFound {
		t.Errorf("another's device: %v", err)
	}
	if _, err := r.Fleet.BeginChange(t.Context(), master, ids, bulk.Change{Labels: map[string]string{"site": "Kilnside"}}, false); fault.From(err).Code != fault.NotAllowed {
		t.Errorf("given away: %v", err)
	}
	j, err := r.Fleet.BeginChange(t.Context(), engineer, ids, bulk.Change{Labels: map[string]string{"stage": "resting"}}, false)
	r.Must(err)
	over(r, j.ID)
	if js := r.Fleet.Changes(master); len(js) != 0 {
		t.Errorf("somebody sees another's changes: %+v", js)
	}
	if _, err := r.Fleet.UndoChange(t.Context(), master, j.ID); fault.From(err).Code != fault.NotFound {
		t.Errorf("undone by another: %v", err)
	}
	own, err := r.Fleet.BeginChange(t.Context(), master, ids, bulk.Change{Labels: map[string]string{"stage": "empty"}}, false)
	r.Must(err)
	over(r, own.ID)
	if _, err := r.Fleet.UndoChange(t.Context(), master, own.ID); err != nil {
		t.Errorf("one's own: %v", err)
	}
}
