package store

import (
	"testing"

	"ullage/core/person"
)

// TestPeopleOfBefore opens a file in which passwords stood with people, who all
// could do everything.
func TestPeopleOfBefore(t *testing.T) {
	dir := t.TempDir()
	s, err := Open(dir, Options{})
	if err != nil {
		t.Fatal(err)
	}
	for _, q := range []string{"DROP TABLE people", "DROP TABLE passwords", "DROP TABLE invitations",
		"CREATE TABLE people (name TEXT PRIMARY KEY, salt BLOB, hash BLOB, created_at INTEGER)",
		"INSERT INTO people VALUES ('engineer', x'0102', x'0304', 1773057600000)",
		"DROP TABLE teams", "DROP TABLE keys", "ALTER TABLE facts DROP COLUMN address",
		"DELETE FROM migrations WHERE id IN ('4', '5')"} {
		if err := s.Records.db.write.Exec(q).Error; err != nil {
			t.Fatalf("%s: %v", q, err)
		}
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	for range 2 { // the second time nothing is left to do
		if s, err = Open(dir, Options{}); err != nil {
			t.Fatal(err)
		}
		everybody, err := s.Records.People(t.Context())
		if err != nil || len(everybody) != 1 || everybody[0].Name != "engineer" || person.Most(everybody[0].Grants) != person.Owner ||
			everybody[0].JoinedAt.UTC().Format("2006-01-02 15:04") != "2026-03-09 12:00" {
			t.Errorf("people are %+v, %v", everybody, err)
		}
		passwords, err := s.Records.Passwords(t.Context())
		if err != nil || len(passwords) != 1 || passwords[0].Person != "engineer" || string(passwords[0].Salt) != "\x01\x02" ||
			string(passwords[0].Hash) != "\x03\x04" {
			t.Errorf("passwords are %+v, %v", passwords, err)
		}
		if err := s.Close(); err != nil {
			t.Fatal(err)
		}
	}
}
