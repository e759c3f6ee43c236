package store

import (
	"context"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/go-gormigrate/gormigrate/v2"
	"gorm.io/gorm"

	"ullage/fleet/fault"
)

type lidRow struct {
	ID   string `gorm:"primaryKey"`
	Size int
}

func (lidRow) TableName() string { return "lids" }

var firstStep = []*gormigrate.Migration{{ID: "1", Migrate: func(tx *gorm.DB) error {
	return tx.Exec("CREATE TABLE lids (id TEXT PRIMARY KEY)").Error
}}}

// TestNewerFolderIsRefused opens a file with an older list of steps than it was
// written with.
func TestNewerFolderIsRefused(t *testing.T) {
	dir := t.TempDir()
	s, err := Open(dir, Options{})
	if err != nil {
		t.Fatal(err)
	}
	s.Close()
	for _, name := range []string{"records.db", "telemetry.db"} {
		path := filepath.Join(dir, name)
		db, err := connect(path, nil, 1)
		if err != nil {
			t.Fatal(err)
		}
		if err := db.Exec("INSERT INTO migrations (id) VALUES ('99')").Error; err != nil {
			t.Fatal(err)
		}
		database{write: db}.close()
		before, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		if s, err := Open(dir, Options{}); !fault.Is(err, fault.Conflict) || !strings.Contains(err.Error(), name) ||
			!strings.Contains(err.Error(), "another version") {
			t.Errorf("%s of a newer version gives %v, %v", name, s, err)
		}
		if after, err := os.ReadFile(path); err != nil || !slices.Equal(before, after) {
			t.Errorf("%s was changed, %v", name, err)
		}
		db, err = connect(path, nil, 1)
		if err != nil {
			t.Fatal(err)
		}
		db.Exec("DELETE FROM migrations WHERE id = '99'")
		database{write: db}.close()
	}
	if s, err = Open(dir, Options{}); err != nil {
		t.Fatalf("as it was before it gives %v", err)
	}
	s.Close()
}

// TestCopyBeforeMigration takes a second step: a copy of the file before it is
// made and can be opened; a step that fails leaves the file as it was.
func TestCopyBeforeMigration(t *testing.T) {
	path := filepath.Join(t.TempDir(), "lids.db")
	db, err := openDatabase(path, nil, firstStep)
	if err != nil {
		t.Fatal(err)
	}
	if err := db.write.Exec("INSERT INTO lids VALUES ('a'), ('b')").Error; err != nil {
		t.Fatal(err)
	}
	db.close()
	second := append(slices.Clone(firstStep), &gormigrate.Migration{ID: "2", Migrate: func(tx *gorm.DB) error {
		return tx.AutoMigrate(&lidRow{})
	}})
	broken := append(slices.Clone(firstStep), &gormigrate.Migration{ID: "2", Migrate: func(tx *gorm.DB) error {
		tx.Exec("DELETE FROM lids")
		return tx.Exec("ALTER TABLE nothing ADD COLUMN size INT").Error
	}})
	if _, err := openDatabase(path, nil, broken); err == nil {
		t.Error("a step that fails is not told of")
	}
	count := func(path string, steps []*gormigrate.Migration) (n int64, columns int) {
		t.Helper()
		db, err := openDatabase(path, nil, steps)
		if err != nil {
			t.Fatal(err)
		}
		defer db.close()
		if err := db.read.Table("lids").Count(&n).Error; err != nil {
			t.Fatal(err)
		}
		all, err := db.read.Migrator().ColumnTypes("lids")
		if err != nil {
			t.Fatal(err)
		}
		return n, len(all)
	}
	if n, columns := count(path, firstStep); n != 2 || columns != 1 {
		t.Errorf("after a failed step there are %d rows of %d columns", n, columns)
	}
	if n, columns := count(path, second); n != 2 || columns != 2 {
		t.Errorf("brought up to date it has %d rows of %d columns", n, columns)
	}
	if n, columns := count(path+".before-1", firstStep); n != 2 || columns != 1 {
		t.Errorf("the copy has %d rows of %d columns", n, columns)
	}
	var c Checked
	if err := c.file(context.Background(), path+".before-1"); err != nil || len(c.Damage) > 0 {
		t.Errorf("the copy is %+v, %v", c, err)
	}
}

