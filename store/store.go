// Package store keeps everything in one data folder, in two SQLite files
// reached through GORM: records.db holds what people made and what happened,
// telemetry.db holds the readings. They are apart so that acknowledging
// readings never waits for a change of records.
package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"log/slog"
	"net/url"
	"os"
	"path/filepath"
	"syscall"

	"github.com/go-gormigrate/gormigrate/v2"
	"github.com/gofrs/flock"
	gormsqlite "gorm.io/driver/sqlite"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"
	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"

	"ullage/fleet/fault"
)

// Options are what can be chosen about a store.
type Options struct {
	// MaxBytes bounds the telemetry file; 0 for no bound but the disk's.
	MaxBytes int64
	// MaxRecordBytes bounds the file of records likewise.
	MaxRecordBytes int64
	// SealAbove is how many readings are kept in memory and in the write-ahead
	// table before the oldest are sealed into chunks; a million if it is zero.
	SealAbove int

	looking bool // nothing is changed
}

// Store is an open data folder.
type Store struct {
	*Records
	*Telemetry
	lock    *flock.Flock
	dir     string
	limited bool // Options.MaxBytes is set
	opening chan struct{}
	failed  error // why the readings cannot be used
}

// MakeFolder makes a data folder, where there is none yet.
func MakeFolder(dir string) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return fault.New(fault.Invalid, "the data folder %s cannot be made: %s", dir, plain(err)).Then("choose another with --data")
	}
	return nil
}

// Begin is Open that does not wait for the readings: of them nothing may be used
// before Ready.
func Begin(dir string, o Options) (*Store, error) {
	if err := MakeFolder(dir); err != nil {
		return nil, err
	}
	lock := flock.New(filepath.Join(dir, "lock"))
	free, err := lock.TryLock()
	if err != nil {
		return nil, fault.New(fault.Internal, "the data folder %s cannot be locked: %s", dir, plain(err)).
			Then("check who owns it, or choose another with --data")
	}
	if !free {
		return nil, fault.New(fault.Conflict, "another Ullage is running on the data folder %s", dir).
			Then("stop it, or give this one a folder of its own with --data")
	}
	s := &Store{lock: lock, dir: dir, limited: o.MaxBytes > 0, opening: make(chan struct{})}
	if err := tidy(dir); err != nil {
		close(s.opening)
		s.Close()
		return nil, err
	}
	if s.Records, err = openRecords(filepath.Join(dir, "records.db"), o); err != nil {
		close(s.opening)
		s.Close()
		return nil, err
	}
	s.Records.early.begin(s.Records)
	// Reading back what is not yet sealed takes longer than the records do.
	go func() {
		defer close(s.opening)
		s.Telemetry, s.failed = openTelemetry(filepath.Join(dir, "telemetry.db"), o)
	}()
	return s, nil
}

// tidy makes a folder that is locked ready to be opened: its files are for their
// owner alone, whatever they were before, and what a backup that was killed has
// left behind goes. Readings whose records are gone are refused: an empty fleet
// would let none of their devices in.
func tidy(dir string) error {
	telemetry, records := filepath.Join(dir, "telemetry.db"), filepath.Join(dir, "records.db")
	if there(telemetry) && !there(records) {
		return fault.New(fault.Conflict, "%s has readings in telemetry.db and no records.db, which names their devices", dir).
			Then("put records.db of a backup beside it, or move telemetry.db away to begin anew; nothing was changed")
	}
	left, err := filepath.Glob(filepath.Join(dir, "backup-*"))
	if err != nil {
		return err
	}
	for _, copied := range left {
		if err := os.RemoveAll(copied); err != nil {
			return fault.New(fault.Internal, "the copy %s of a backup that did not end cannot be removed: %s",
				filepath.Base(copied), plain(err))
		}
	}
	if err := os.Chmod(dir, 0o700); err != nil {
		slog.Warn("others may be able to read the data folder", "folder", dir, "error", plain(err))
	}
	for _, path := range []string{telemetry, records} {
		// SQLite gives the files beside it the mode of the database.
		f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
		if err != nil {
			return fault.New(fault.Internal, "%s cannot be opened: %s", path, plain(err)).
				Then("check who owns it, or choose another folder with --data")
		}
		f.Close()
	}
	entries, err := os.ReadDir(dir)
	if err != nil {
		return err
	}
	for _, e := range entries {
		if !e.Type().IsRegular() {
			continue
		}
		if err := os.Chmod(filepath.Join(dir, e.Name()), 0o600); err != nil {
			slog.Warn("others may be able to read a file of the data folder", "file", e.Name(), "error", plain(err))
		}
	}
	return nil
}

