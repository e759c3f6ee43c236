package store

import (
	"context"
	"encoding/json"

	"gorm.io/gorm"

	"ullage/core/join"
	"ullage/fleet/joining"
)

type joinKeyRow struct {
	Name string `gorm:"primaryKey"`
	Key  []byte
}

func (joinKeyRow) TableName() string { return "join_keys" }

var joinKeyKind = &kind[join.Key, string, joinKeyRow]{
	key: func(x join.Key) string { return x.Name },
	row: func(x join.Key) (joinKeyRow, error) {
		b, err := json.Marshal(x)
		return joinKeyRow{Name: x.Name, Key: b}, err
	},
	record: func(x joinKeyRow) (k join.Key, err error) { return k, json.Unmarshal(x.Key, &k) },
	drop: func(tx *gorm.DB, x join.Key) error {
		return tx.Where("name = ?", x.Name).Delete(&joinKeyRow{}).Error
	},
}

// JoinKeys implements joining.Records.
func (r *Records) JoinKeys(ctx context.Context) ([]join.Key, error) {
	return stored(ctx, r, joinKeyKind)
}

// joinSaltRow stands apart from the key: nothing that shows keys reads it.
type joinSaltRow struct {
	Key  string `gorm:"primaryKey"`
	Salt []byte
}

func (joinSaltRow) TableName() string { return "join_salts" }

var joinSaltKind = &kind[joining.Salt, string, joinSaltRow]{
	key:    func(x joining.Salt) string { return x.Key },
	row:    sure(func(x joining.Salt) joinSaltRow { return joinSaltRow(x) }),
	record: sure(func(x joinSaltRow) joining.Salt { return joining.Salt(x) }),
	drop: func(tx *gorm.DB, x joining.Salt) error {
		return tx.Where("key = ?", x.Key).Delete(&joinSaltRow{}).Error
	},
}

// JoinSalts implements joining.Records.
func (r *Records) JoinSalts(ctx context.Context) ([]joining.Salt, error) {
	return stored(ctx, r, joinSaltKind)
}

type joinRecordRow struct {
	Key      string `gorm:"primaryKey"`
	Serial   string `gorm:"primaryKey"`
	Request  []byte
	Attempt  []byte
	Used     []byte
	JoinedAt int64
}

func (joinRecordRow) TableName() string { return "join_requests" }

var joinRecordKind = &kind[joining.Record, [2]string, joinRecordRow]{
	key: func(x joining.Record) [2]string { return [2]string{x.Request.Key, x.Request.Serial} },
	row: func(x joining.Record) (joinRecordRow, error) {
		b, err := json.Marshal(x.Request)
		return joinRecordRow{x.Request.Key, x.Request.Serial, b, x.Attempt[:], x.Used[:], ms(x.JoinedAt)}, err
	},
	record: func(x joinRecordRow) (joining.Record, error) {
		out := joining.Record{JoinedAt: at(x.JoinedAt)}
		copy(out.Attempt[:], x.Attempt)
		copy(out.Used[:], x.Used)
		return out, json.Unmarshal(x.Request, &out.Request)
	},
	drop: func(tx *gorm.DB, x joining.Record) error {
		return tx.Where("key = ? AND serial = ?", x.Request.Key, x.Request.Serial).Delete(&joinRecordRow{}).Error
	},
}

// JoinRecords implements joining.Records.
func (r *Records) JoinRecords(ctx context.Context) ([]joining.Record, error) {
	return stored(ctx, r, joinRecordKind)
}
