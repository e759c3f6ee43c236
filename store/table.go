package store

import (
	"context"
	"errors"
	"fmt"
	"reflect"
	"runtime"
	"strings"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"ullage/fleet/fault"
)

// keeper keeps the records of one type in a table: a file per noun says how.
type keeper interface {
	// of is the type of its records.
	of() reflect.Type
	// migrate makes the table in its present shape.
	migrate(tx *gorm.DB) error
	// look reads every record; what cannot be read is set aside.
	look(ctx context.Context, r *Records) error
	// begin returns an empty batch for one commit.
	begin() batch
}

// batch gathers what one commit does to one table.
type batch interface {
	put(record any) error
	// remove takes a record out; what was put before goes too.
	remove(record any) error
	write(tx *gorm.DB) error
}

// kind is the keeper of records that are rows one by one.
type kind[Record any, Key comparable, Row any] struct {
	key func(Record) Key
	row func(Record) (Row, error)
	// record turns a row back; nil where that takes more than the row.
	record func(Row) (Record, error)
	// drop deletes the row of a record, and what hangs on it; nil for records that
	// are never removed.
	drop func(*gorm.DB, Record) error
	// compact tables are little more than their key: kept in its order, they are
	// stored once instead of twice (WITHOUT ROWID).
	compact bool
}

func (k *kind[Record, Key, Row]) of() reflect.Type { return reflect.TypeFor[Record]() }

func (k *kind[Record, Key, Row]) migrate(tx *gorm.DB) error {
	if k.compact {
		tx = tx.Set("gorm:table_options", "WITHOUT ROWID")
	}
	return tx.AutoMigrate(new(Row))
}

func (k *kind[Record, Key, Row]) look(ctx context.Context, r *Records) error {
	if k.record == nil {
		return nil
	}
	_, err := stored(ctx, r, k)
	return err
}

func (k *kind[Record, Key, Row]) begin() batch { return &changes[Record, Key, Row]{kind: k} }

// sure is for rows that can be made of any record.
func sure[Record, Row any](f func(Record) Row) func(Record) (Row, error) {
	return func(x Record) (Row, error) { return f(x), nil }
}

// stored reads every record of a kind.
func stored[Record any, Key comparable, Row any](ctx context.Context, r *Records,
	k *kind[Record, Key, Row]) ([]Record, error) {
	if all, ok := came(ctx, r, k); ok {
		return all, nil
	}
	return found(r, k, r.db.read.WithContext(ctx))
}

// found reads the records that a query finds. What cannot be read is set aside:
// one bad row must not keep all the others from everybody.
func found[Record any, Key comparable, Row any](r *Records, k *kind[Record, Key, Row],
	q *gorm.DB) ([]Record, error) {
	var rows []Row
	err := translate(q.Session(&gorm.Session{}).Find(&rows).Error)
	var known *fault.Error // a damaged file, a full disk
	if err != nil && !errors.As(err, &known) && q.Statement.Context.Err() == nil {
		rows, err = one[Row](r, q)
	}
	if err != nil {
		return nil, err
	}
	out := make([]Record, 0, len(rows))
	for _, row := range rows {
		x, err := k.record(row)
		if err != nil {
			r.SetAside(noun(row), rowName(reflect.ValueOf(row)), err)
			continue
		}
		out = append(out, x)
	}
	return out, nil
}

// one reads rows one by one, of which some cannot be read.
func one[Row any](r *Records, q *gorm.DB) ([]Row, error) {
	var out []Row
	rows, err := q.Model(new(Row)).Rows()
	if err != nil {
		return nil, translate(err)
	}
	defer rows.Close()
	for rows.Next() {
		var row Row
		if err := q.ScanRows(rows, &row); err != nil {
			r.SetAside(noun(row), rowName(reflect.ValueOf(row)), err)
			continue
		}
		out = append(out, row)
	}
	return out, translate(rows.Err())
}

// noun is what a row is of, in words: deviceRow is a device.
func noun(row any) string { return strings.TrimSuffix(reflect.TypeOf(row).Name(), "Row") }

// atOnce is how many rows one statement writes. There are few sizes, so that the
// statements stay prepared whatever number of rows a commit comes to.
var atOnce = []int{16, 4, 1}

func insert[Row any](tx *gorm.DB, rows []Row) error {
	for _, n := range atOnce {
		for ; len(rows) >= n; rows = rows[n:] {
			if err := create(tx, rows[:n]); err != nil {
				return err
			}
			runtime.Gosched() // readings that have come meanwhile go first
		}
	}
	return nil
}

// changes are the rows of one table in one commit, of which the last one of a
// key stands.
type changes[Record any, Key comparable, Row any] struct {
	kind  *kind[Record, Key, Row]
	rows  []Row
	place map[Key]int
	drops []Record
}

func (c *changes[Record, Key, Row]) put(x any) error {
	r := x.(Record)
	row, err := c.kind.row(r)
	if err != nil {
		return err
	}
	if c.place == nil {
		c.place = map[Key]int{}
	}
	k := c.kind.key(r)
	if i, ok := c.place[k]; ok {
		c.rows[i] = row
		return nil
	}
	c.place[k] = len(c.rows)
	c.rows = append(c.rows, row)
	return nil
}

func (c *changes[Record, Key, Row]) remove(x any) error {
	r := x.(Record)
	if c.kind.drop == nil {
		return fmt.Errorf("the store removes no records of type %T", x)
	}
	c.drops = append(c.drops, r)
	k := c.kind.key(r)
	i, ok := c.place[k]
	if !ok {
		return nil
	}
	last := len(c.rows) - 1
	for other, at := range c.place {
		if at == last {
			c.place[other] = i
		}
	}
	c.rows[i] = c.rows[last]
	c.rows = c.rows[:last]
	delete(c.place, k)
	return nil
}

func (c *changes[Record, Key, Row]) write(tx *gorm.DB) error {
	for _, x := range c.drops {
		if err := c.kind.drop(tx, x); err != nil {
			return err
		}
	}
	if len(c.rows) == 0 {
		return nil // a statement of GORM costs memory before it does anything
	}
	return insert(tx.Clauses(clause.OnConflict{UpdateAll: true}), c.rows)
}

// page narrows a list of rows that belong to devices, the newest first.
type page struct {
	id, device string
	among      []string // only of these devices, unless it is nil
	before     string   // only ids before this one
	limit      int      // 0 for all
}

func (p page) of(q *gorm.DB) *gorm.DB {
	q = q.Order("id DESC")
	if p.id != "" {
		q = q.Where("id = ?", p.id)
	}
	if p.device != "" {
		q = q.Where("device = ?", p.device)
	}
	if p.among != nil {
		q = q.Where("device IN (SELECT value FROM json_each(?))", listOf(p.among))
	}
	if p.before != "" {
		q = q.Where("id < ?", p.before)
	}
	if p.limit > 0 {
		q = q.Limit(p.limit)
	}
	return q
}

// convert applies f to each element.
func convert[A, B any](in []A, err error, f func(A) B) ([]B, error) {
	if err != nil {
		return nil, err
	}
	out := make([]B, len(in))
	for i, a := range in {
		out[i] = f(a)
	}
	return out, nil
}
