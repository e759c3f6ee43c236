package store

import (
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"sync"
	"time"

	"github.com/go-gormigrate/gormigrate/v2"
	"gorm.io/gorm"

	"ullage/core/value"
	"ullage/fleet/settings"
)

// Records is records.db. Its methods are the Records interfaces of the fleet
// packages; what they change comes in commits, see Commit.
type Records struct {
	db database
	// Only the writer of commits has these.
	number int64 // of the newest fact
	newest newest
	// inserts write the commits.
	inserts inserts
	early   early

	asideMu sync.Mutex
	aside   []Damage // records that cannot be read
}

// keepers keep what is in the records, a file per noun; facts and validity,
// which belong to every commit, stand in facts.go and here.
var keepers = []keeper{modelKind, deviceKind, credentialKind, credentialUseKind, settingKind, jobKind, progressKind, ruleKind, alarmKind, shelfKind, maintenanceKind, ruleVersionKind,
	detectionKind, commandKind, personKind, passwordKind, invitationKind, sessionKind, teamKind, keyKind, keySecretKind, keyUseKind, factorKind, siteKind, planKind,
	joinKeyKind, joinSaltKind, joinRecordKind, bulkJobKind, bulkProgressKind, commandJobKind, commandProgressKind, boardKind, responseKind, switchKind,
	layerKind, layerOrderKind, layerVersionKind, rolloutKind, offerKind, boardVersionKind}

// recordMigrations make the tables. A migration that adds a column or a table
// does nothing on a store that was made in the newer shape.
var recordMigrations = []*gormigrate.Migration{{
	ID: "1",
	Migrate: func(tx *gorm.DB) error {
		for _, k := range keepers {
			if err := k.migrate(tx); err != nil {
				return err
			}
		}
		if err := tx.AutoMigrate(&factRow{}, &storeRow{}); err != nil {
			return err
		}
		return tx.Set("gorm:table_options", "WITHOUT ROWID").AutoMigrate(&validityRow{})
	},
}, {
	ID:      "2",
	Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(&progressRow{}) },
}, {
	ID: "3",
	Migrate: func(tx *gorm.DB) error {
		for _, column := range []string{"Name", "Hub"} {
			if tx.Migrator().HasColumn(&deviceRow{}, column) {
				continue
			}
			if err := tx.Migrator().AddColumn(&deviceRow{}, column); err != nil {
				return err
			}
		}
		return tx.AutoMigrate(&siteRow{}, &planRow{})
	},
}, {
	ID:      "4",
	Migrate: ownPeople,
}, {
	ID:      "5",
	Migrate: grantPeople,
}, {
	ID: "6",
	Migrate: func(tx *gorm.DB) error {
		for _, column := range []string{"Kind", "Serial", "ExpiresAt"} {
			if tx.Migrator().HasColumn(&credentialRow{}, column) {
				continue
			}
			if err := tx.Migrator().AddColumn(&credentialRow{}, column); err != nil {
				return err
			}
		}
		return nil
	},
}, {
	ID: "7",
	Migrate: func(tx *gorm.DB) error {
		if !tx.Migrator().HasColumn(&credentialRow{}, "WarnedAt") {
			if err := tx.Migrator().AddColumn(&credentialRow{}, "WarnedAt"); err != nil {
				return err
			}
		}
		return tx.AutoMigrate(&joinKeyRow{}, &joinSaltRow{}, &joinRecordRow{}, &bulkJobRow{}, &bulkProgressRow{}, &credentialUseRow{})
	},
}, {
	ID: "8",
	Migrate: func(tx *gorm.DB) error {
		for _, column := range alarmColumns {
			if tx.Migrator().HasColumn(&alarmRow{}, column) {
				continue
			}
			if err := tx.Migrator().AddColumn(&alarmRow{}, column); err != nil {
				return err
			}
		}
		// What was stored before stands nowhere aside.
		for _, column := range []string{"came_up_at", "respond_by", "latches", "comments", "shelved_until"} {
			if err := tx.Exec("UPDATE alarms SET " + column + " = 0 WHERE " + column + " IS NULL").Error; err != nil {
				return err
			}
		}
		for _, column := range []string{"shelved_by", "shelved_why", "suppressed_by", "maintenance"} {
			if err := tx.Exec("UPDATE alarms SET " + column + " = '' WHERE " + column + " IS NULL").Error; err != nil {
				return err
			}
		}
		if err := tx.Exec("UPDATE alarms SET shown = state WHERE shown IS NULL OR shown = ''").Error; err != nil {
			return err
		}
		return tx.AutoMigrate(&shelfRow{}, &maintenanceRow{}, &ruleVersionRow{})
	},
}, {
	ID: "9",
	Migrate: func(tx *gorm.DB) error {
		if !tx.Migrator().HasColumn(&settingRow{}, "Kept") {
			if err := tx.Migrator().AddColumn(&settingRow{}, "Kept"); err != nil {
				return err
			}
		}
		return tx.AutoMigrate(&responseRow{}, &switchRow{}, &layerRow{}, &layerOrderRow{}, &layerVersionRow{}, &rolloutRow{}, &offerRow{})
	},
}, {
	ID: "10",
	Migrate: func(tx *gorm.DB) error {
		if !tx.Migrator().HasColumn(&commandRow{}, "Job") {
			if err := tx.Migrator().AddColumn(&commandRow{}, "Job"); err != nil {
				return err
			}
		}
		if err := tx.Exec("UPDATE commands SET job = '' WHERE job IS NULL").Error; err != nil {
			return err
		}
		if !tx.Migrator().HasIndex(&commandRow{}, "Job") {
			if err := tx.Migrator().CreateIndex(&commandRow{}, "Job"); err != nil {
				return err
			}
		}
		return tx.AutoMigrate(&commandJobRow{}, &commandProgressRow{}, &boardRow{})
	},
}, {
	ID:      "11",
	Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(&boardVersionRow{}) },
}, {
	ID: "12",
	Migrate: func(tx *gorm.DB) error {
		for _, column := range []string{"Latitude", "Longitude"} {
			if tx.Migrator().HasColumn(&deviceRow{}, column) {
				continue
			}
			if err := tx.Migrator().AddColumn(&deviceRow{}, column); err != nil {
				return err
			}
		}
		return nil
	},
}, {
	ID:      "13",
	Migrate: bySubject,
}, {
	ID: "14",
	Migrate: func(tx *gorm.DB) error {
		if tx.Migrator().HasColumn(&credentialRow{}, "Replaces") {
			return nil
		}
		return tx.Migrator().AddColumn(&credentialRow{}, "Replaces")
	},
}, {
	ID: "15",
	Migrate: func(tx *gorm.DB) error {
		if tx.Migrator().HasColumn(&credentialRow{}, "Issuer") {
			return nil
		}
		return tx.Migrator().AddColumn(&credentialRow{}, "Issuer")
	},
}}

