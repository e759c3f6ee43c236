package app_test

import (
	"bytes"
	"context"
	"database/sql"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ullage/app"
	"ullage/core/site"
	"ullage/fleet/alarms"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
	"ullage/fleet/noun"
	"ullage/store"
	"ullage/test/rig"
)

const tank = "tank-fennimore-07"

// damaged runs statements on a file of the folder while the service is down.
func damaged(t *testing.T, dir, file string, statements ...string) {
	t.Helper()
	db, err := sql.Open("sqlite", filepath.Join(dir, file))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	for _, q := range statements {
		if _, err := db.Exec(q); err != nil {
			t.Fatalf("%s: %v", q, err)
		}
	}
}

// flip turns a bit of the data of a commit.
func flip(t *testing.T, dir string, seq int64) {
	t.Helper()
	db, err := sql.Open("sqlite", filepath.Join(dir, "telemetry.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	var b []byte
	if err := db.QueryRow("SELECT data FROM records WHERE seq = ?", seq).Scan(&b); err != nil {
		t.Fatal(err)
	}
	b[len(b)/2] ^= 4
	if _, err := db.Exec("UPDATE records SET data = ? WHERE seq = ?", b, seq); err != nil {
		t.Fatal(err)
	}
}

func open(r *rig.Rig, rule string) (out []alarms.Alarm) {
	for _, a := range r.OpenAlarms() {
		if a.Rule == rule {
			out = append(out, a)
		}
	}
	return out
}

// A commit of readings that was changed on the disk is missed: it is counted,
// with the times between which it had come, in the log, among the damage and by
// an alarm; the readings around it are there.
func TestDamagedCommitIsMissed(t *testing.T) {
	var log bytes.Buffer
	r := rig.NewWith(t, app.Options{Log: slog.New(slog.NewTextHandler(&log, nil))})
	r.Onboard(tank, "tank-probe", nil)
	for i := range 5 {
		r.Clock.Forward(time.Minute)
		at := r.Clock.Now().Format(time.RFC3339)
		r.Keep(tank, fmt.Sprintf(`{"at":%q,"must_temp":%d,"rssi":-60,"density":1050}`, at, 20+i))
	}
	was := len(r.Points(tank, "must_temp"))
	r.Crash()
	flip(t, r.Dir, 3)
	r.Reopen()
	r.Settle()
	found, err := r.Store.Damage(t.Context())
	if err != nil || len(found) != 1 || found[0].Readings != 3 {
		t.Fatalf("found is %+v, %v; want one commit of 3 readings", found, err)
	}
	want := rig.Start.Add(3 * time.Minute)
	if !found[0].Since.Equal(want) || !found[0].Until.Equal(want) {
		t.Errorf("they had come from %s to %s, want %s", found[0].Since, found[0].Until, want)
	}
	if got := len(r.Points(tank, "must_temp")); got != was-1 {
		t.Errorf("%d readings are left of %d, want 1 less", got, was)
	}
	if !strings.Contains(log.String(), "up to 3 readings") {
		t.Errorf("the log says %s, want it to count what is missing", log.String())
	}
	as := open(r, alarms.DataDamaged)
	if len(as) != 1 || !strings.Contains(as[0].Message, "up to 3 readings are missing") {
		t.Fatalf("the alarms are %+v, want one that counts", as)
	}
	// What is known stays known, also when everything else was sealed, and the
	// alarm is acknowledged once.
	if _, err := r.Alarms.Acknowledge(t.Context(), as[0].ID, "mara"); err != nil {
		t.Fatal(err)
	}
	r.Store.Seal()
	r.Restart(true)
	r.Settle()
	if as := open(r, alarms.DataDamaged); len(as) != 1 || as[0].AcknowledgedBy != "mara" {
		t.Errorf("after another start the alarms are %+v, want the same one, acknowledged", as)
	}
	// Taken out, it is over.
	r.Close()
	if c, err := store.Check(context.Background(), r.Dir, true, nil); err != nil || len(c.Damage) != 1 || c.Damage[0].Repaired == "" {
		t.Fatalf("the check says %+v, %v; want one place, repaired", c, err)
	}
	r.Reopen()
	r.Settle()
	if as, back := open(r, alarms.DataDamaged), r.Journal(fact.AlarmReturned); len(as) != 0 || len(back) != 1 {
		t.Errorf("after the repair the alarms are %+v and the journal says %q; want none, returned once", as, back)
	}
}

// The service starts without the records that cannot be read, names them, and
// refuses no reading for good because of them.
func TestDamagedRecords(t *testing.T) {
	const warm = "rule: must_warm\nmodels: [tank-probe]\nraise: must_temp > 30\npriority: high\nmessage: warm\n"
	for _, c := range []struct{ name, statement, place string }{
		{"a model", `UPDATE model_versions SET source = '{"@type":' WHERE name = 'tank-probe'`, "model tank-probe@"},
		{"a model of another kind", `UPDATE model_versions SET source = '{"title":"x"}' WHERE name = 'tank-probe'`, "model tank-probe@"},
		{"the parts of a model", `UPDATE model_versions SET parts = '[1' WHERE name = 'tank-probe'`, "model tank-probe"},
		{"a rule", `UPDATE rules SET source = 'not JSON'`, "rule must_warm"},
		{"a rule that is none", `UPDATE rules SET source = '{"rule":"must_warm","models":[]}'`, "rule must_warm"},
		{"labels", `UPDATE devices SET labels = '{"site"' WHERE id = 'bung-1'`, "device bung-1"},
		{"settings", `UPDATE settings SET intended = '[' WHERE device = '` + tank + `'`, "setting " + tank},
		{"a site", `UPDATE sites SET site = '['`, "site Kilnside"},
		{"an alarm", `UPDATE alarms SET value = '{'`, "alarm "},
	} {
		t.Run(c.name, func(t *testing.T) {
			r := rig.New(t)
			r.Onboard(tank, "tank-probe", nil)
			r.Onboard("bung-1", "cask-bung", nil)
			r.Rule(warm)
			r.Keep(tank, `{"must_temp":31}`)
			r.Must(putSite(r))
			r.Settle()
			r.Close()
			damaged(t, r.Dir, "records.db", c.statement)
			found, err := store.Check(context.Background(), r.Dir, false, nil)
			if err != nil || len(found.Damage) == 0 || !strings.HasPrefix(found.Damage[0].Place, c.place) {
				t.Fatalf("the check says %+v, %v; want %s", found, err, c.place)
			}
			r.Reopen()
			r.Settle()
			if as := open(r, alarms.DataDamaged); len(as) != 1 || !strings.Contains(as[0].Message, c.place) {
				t.Errorf("the alarms are %+v, want one about %s", as, c.place)
			}
			// Whoever sends by a model that is not there keeps its copy: no refusal for good.
			o := r.Send(tank, `{"must_temp":22}`)
			if gone := strings.Contains(c.place, "tank-probe"); gone != (o.Err != nil && o.Err.Code == fault.Internal) {
				t.Errorf("a reading meets %+v; want it kept, or our own fault", o)
			}
			if o := r.Send("bung-1", `{"headspace":12}`); c.place != "device bung-1" && o.Err != nil && o.Err.Code == fault.Internal {
				t.Errorf("another device meets %v", o.Err)
			}
			if c.place == "setting "+tank {
				st, _, err := r.Settings.Of(tank)
				if err != nil || st.Revision < 1<<16 || len(st.Intended) == 0 {
					t.Errorf("its settings are %+v, %v; want the defaults under a revision that it was never sent", st, err)
				}
				set, err := r.Settings.Set(t.Context(), tank, map[string]any{"max_temp": 29}, nil, "mara")
				if err != nil || set.Revision <= st.Revision {
					t.Errorf("set, they are of revision %d after %d, %v; want a newer one", set.Revision, st.Revision, err)
				}
			}
			if found, _ := r.Store.Damage(t.Context()); len(found) == 0 {
				t.Errorf("nothing is named, want %s", c.place)
			}
		})
	}
}

// Readings whose records are gone are no empty fleet.
func TestReadingsWithoutRecords(t *testing.T) {
	r := rig.New(t)
	r.Onboard(tank, "tank-probe", nil)
	r.Keep(tank, `{"must_temp":21}`)
	r.Close()
	gone := filepath.Join(r.Dir, "records.db")
	r.Must(os.Rename(gone, gone+".away"))
	_, err := app.New(t.Context(), app.Options{Dir: r.Dir})
	if !fault.Is(err, fault.Conflict) || !strings.Contains(err.Error(), "no records.db") {
		t.Errorf("it says %v, want that records.db is missing", err)
	}
	if _, err := os.Stat(gone); err == nil {
		t.Error("records.db was made anew, want nothing changed")
	}
	r.Must(os.Rename(gone+".away", gone))
	r.Reopen()
	if got := len(r.Points(tank, "must_temp")); got != 1 {
		t.Errorf("put back, there are %d readings, want 1", got)
	}
}

// What a killed backup left is gone with the next start, and what was open to
// others no more is.
func TestFolderIsTidied(t *testing.T) {
	r := rig.New(t)
	r.Close()
	left := filepath.Join(r.Dir, "backup-123")
	r.Must(os.Mkdir(left, 0o755))
	r.Must(os.WriteFile(filepath.Join(left, "records.db"), []byte("copy"), 0o644))
	r.Must(os.Chmod(r.Dir, 0o755))
	for _, name := range []string{"records.db", "telemetry.db", "lock"} {
		r.Must(os.Chmod(filepath.Join(r.Dir, name), 0o644))
	}
	r.Reopen()
	if _, err := os.Stat(left); !os.IsNotExist(err) {
		t.Errorf("the copy is still there: %v", err)
	}
	err := filepath.Walk(r.Dir, func(path string, i os.FileInfo, err error) error {
		if want := map[bool]os.FileMode{true: 0o700, false: 0o600}[i.IsDir()]; err == nil && i.Mode().Perm() != want {
			t.Errorf("%s is %o, want %o", i.Name(), i.Mode().Perm(), want)
		}
		return err
	})
	r.Must(err)
}

func putSite(r *rig.Rig) error {
	_, err := r.Sites.Put(context.Background(), site.Site{Name: "Kilnside", Zone: "UTC"}, noun.If{}, "tester")
	return err
}
