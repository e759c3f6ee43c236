package store

import (
	"context"
	"encoding/json"

	"gorm.io/gorm"

	"ullage/core/person"
	"ullage/fleet/people"
)

type personRow struct {
	Name   string `gorm:"primaryKey"`
	Person []byte
}

func (personRow) TableName() string { return "people" }

var personKind = &kind[person.Person, string, personRow]{
	key: func(x person.Person) string { return x.Name },
	row: func(x person.Person) (personRow, error) {
		b, err := json.Marshal(x)
		return personRow{Name: x.Name, Person: b}, err
	},
	record: func(x personRow) (p person.Person, err error) { return p, json.Unmarshal(x.Person, &p) },
	drop: func(tx *gorm.DB, x person.Person) error {
		return tx.Where("name = ?", x.Name).Delete(&personRow{}).Error
	},
}

// People implements people.Records.
func (r *Records) People(ctx context.Context) ([]person.Person, error) {
	return stored(ctx, r, personKind)
}

// passwordRow stands apart from the person: nothing that shows people reads it.
type passwordRow struct {
	Person string `gorm:"primaryKey"`
	Salt   []byte
	Hash   []byte
}

func (passwordRow) TableName() string { return "passwords" }

var passwordKind = &kind[people.Password, string, passwordRow]{
	key:    func(x people.Password) string { return x.Person },
	row:    sure(func(x people.Password) passwordRow { return passwordRow(x) }),
	record: sure(func(x passwordRow) people.Password { return people.Password(x) }),
	drop: func(tx *gorm.DB, x people.Password) error {
		return tx.Where("person = ?", x.Person).Delete(&passwordRow{}).Error
	},
}

// Passwords implements people.Records.
func (r *Records) Passwords(ctx context.Context) ([]people.Password, error) {
	return stored(ctx, r, passwordKind)
}

type invitationRow struct {
	Hash      []byte `gorm:"primaryKey"`
	Person    string
	ExpiresAt int64
}

func (invitationRow) TableName() string { return "invitations" }

var invitationKind = &kind[people.Invitation, [32]byte, invitationRow]{
	key: func(x people.Invitation) [32]byte { return x.Hash },
	row: sure(func(x people.Invitation) invitationRow {
		return invitationRow{Hash: x.Hash[:], Person: x.Person, ExpiresAt: ms(x.ExpiresAt)}
	}),
	record: sure(func(x invitationRow) people.Invitation {
		i := people.Invitation{Person: x.Person, ExpiresAt: at(x.ExpiresAt)}
		copy(i.Hash[:], x.Hash)
		return i
	}),
	drop: func(tx *gorm.DB, x people.Invitation) error {
		return tx.Where("hash = ?", x.Hash[:]).Delete(&invitationRow{}).Error
	},
}

// Invitations implements people.Records.
func (r *Records) Invitations(ctx context.Context) ([]people.Invitation, error) {
	return stored(ctx, r, invitationKind)
}

// ownPeople brings a store to the shape in which passwords stand apart from people,
// who all were owners before.
func ownPeople(tx *gorm.DB) error {
	if err := tx.AutoMigrate(&invitationRow{}, &passwordRow{}); err != nil {
		return err
	}
	if !tx.Migrator().HasColumn("people", "salt") {
		return nil
	}
	for _, q := range []string{"INSERT INTO passwords (person, salt, hash) SELECT name, salt, hash FROM people",
		"ALTER TABLE people ADD COLUMN person BLOB",
		`UPDATE people SET person = CAST(json_object('person', name, 'role', 'owner',
			'joined_at', strftime('%Y-%m-%dT%H:%M:%SZ', created_at / 1000, 'unixepoch')) AS BLOB)`,
		"ALTER TABLE people DROP COLUMN salt", "ALTER TABLE people DROP COLUMN hash", "ALTER TABLE people DROP COLUMN created_at"} {
		if err := tx.Exec(q).Error; err != nil {
			return err
		}
	}
	return nil
}

type sessionRow struct {
	Hash      []byte `gorm:"primaryKey"`
	Person    string
	Label     string
	CreatedAt int64 `gorm:"autoCreateTime:false"`
	ExpiresAt int64
	Address   string `gorm:"not null;default:''"`
}

func (sessionRow) TableName() string { return "sessions" }

var sessionKind = &kind[people.Session, [32]byte, sessionRow]{
	key: func(x people.Session) [32]byte { return x.Hash },
	row: sure(func(x people.Session) sessionRow {
		return sessionRow{Hash: x.Hash[:], Person: x.Person, Label: x.Label, CreatedAt: ms(x.CreatedAt),
			ExpiresAt: ms(x.ExpiresAt), Address: x.From}
	}),
	record: sure(func(x sessionRow) people.Session {
		s := people.Session{From: x.Address, Person: x.Person, Label: x.Label, CreatedAt: at(x.CreatedAt), ExpiresAt: at(x.ExpiresAt)}
		copy(s.Hash[:], x.Hash)
		return s
	}),
	drop: func(tx *gorm.DB, x people.Session) error {
		return tx.Where("hash = ?", x.Hash[:]).Delete(&sessionRow{}).Error
	},
}

// Sessions implements people.Records.
func (r *Records) Sessions(ctx context.Context) ([]people.Session, error) {
	return stored(ctx, r, sessionKind)
}