// storeRow is about the store itself; there is one.
type storeRow struct {
	ID    int64 `gorm:"primaryKey"`
	Epoch int64 // of revisions of settings; see Records.Epoch
	Floor int64 // facts up to this number may be gone
}

func (storeRow) TableName() string { return "store" }

func openRecords(path string, o Options) (*Records, error) {
	pragmas := url.Values{}
	if o.MaxRecordBytes > 0 {
		pragmas.Add("_pragma", fmt.Sprintf("max_page_count(%d)", max(o.MaxRecordBytes/4096, 1)))
	}
	db, err := openDatabase(path, pragmas, recordMigrations)
	if err != nil {
		return nil, err
	}
	r := &Records{db: db, inserts: inserts{known: map[rowsOf]*inserting{}}}
	return r, r.resume()
}

func (r *Records) close() error {
	r.early.done.Wait()
	return r.db.close()
}

// ms and at turn times into milliseconds and back; the zero time is 0.
func ms(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.UnixMilli()
}

func at(ms int64) time.Time {
	if ms == 0 {
		return time.Time{}
	}
	return value.FromMillis(ms)
}

// listOf writes ids as one parameter, so that a list of any length is one
// prepared statement.
func listOf(ids []string) string {
	b, err := json.Marshal(ids)
	if err != nil {
		return "[]"
	}
	return string(b)
}

// Epoch returns the upper part of the revisions that are made from now on: 0 for
// a store that was never restored, else when it was, in 64ths of a second since
// 2026. Restoring the same backup twice gives two epochs, which a count kept in
// the backup could not.
func (r *Records) Epoch(ctx context.Context) (int64, error) {
	var row storeRow
	err := r.db.read.WithContext(ctx).Limit(1).Find(&row).Error
	return row.Epoch, translate(err)
}

// beginEpoch makes the store another one than that of the backup it came from.
func (r *Records) beginEpoch(ctx context.Context) error {
	old, err := r.Epoch(ctx)
	if err != nil {
		return err
	}
	now := settings.EpochAt(time.Now())
	time.Sleep(settings.EpochTick) // so that whoever restores next gets another one
	return translate(r.db.write.WithContext(ctx).Model(&storeRow{}).Where("id = 1").Update("epoch",
		max(old+1, now)).Error)
}
