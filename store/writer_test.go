package store

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"gorm.io/gorm"
)

func openWriter(t *testing.T) (*gorm.DB, *writer) {
	t.Helper()
	db, err := openDatabase(filepath.Join(t.TempDir(), "x.db"), url.Values{}, nil)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.close() })
	if err := db.write.Exec("CREATE TABLE n (x INTEGER PRIMARY KEY)").Error; err != nil {
		t.Fatal(err)
	}
	return db.write, db.write.ConnPool.(*writer)
}

func written(t *testing.T, db *gorm.DB) (n int) {
	t.Helper()
	if err := db.Raw("SELECT count(*) FROM n").Scan(&n).Error; err != nil {
		t.Fatal(err)
	}
	return n
}

// TestWriterKeepsAllOrNothing: what a transaction wrote is there when it went
// well, and nothing of it when it did not, however it ended; the next one begins
// as if nothing had been.
func TestWriterKeepsAllOrNothing(t *testing.T) {
	db, w := openWriter(t)
	no := errors.New("no")
	for _, c := range []struct {
		name string
		f    func(tx *gorm.DB) error
		kept int
	}{
		{"it goes well", func(tx *gorm.DB) error { return tx.Exec("INSERT INTO n VALUES (1), (2)").Error }, 2},
		{"it refuses", func(tx *gorm.DB) error { return errors.Join(tx.Exec("INSERT INTO n VALUES (3)").Error, no) }, 2},
		{"a statement fails", func(tx *gorm.DB) error {
			tx.Exec("INSERT INTO n VALUES (4)")
			return tx.Exec("INSERT INTO n VALUES (1)").Error
		}, 2},
		{"it panics", func(tx *gorm.DB) error { tx.Exec("INSERT INTO n VALUES (5)"); panic("it does") }, 2},
		{"one inside it refuses, and it goes on", func(tx *gorm.DB) error {
			tx.Exec("INSERT INTO n VALUES (6)")
			tx.Transaction(func(in *gorm.DB) error { in.Exec("INSERT INTO n VALUES (7)"); return no })
			return nil
		}, 3},
		{"SQLite has rolled back by itself", func(tx *gorm.DB) error {
			tx.Exec("INSERT INTO n VALUES (8)")
			return tx.Exec("INSERT OR ROLLBACK INTO n VALUES (1)").Error
		}, 3},
		{"it has ended before its commit", func(tx *gorm.DB) error {
			tx.Exec("INSERT INTO n VALUES (9)")
			return tx.Exec("ROLLBACK").Error
		}, 3},
	} {
		t.Run(c.name, func(t *testing.T) {
			func() {
				defer func() { recover() }()
				db.Transaction(c.f)
			}()
			if n := written(t, db); n != c.kept {
				t.Errorf("%d numbers are kept, want %d", n, c.kept)
			}
			if len(w.turn) != 0 {
				t.Fatal("nobody has the turn, and it was not passed on")
			}
		})
	}
}

// TestWriterTurns: transactions of many goroutines come one after another; who
// does not want to wait any more goes without, and holds up nobody.
func TestWriterTurns(t *testing.T) {
	db, _ := openWriter(t)
	var all sync.WaitGroup
	for g := range 8 {
		all.Go(func() {
			for i := range 25 {
				if err := db.Transaction(func(tx *gorm.DB) error {
					var before, after int
					tx.Raw("SELECT count(*) FROM n").Scan(&before)
					if err := tx.Exec("INSERT INTO n VALUES (?)", g*100+i).Error; err != nil {
						return err
					}
					tx.Raw("SELECT count(*) FROM n").Scan(&after)
					if after != before+1 {
						return fmt.Errorf("%d numbers became %d: somebody else wrote", before, after)
					}
					return nil
				}); err != nil {
					t.Error(err)
				}
			}
		})
	}
	all.Wait()
	if n := written(t, db); n != 200 {
		t.Errorf("%d numbers are kept, want 200", n)
	}
	if err := db.Transaction(func(*gorm.DB) error {
		ctx, cancel := context.WithTimeout(context.Background(), 10*time.Millisecond)
		defer cancel()
		if err := db.WithContext(ctx).Exec("DELETE FROM n").Error; !errors.Is(err, context.DeadlineExceeded) {
			t.Errorf("waiting for the turn ended with %v", err)
		}
		return nil
	}); err != nil {
		t.Error(err)
	}
	if n := written(t, db); n != 200 {
		t.Errorf("%d numbers are kept, want 200", n)
	}
	// Whenever somebody gives up, the next one can begin.
	for i := range 300 {
		ctx, cancel := context.WithTimeout(context.Background(), time.Duration(i)*time.Microsecond)
		db.WithContext(ctx).Transaction(func(tx *gorm.DB) error { return tx.Exec("UPDATE n SET x = x").Error })
		cancel()
		if err := db.Transaction(func(tx *gorm.DB) error { return tx.Exec("UPDATE n SET x = x WHERE x = 1").Error }); err != nil {
			t.Fatalf("after one that was given up after %d µs: %v", i, err)
		}
	}
}

// TestWriterStatements: however many statements there are, some hundred stay prepared, and
// rows that are read survive that their statement goes.
func TestWriterStatements(t *testing.T) {
	db, w := openWriter(t)
	if err := db.Exec("INSERT INTO n VALUES (1), (2), (3)").Error; err != nil {
		t.Fatal(err)
	}
	if err := db.Transaction(func(tx *gorm.DB) error {
		rows, err := tx.Raw("SELECT x FROM n ORDER BY x").Rows()
		if err != nil {
			return err
		}
		defer rows.Close()
		for want := 1; rows.Next(); want++ {
			for i := range maxPrepared {
				if err := tx.Exec(fmt.Sprintf("UPDATE n SET x = x WHERE x = %d", want*1000+i)).Error; err != nil {
					return err
				}
			}
			var x int
			if err := rows.Scan(&x); err != nil || x != want {
				return fmt.Errorf("%d was read, want %d: %w", x, want, err)
			}
		}
		return rows.Err()
	}); err != nil {
		t.Error(err)
	}
	if n := len(w.prepared); n > maxPrepared {
		t.Errorf("%d statements are prepared, want %d at most", n, maxPrepared)
	}
}
