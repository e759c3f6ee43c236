package store

import (
	"fmt"
	"reflect"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"ullage/fleet/commit"
)

// places finds the keeper of a record.
var places = func() map[reflect.Type]int {
	out := map[reflect.Type]int{}
	for i, k := range keepers {
		out[k.of()] = i
	}
	return out
}()

// rows are what a commit writes.
type rows struct {
	batches  []batch // by the place of their keeper; nil where nothing changes
	facts    []factRow
	validity changes[validityRow, validityKey, validityRow]
}

type validityKey struct {
	kind, subject, key string
	from               int64
}

var validityKind = &kind[validityRow, validityKey, validityRow]{
	key: func(x validityRow) validityKey { return validityKey{x.Kind, x.Subject, x.Key, x.From} },
	row: sure(func(x validityRow) validityRow { return x }),
}

// Commit implements commit.Store: everything in one transaction, facts numbered
// in their order.
func (r *Records) Commit(txs []*commit.Tx) error {
	r.early.forget()
	w := rows{batches: make([]batch, len(keepers)),
		validity: changes[validityRow, validityKey, validityRow]{kind: validityKind}}
	number, written := r.number, map[subject]int64{}
	for _, tx := range txs {
		for _, x := range tx.Records {
			if err := w.add(x); err != nil {
				return err
			}
		}
		for i := range tx.Facts {
			f := &tx.Facts[i]
			number++
			f.Number = number
			w.facts = append(w.facts, factRow{Number: number, At: ms(f.At), Kind: string(f.Kind), Address: f.From, Device: f.Device,
				Group: f.Group, Alarm: f.Alarm, Rule: f.Rule, Person: f.Person, Content: f.Content})
		}
	}
	err := r.db.write.Transaction(func(tx *gorm.DB) error {
		tx = r.inserts.in(tx)
		for _, t := range txs {
			for _, v := range t.Validity {
				from, err := r.newest.after(tx, written, v)
				if err != nil {
					return err
				}
				row := validityRow{Kind: string(v.Kind), Subject: v.Subject, Key: v.Key, From: from, Value: v.Value}
				if err := w.validity.put(row); err != nil {
					return err
				}
			}
		}
		for _, b := range w.batches {
			if b == nil {
				continue
			}
			if err := b.write(tx); err != nil {
				return err
			}
		}
		if err := w.validity.write(tx); err != nil {
			return err
		}
		return insert(tx, w.facts)
	})
	if err == nil {
		r.number = number
		r.newest.note(written)
	}
	return translate(err)
}

// add takes a record into the batch of its table.
func (w *rows) add(x any) error {
	d, del := x.(commit.Delete)
	if del {
		x = d.Record
	}
	i, ok := places[reflect.TypeOf(x)]
	if !ok {
		return fmt.Errorf("the store knows no records of type %T", x)
	}
	if w.batches[i] == nil {
		w.batches[i] = keepers[i].begin()
	}
	if del {
		return w.batches[i].remove(x)
	}
	return w.batches[i].put(x)
}

// resume finds where numbering goes on.
func (r *Records) resume() error {
	if err := r.db.write.Clauses(clause.OnConflict{DoNothing: true}).Create(&storeRow{ID: 1}).Error; err != nil {
		return translate(err)
	}
	var row storeRow
	if err := r.db.read.First(&row).Error; err != nil {
		return translate(err)
	}
	if err := r.db.read.Model(&factRow{}).Select("coalesce(max(number), 0)").Scan(&r.number).Error; err != nil {
		return translate(err)
	}
	r.number = max(r.number, row.Floor)
	return translate(r.db.read.Model(&validityRow{}).Select("coalesce(max(since), 0)").Scan(&r.newest.floor).Error)
}
