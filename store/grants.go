package store

import (
	"context"
	"encoding/json"

	"gorm.io/gorm"

	"ullage/core/person"
	"ullage/fleet/people"
)

type teamRow struct {
	Name string `gorm:"primaryKey"`
	Team []byte
}

func (teamRow) TableName() string { return "teams" }

var teamKind = &kind[person.Team, string, teamRow]{
	key: func(x person.Team) string { return x.Name },
	row: func(x person.Team) (teamRow, error) {
		b, err := json.Marshal(x)
		return teamRow{Name: x.Name, Team: b}, err
	},
	record: func(x teamRow) (t person.Team, err error) { return t, json.Unmarshal(x.Team, &t) },
	drop: func(tx *gorm.DB, x person.Team) error {
		return tx.Where("name = ?", x.Name).Delete(&teamRow{}).Error
	},
}

// Teams implements people.Records.
func (r *Records) Teams(ctx context.Context) ([]person.Team, error) { return stored(ctx, r, teamKind) }

type keyRow struct {
	Name string `gorm:"primaryKey"`
	Key  []byte
}

func (keyRow) TableName() string { return "keys" }

var keyKind = &kind[person.Key, string, keyRow]{
	key: func(x person.Key) string { return x.Name },
	row: func(x person.Key) (keyRow, error) {
		b, err := json.Marshal(x)
		return keyRow{Name: x.Name, Key: b}, err
	},
	record: func(x keyRow) (k person.Key, err error) { return k, json.Unmarshal(x.Key, &k) },
	drop: func(tx *gorm.DB, x person.Key) error {
		return tx.Where("name = ?", x.Name).Delete(&keyRow{}).Error
	},
}

// Keys implements people.Records.
func (r *Records) Keys(ctx context.Context) ([]person.Key, error) { return stored(ctx, r, keyKind) }

// keySecretRow stands apart from the key: nothing that shows keys reads it.
type keySecretRow struct {
	Hash []byte `gorm:"primaryKey"`
	Key  string
}

func (keySecretRow) TableName() string { return "key_secrets" }

var keySecretKind = &kind[people.KeySecret, [32]byte, keySecretRow]{
	key: func(x people.KeySecret) [32]byte { return x.Hash },
	row: sure(func(x people.KeySecret) keySecretRow { return keySecretRow{Hash: x.Hash[:], Key: x.Key} }),
	record: sure(func(x keySecretRow) people.KeySecret {
		s := people.KeySecret{Key: x.Key}
		copy(s.Hash[:], x.Hash)
		return s
	}),
	drop: func(tx *gorm.DB, x people.KeySecret) error {
		return tx.Where("hash = ?", x.Hash[:]).Delete(&keySecretRow{}).Error
	},
}

// KeySecrets implements people.Records.
func (r *Records) KeySecrets(ctx context.Context) ([]people.KeySecret, error) {
	return stored(ctx, r, keySecretKind)
}

type keyUseRow struct {
	Key     string `gorm:"primaryKey"`
	At      int64  `gorm:"autoCreateTime:false"`
	Address string
}

func (keyUseRow) TableName() string { return "key_uses" }

var keyUseKind = &kind[people.KeyUse, string, keyUseRow]{
	key:    func(x people.KeyUse) string { return x.Key },
	row:    sure(func(x people.KeyUse) keyUseRow { return keyUseRow{x.Key, ms(x.At), x.From} }),
	record: sure(func(x keyUseRow) people.KeyUse { return people.KeyUse{Key: x.Key, At: at(x.At), From: x.Address} }),
	drop: func(tx *gorm.DB, x people.KeyUse) error {
		return tx.Where("key = ?", x.Key).Delete(&keyUseRow{}).Error
	},
}

// KeyUses implements people.Records.
func (r *Records) KeyUses(ctx context.Context) ([]people.KeyUse, error) {
	return stored(ctx, r, keyUseKind)
}

type factorRow struct {
	Person   string `gorm:"primaryKey"`
	Secret   string
	Recovery []byte // hashes, one behind the other
	Step     int64
}

func (factorRow) TableName() string { return "factors" }

var factorKind = &kind[people.Factor, string, factorRow]{
	key: func(x people.Factor) string { return x.Person },
	row: sure(func(x people.Factor) factorRow {
		out := factorRow{Person: x.Person, Secret: x.Secret, Step: x.Step}
		for _, h := range x.Recovery {
			out.Recovery = append(out.Recovery, h[:]...)
		}
		return out
	}),
	record: sure(func(x factorRow) people.Factor {
		out := people.Factor{Person: x.Person, Secret: x.Secret, Step: x.Step}
		for b := x.Recovery; len(b) >= 32; b = b[32:] {
			out.Recovery = append(out.Recovery, [32]byte(b[:32]))
		}
		return out
	}),
	drop: func(tx *gorm.DB, x people.Factor) error {
		return tx.Where("person = ?", x.Person).Delete(&factorRow{}).Error
	},
}

// Factors implements people.Records.
func (r *Records) Factors(ctx context.Context) ([]people.Factor, error) {
	return stored(ctx, r, factorKind)
}

// grantPeople brings a store to the shape in which people have grants, and facts and
// sessions the address that they came from.
func grantPeople(tx *gorm.DB) error {
	if err := tx.AutoMigrate(&teamRow{}, &keyRow{}, &keySecretRow{}, &keyUseRow{}, &factorRow{}); err != nil {
		return err
	}
	for _, x := range []any{&factRow{}, &sessionRow{}} {
		if !tx.Migrator().HasColumn(x, "Address") {
			if err := tx.Migrator().AddColumn(x, "Address"); err != nil {
				return err
			}
		}
	}
	return tx.Exec(`UPDATE people SET person = CAST(json_set(json_remove(CAST(person AS TEXT), '$.role'), '$.grants',
		json_array(json_object('role', json_extract(CAST(person AS TEXT), '$.role')))) AS BLOB)
		WHERE json_extract(CAST(person AS TEXT), '$.role') IS NOT NULL`).Error
}
