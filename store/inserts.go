package store

import (
	"context"
	"reflect"

	"gorm.io/gorm"
	"gorm.io/gorm/schema"
)

// inserts are the texts of the statements that write records, as GORM wrote each
// once. They are for one goroutine.
type inserts struct{ known map[rowsOf]*inserting }

// rowsOf is what the text of an INSERT depends on.
type rowsOf struct {
	row     reflect.Type
	n       int
	replace bool
}

// inserting is an INSERT as GORM wrote it once. Writing it anew for every commit costs more
// memory than all that the rows hold.
type inserting struct {
	query  string
	fields []*schema.Field // one for each column, in their order
}

// maxInserts is how many are kept: a few sizes for each table.
const maxInserts = 200

type insertsKey struct{}

// in returns a transaction whose inserts use the texts.
func (s *inserts) in(tx *gorm.DB) *gorm.DB {
	return tx.WithContext(context.WithValue(tx.Statement.Context, insertsKey{}, s))
}

// create is tx.Create for rows that have all of their values.
func create(tx *gorm.DB, rows any) error {
	s, _ := tx.Statement.Context.Value(insertsKey{}).(*inserts)
	if s == nil {
		return tx.Create(rows).Error
	}
	_, replace := tx.Statement.Clauses["ON CONFLICT"]
	all := reflect.ValueOf(rows)
	of := rowsOf{all.Type().Elem(), all.Len(), replace}
	if known := s.known[of]; known != nil {
		return run(tx, known.query, known.values(tx.Statement.Context, all))
	}
	dry := tx.Session(&gorm.Session{DryRun: true}).Create(rows)
	if dry.Error != nil {
		return dry.Error
	}
	if fields := bindable(dry.Statement.Schema); len(fields)*of.n == len(dry.Statement.Vars) && len(s.known) < maxInserts {
		s.known[of] = &inserting{dry.Statement.SQL.String(), fields}
	}
	return run(tx, dry.Statement.SQL.String(), dry.Statement.Vars)
}

// run carries out a statement whose text is known, on GORM's transaction.
func run(tx *gorm.DB, query string, args []any) error {
	_, err := tx.Statement.ConnPool.ExecContext(tx.Statement.Context, query, args...)
	return err
}

// bindable returns the fields of the columns of a table, if their values follow from a row
// alone: no column is filled by the database, or with the time of its writing.
func bindable(of *schema.Schema) []*schema.Field {
	if len(of.FieldsWithDefaultDBValue) > 0 {
		return nil
	}
	out := make([]*schema.Field, 0, len(of.DBNames))
	for _, name := range of.DBNames {
		f := of.FieldsByDBName[name]
		if f.HasDefaultValue && f.DefaultValueInterface == nil || f.AutoCreateTime > 0 || f.AutoUpdateTime > 0 || !f.Creatable {
			return nil
		}
		out = append(out, f)
	}
	return out
}

// values are what an INSERT binds for some rows.
func (x *inserting) values(ctx context.Context, rows reflect.Value) []any {
	out := make([]any, 0, rows.Len()*len(x.fields))
	for i := range rows.Len() {
		row := rows.Index(i)
		for _, f := range x.fields {
			v, zero := f.ValueOf(ctx, row)
			if zero && f.DefaultValueInterface != nil {
				v = f.DefaultValueInterface
			}
			out = append(out, v)
		}
	}
	return out
}
