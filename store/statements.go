package store

import (
	"context"
	"database/sql"
	"reflect"
	"sync"

	"gorm.io/gorm"
	"gorm.io/gorm/schema"
)

// statements are those that write records, and stay prepared over transactions.
// Within one, GORM prepares anew whatever it executes: database/sql does not use a
// statement of one transaction in another, and a long INSERT takes SQLite longer to
// read than to carry out.
type statements struct {
	db *sql.DB

	mu     sync.Mutex
	ready  map[string]*sql.Stmt
	wanted []string
	known  map[rowsOf]*inserting
}

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

// maxStatements is how many are kept: a few sizes for each table.
const maxStatements = 200

type statementsKey struct{}

func newStatements(db *gorm.DB) (*statements, error) {
	own, err := db.DB()
	if err != nil {
		return nil, err
	}
	return &statements{db: own, ready: map[string]*sql.Stmt{}, known: map[rowsOf]*inserting{}}, nil
}

// in returns a transaction whose inserts use the statements.
func (s *statements) in(tx *gorm.DB) *gorm.DB {
	return tx.WithContext(context.WithValue(tx.Statement.Context, statementsKey{}, s))
}

// create is tx.Create for rows that have all of their values.
func create(tx *gorm.DB, rows any) error {
	s, _ := tx.Statement.Context.Value(statementsKey{}).(*statements)
	inner, ok := tx.Statement.ConnPool.(*gorm.PreparedStmtTX)
	if s == nil || !ok {
		return tx.Create(rows).Error
	}
	own, ok := inner.Tx.(*sql.Tx)
	if !ok {
		return tx.Create(rows).Error
	}
	_, replace := tx.Statement.Clauses["ON CONFLICT"]
	all := reflect.ValueOf(rows)
	of := rowsOf{all.Type().Elem(), all.Len(), replace}
	s.mu.Lock()
	known := s.known[of]
	s.mu.Unlock()
	if known != nil {
		return s.exec(tx.Statement.Context, own, known.query, known.values(tx.Statement.Context, all))
	}
	dry := tx.Session(&gorm.Session{DryRun: true}).Create(rows)
	if dry.Error != nil {
		return dry.Error
	}
	if fields := bindable(dry.Statement.Schema); len(fields)*of.n == len(dry.Statement.Vars) {
		s.mu.Lock()
		s.known[of] = &inserting{dry.Statement.SQL.String(), fields}
		s.mu.Unlock()
	}
	return s.exec(tx.Statement.Context, own, dry.Statement.SQL.String(), dry.Statement.Vars)
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

func (s *statements) exec(ctx context.Context, tx *sql.Tx, query string, args []any) error {
	s.mu.Lock()
	stmt := s.ready[query]
	if stmt == nil && len(s.ready)+len(s.wanted) < maxStatements {
		s.wanted = append(s.wanted, query)
	}
	s.mu.Unlock()
	if stmt == nil {
		_, err := tx.ExecContext(ctx, query, args...)
		return err
	}
	_, err := tx.StmtContext(ctx, stmt).ExecContext(ctx, args...)
	return err
}

// prepare prepares what the transactions before wanted, for those to come. There is
// one connection for writing, so none may be open.
func (s *statements) prepare(ctx context.Context) {
	s.mu.Lock()
	wanted := s.wanted
	s.wanted = nil
	s.mu.Unlock()
	for _, query := range wanted {
		stmt, err := s.db.PrepareContext(ctx, query)
		if err != nil {
			continue // it is executed as it is, and says what is wrong then
		}
		s.mu.Lock()
		if s.ready[query] == nil {
			s.ready[query] = stmt
		} else {
			stmt.Close()
		}
		s.mu.Unlock()
	}
}

func (s *statements) close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, stmt := range s.ready {
		stmt.Close()
	}
	clear(s.ready)
}
