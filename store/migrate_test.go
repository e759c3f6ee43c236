package store_test

import (
	"database/sql"
	"path/filepath"
	"testing"

	_ "modernc.org/sqlite"

	"ullage/store"
)

// A service that kept one version of each model goes on with it: the version is
// kept among others to come, and every device has it.
func TestModelsBecomeVersions(t *testing.T) {
	dir := t.TempDir()
	s, err := store.Open(dir, store.Options{})
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	files, err := filepath.Glob(filepath.Join(dir, "*.db"))
	if err != nil {
		t.Fatal(err)
	}
	changed := false
	for _, f := range files {
		db, err := sql.Open("sqlite", f)
		if err != nil {
			t.Fatal(err)
		}
		var n int
		if err := db.QueryRow(`SELECT count(*) FROM sqlite_master WHERE name = 'model_versions'`).Scan(&n); err != nil || n == 0 {
			db.Close()
			continue
		}
		changed = true
		// The shape before, with a model, one of its devices, and one of a model
		// that is gone.
		for _, q := range []string{
			`DROP TABLE model_versions`,
			`CREATE TABLE models (name text PRIMARY KEY, version text, source blob, loaded_at integer)`,
			`INSERT INTO models VALUES ('lid', '1.4.0', '{"title":"Lid"}', 1772359200000)`,
			`ALTER TABLE devices DROP COLUMN version`,
			`INSERT INTO devices (id, model, labels, standing, joined_at, attributes) VALUES ('lid-1', 'lid', '{}', 'active', 0, '{}'), ('cap-1', 'cap', '{}', 'active', 0, '{}')`,
			`DELETE FROM migrations WHERE id = '2'`,
		} {
			if _, err := db.Exec(q); err != nil {
				t.Fatalf("%s: %v", q, err)
			}
		}
		db.Close()
	}
	if !changed {
		t.Fatal("no database holds models")
	}
	for range 2 { // and once more, when nothing is left to do
		if s, err = store.Open(dir, store.Options{}); err != nil {
			t.Fatal(err)
		}
		ms, err := s.Records.Models()
		if err != nil || len(ms) != 1 || ms[0].Name != "lid" || ms[0].Version != "1.4.0" || string(ms[0].Source) != `{"title":"Lid"}` {
			t.Errorf("the models are %+v, %v", ms, err)
		}
		ds, err := s.Records.Devices()
		if err != nil || len(ds) != 2 {
			t.Fatalf("the devices are %+v, %v", ds, err)
		}
		for _, d := range ds {
			if want := map[string]string{"lid-1": "1.4.0", "cap-1": ""}[d.ID]; d.Version != want {
				t.Errorf("%s has version %q, want %q", d.ID, d.Version, want)
			}
		}
		if err := s.Close(); err != nil {
			t.Fatal(err)
		}
	}
}
