package store

import (
	"context"

	"gorm.io/gorm"

	"ullage/fleet/people"
)

type personRow struct {
	Name      string `gorm:"primaryKey"`
	Salt      []byte
	Hash      []byte
	CreatedAt int64 `gorm:"autoCreateTime:false"`
}

func (personRow) TableName() string { return "people" }

var personKind = &kind[people.Person, string, personRow]{
	key: func(x people.Person) string { return x.Name },
	row: sure(func(x people.Person) personRow {
		return personRow{Name: x.Name, Salt: x.Salt, Hash: x.Hash, CreatedAt: ms(x.CreatedAt)}
	}),
	record: sure(func(x personRow) people.Person {
		return people.Person{Name: x.Name, Salt: x.Salt, Hash: x.Hash, CreatedAt: at(x.CreatedAt)}
	}),
}

// People implements people.Records.
func (r *Records) People(ctx context.Context) ([]people.Person, error) {
	return stored(ctx, r, personKind)
}

type sessionRow struct {
	Hash      []byte `gorm:"primaryKey"`
	Person    string
	Label     string
	CreatedAt int64 `gorm:"autoCreateTime:false"`
	ExpiresAt int64
}

func (sessionRow) TableName() string { return "sessions" }

var sessionKind = &kind[people.Session, [32]byte, sessionRow]{
	key: func(x people.Session) [32]byte { return x.Hash },
	row: sure(func(x people.Session) sessionRow {
		return sessionRow{Hash: x.Hash[:], Person: x.Person, Label: x.Label, CreatedAt: ms(x.CreatedAt),
			ExpiresAt: ms(x.ExpiresAt)}
	}),
	record: sure(func(x sessionRow) people.Session {
		s := people.Session{Person: x.Person, Label: x.Label, CreatedAt: at(x.CreatedAt), ExpiresAt: at(x.ExpiresAt)}
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