// there reports whether a file exists and holds something.
func there(path string) bool {
	i, err := os.Stat(path)
	return err == nil && i.Size() > 0
}

// Open opens a data folder, making it where it does not exist. Only one
// process can have it open.
func Open(dir string, o Options) (*Store, error) {
	s, err := Begin(dir, o)
	if err != nil {
		return nil, err
	}
	if err := s.Ready(); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// Ready waits until the readings can be used too.
func (s *Store) Ready() error {
	<-s.opening
	return s.failed
}

// Close commits what is queued and releases the folder.
func (s *Store) Close() error {
	<-s.opening
	var errs []error
	if s.Telemetry != nil {
		errs = append(errs, s.Telemetry.close())
	}
	if s.Records != nil {
		errs = append(errs, s.Records.close())
	}
	return errors.Join(append(errs, s.lock.Unlock())...)
}

// database is one SQLite file: a pool of one connection that writes, and a
// pool that can only read.
type database struct {
	write *gorm.DB
	read  *gorm.DB
}

func openDatabase(path string, pragmas url.Values, migrations []*gormigrate.Migration) (database, error) {
	var db database
	// Pragmas stand in the data source name, since a pool may open a connection
	// at any time and each needs them.
	common := url.Values{"_pragma": append([]string{"busy_timeout(10000)", "journal_mode(WAL)", "synchronous(FULL)", "foreign_keys(1)"}, pragmas["_pragma"]...)}
	common.Set("_txlock", "immediate")
	var err error
	if db.write, err = connectWriter(path, common); err != nil {
		return db, err
	}
	if err := migrate(db.write, path, migrations); err != nil {
		return db, err
	}
	only := url.Values{"_pragma": append([]string{"query_only(1)"}, common["_pragma"]...)}
	db.read, err = connect(path, only, 4)
	return db, err
}

// migrate brings a file up to date. One that a newer Ullage has written is
// refused; before something changes a verified copy is made beside it.
func migrate(db *gorm.DB, path string, migrations []*gormigrate.Migration) error {
	name := filepath.Base(path)
	known := map[string]bool{}
	for _, m := range migrations {
		known[m.ID] = true
	}
	var done []string
	if db.Migrator().HasTable(gormigrate.DefaultOptions.TableName) {
		if err := db.Table(gormigrate.DefaultOptions.TableName).Pluck("id", &done).Error; err != nil {
			return translate(fmt.Errorf("reading the version of %s: %w", name, err))
		}
	}
	for _, id := range done {
		if !known[id] {
			return fault.New(fault.Conflict, "%s was written by another version of Ullage, which knows step %q of it",
				name, id).
				Then("start that version, or restore a backup made with this one; nothing was changed")
		}
	}
	if len(done) == len(migrations) {
		return nil
	}
	if len(done) > 0 {
		copied, err := copyBefore(path, done[len(done)-1])
		if err != nil {
			return fault.New(fault.Internal,
				"%s has to be brought up to date, and no copy of it could be made before: %s", name, plain(err)).
				Then("make room, and start again; nothing was changed")
		}
		defer func() {
			slog.Info("a copy was made before the file was brought up to date", "file", name, "copy", copied)
		}()
	}
	// All of them in one transaction: a service that is killed meanwhile finds the
	// file as it was.
	options := *gormigrate.DefaultOptions
	options.UseTransaction = true
	if err := gormigrate.New(db, &options, migrations).Migrate(); err != nil {
		return translate(fmt.Errorf("bringing %s up to date: %w", name, err))
	}
	return nil
}

// copyBefore copies a database beside itself, as it is before it is migrated,
// and looks the copy through. It returns the copy's name.
func copyBefore(path, version string) (string, error) {
	to := path + ".before-" + version
	part := to + ".part"
	os.Remove(part)
	if err := copyFile(context.Background(), path, part); err != nil {
		return "", err
	}
	var c Checked
	if err := c.file(context.Background(), part); err != nil {
		return "", err
	}
	if len(c.Damage) > 0 {
		return "", fmt.Errorf("the copy is damaged: %s", c.Damage[0].Sentence)
	}
	return filepath.Base(to), os.Rename(part, to)
}

func sourceName(path string, params url.Values) string {
	return "file:" + (&url.URL{Path: path}).EscapedPath() + "?" + params.Encode()
}

// connectWriter opens the one connection that writes.
func connectWriter(path string, params url.Values) (*gorm.DB, error) {
	opening := func(err error) error { return translate(fmt.Errorf("opening %s: %w", filepath.Base(path), err)) }
	pool, err := sql.Open("sqlite", sourceName(path, params))
	if err != nil {
		return nil, opening(err)
	}
	pool.SetMaxOpenConns(1)
	w, err := newWriter(pool)
	if err != nil {
		pool.Close()
		return nil, opening(err)
	}
	g, err := gorm.Open(gormsqlite.Dialector{Conn: w}, &gorm.Config{Logger: logger.Discard, SkipDefaultTransaction: true})
	if err != nil {
		w.close()
		return nil, opening(err)
	}
	return g, nil
}

func connect(path string, params url.Values, conns int) (*gorm.DB, error) {
	g, err := gorm.Open(gormsqlite.Dialector{DriverName: "sqlite", DSN: sourceName(path, params)},
		&gorm.Config{Logger: logger.Discard, PrepareStmt: true, PrepareStmtMaxSize: 200, SkipDefaultTransaction: true})
	if err != nil {
		return nil, translate(fmt.Errorf("opening %s: %w", filepath.Base(path), err))
	}
	pool, err := g.DB()
	if err != nil {
		return nil, err
	}
	pool.SetMaxOpenConns(conns)
	pool.SetMaxIdleConns(conns)
	return g, nil
}

func (d database) close() error {
	var errs []error
	if d.read != nil {
		if pool, err := d.read.DB(); err == nil {
			errs = append(errs, pool.Close())
		}
	}
	if d.write != nil {
		if w, ok := d.write.ConnPool.(*writer); ok {
			errs = append(errs, w.close())
		}
	}
	return errors.Join(errs...)
}

// translate turns what SQLite says into a fault where people can do something
// about it, and leaves other errors as they are.
func translate(err error) error {
	var se *sqlite.Error
	if !errors.As(err, &se) {
		if errors.Is(err, syscall.ENOSPC) {
			return full(err)
		}
		return err
	}
	switch code := se.Code(); {
	case code&0xff == sqlite3.SQLITE_FULL:
		return full(err)
	case code == sqlite3.SQLITE_IOERR_WRITE, code == sqlite3.SQLITE_IOERR_FSYNC, code == sqlite3.SQLITE_IOERR_TRUNCATE,
		code == sqlite3.SQLITE_IOERR_SHMSIZE:
		return full(err)
	case code&0xff == sqlite3.SQLITE_NOTADB, code&0xff == sqlite3.SQLITE_CORRUPT:
		f := fault.New(fault.Internal, "the data file is damaged or is no Ullage file: %s", se.Error()).
			Then("put a backup in its place")
		f.Cause = err
		return f
	}
	return err
}

func full(err error) error {
	f := fault.New(fault.Full, "the disk is full, so nothing more can be stored").
		Then("make room; devices keep their copies and send them again by themselves")
	f.Cause = err
	return f
}

// plain takes the path off a file error, since the message names it already.
func plain(err error) string {
	var pe *os.PathError
	if errors.As(err, &pe) {
		return pe.Err.Error()
	}
	return err.Error()
}