// TestDevicesOfVersionTwo opens records that were written before devices had
// names and hubs.
func TestDevicesOfVersionTwo(t *testing.T) {
	dir := t.TempDir()
	s, err := Open(dir, Options{})
	if err != nil {
		t.Fatal(err)
	}
	s.Close()
	db, err := connect(filepath.Join(dir, "records.db"), nil, 1)
	if err != nil {
		t.Fatal(err)
	}
	for _, statement := range []string{"ALTER TABLE devices DROP COLUMN name", "ALTER TABLE devices DROP COLUMN hub",
		"DROP TABLE sites", "DROP TABLE site_plans", "DELETE FROM migrations WHERE id = '3'",
		`INSERT INTO devices (id, model, version, labels, status, joined_at, attributes) VALUES ('tank-fennimore-07', 'tank-probe', '1.2.0', '{"site":"Fennimore"}', 'active', 1, '{}')`} {
		if err := db.Exec(statement).Error; err != nil {
			t.Fatalf("%s: %v", statement, err)
		}
	}
	database{write: db}.close()
	if s, err = Open(dir, Options{}); err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	ds, err := s.Records.Devices(context.Background())
	if err != nil || len(ds) != 1 || ds[0].Name != "" || ds[0].Hub != "" || ds[0].Labels["site"] != "Fennimore" {
		t.Errorf("the devices are %+v, %v", ds, err)
	}
	if sites, err := s.Records.Sites(context.Background()); err != nil || len(sites) != 0 {
		t.Errorf("the sites are %v, %v", sites, err)
	}
}

// TestCredentialsOfVersionSix opens records that were written before devices joined by
// themselves, and before it was told when credentials end.
func TestCredentialsOfVersionSix(t *testing.T) {
	dir := t.TempDir()
	s, err := Open(dir, Options{})
	if err != nil {
		t.Fatal(err)
	}
	s.Close()
	db, err := connect(filepath.Join(dir, "records.db"), nil, 1)
	if err != nil {
		t.Fatal(err)
	}
	for _, statement := range []string{"ALTER TABLE credentials DROP COLUMN warned_at", "ALTER TABLE credentials DROP COLUMN replaces", "DROP TABLE join_keys", "DROP TABLE join_salts", "DROP TABLE join_requests",
		"DROP TABLE bulk_jobs", "DROP TABLE bulk_progress", "DROP TABLE credential_uses", "DELETE FROM migrations WHERE id IN ('7', '14')",
		`INSERT INTO credentials (id, device, hash, created_at, kind, expires_at) VALUES ('crt-1', 'hub-saltmarsh', x'00', 1, 'certificate', 9)`} {
		if err := db.Exec(statement).Error; err != nil {
			t.Fatalf("%s: %v", statement, err)
		}
	}
	database{write: db}.close()
	if s, err = Open(dir, Options{}); err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	ctx := context.Background()
	cs, err := s.Records.Credentials(ctx)
	if err != nil || len(cs) != 1 || !cs[0].WarnedAt.IsZero() || cs[0].Replaces != "" || cs[0].ExpiresAt.UnixMilli() != 9 {
		t.Errorf("the credentials are %+v, %v", cs, err)
	}
	keys, err := s.Records.JoinKeys(ctx)
	jobs, e := s.Records.BulkJobs(ctx)
	uses, e2 := s.Records.CredentialUses(ctx)
	if err != nil || e != nil || e2 != nil || len(keys)+len(jobs)+len(uses) != 0 {
		t.Errorf("there are %v, %v and %v; %v %v %v", keys, jobs, uses, err, e, e2)
	}
}

// TestDetectionsOfVersionTwelve opens records in which each rule on each device had a row of its own.
func TestDetectionsOfVersionTwelve(t *testing.T) {
	dir := t.TempDir()
	s, err := Open(dir, Options{})
	if err != nil {
		t.Fatal(err)
	}
	s.Close()
	db, err := connect(filepath.Join(dir, "records.db"), nil, 1)
	if err != nil {
		t.Fatal(err)
	}
	for _, statement := range []string{"DROP TABLE detection_states", "DELETE FROM migrations WHERE id = '13'",
		"CREATE TABLE detections (rule text, device text, detector text, PRIMARY KEY (rule, device)) WITHOUT ROWID",
		`INSERT INTO detections VALUES ('must_too_warm', 'tank-fennimore-07', '{"up":true,"seen":"2026-11-01T10:00:00Z"}'),
			('air_silent', 'tank-fennimore-07', '{"up":false}'), ('cellar_silent', 'site=Kilnside', '{"up":true}')`} {
		if err := db.Exec(statement).Error; err != nil {
			t.Fatalf("%s: %v", statement, err)
		}
	}
	database{write: db}.close()
	for range 2 { // the second finds nothing to carry over
		if s, err = Open(dir, Options{}); err != nil {
			t.Fatal(err)
		}
		ds, err := s.Records.Detections(context.Background())
		up := map[string]bool{}
		for _, d := range ds {
			for _, st := range d.States {
				for _, r := range st.Rules {
					up[d.Subject+": "+r] = st.State.Up
				}
			}
		}
		want := map[string]bool{"tank-fennimore-07: must_too_warm": true, "tank-fennimore-07: air_silent": false, "cellar_silent site=Kilnside: cellar_silent": true}
		if err != nil || len(ds) != 2 || !maps.Equal(up, want) {
			t.Errorf("the detections are %v, %v", ds, err)
		}
		s.Close()
	}
}
