package store

import (
	"archive/tar"
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"ullage/fleet/fault"
)

// A backup is one tar file (POSIX ustar) with manifest.json first, then the
// files that it names, as SQLite writes them whole.
const manifestName = "manifest.json"

// Manifest says what is in a backup.
type Manifest struct {
	Format  int            `json:"format"` // 1
	MadeAt  time.Time      `json:"made_at"`
	Files   []ManifestFile `json:"files"`
	Details string         `json:"details"`
}

// ManifestFile is one file of a backup.
type ManifestFile struct {
	Name   string `json:"name"`
	Size   int64  `json:"size"`
	SHA256 string `json:"sha256"`
}

// backedUp are the files of a data folder, in the order in which they are
// copied: readings that come in between are newer than what the records know
// to be evaluated, and not the other way round.
var backedUp = []string{"records.db", "telemetry.db"}

// Backup writes a backup of the open store to w while it goes on working. It
// needs room for a copy of the folder until it is done.
func (s *Store) Backup(ctx context.Context, w io.Writer, now time.Time) error {
	dir, err := os.MkdirTemp(s.dir, "backup-")
	if err != nil {
		return fault.New(fault.Internal, "a backup needs room in the data folder: %s", plain(err))
	}
	defer os.RemoveAll(dir)
	m := Manifest{Format: 1, MadeAt: now.UTC(), Details: "an Ullage data folder"}
	for _, name := range backedUp {
		path := filepath.Join(dir, name)
		if err := copyFile(ctx, filepath.Join(s.dir, name), path); err != nil {
			return translate(fmt.Errorf("copying %s: %w", name, err))
		}
		size, sum, err := digest(path)
		if err != nil {
			return err
		}
		m.Files = append(m.Files, ManifestFile{name, size, sum})
	}
	t := tar.NewWriter(w)
	head, err := json.MarshalIndent(m, "", "  ")
	if err != nil {
		return err
	}
	if err := t.WriteHeader(&tar.Header{Name: manifestName, Mode: 0o600, Size: int64(len(head)), ModTime: m.MadeAt}); err != nil {
		return err
	}
	if _, err := t.Write(head); err != nil {
		return err
	}
	for _, f := range m.Files {
		if err := t.WriteHeader(&tar.Header{Name: f.Name, Mode: 0o600, Size: f.Size, ModTime: m.MadeAt}); err != nil {
			return err
		}
		in, err := os.Open(filepath.Join(dir, f.Name))
		if err != nil {
			return err
		}
		_, err = io.Copy(t, in)
		in.Close()
		if err != nil {
			return err
		}
	}
	return t.Close()
}

// copyFile copies a database as it is at one moment, over a connection of its
// own that keeps nobody waiting.
func copyFile(ctx context.Context, from, to string) error {
	db, err := sql.Open("sqlite", "file:"+(&url.URL{Path: from}).EscapedPath()+"?_pragma=busy_timeout(10000)")
	if err != nil {
		return err
	}
	defer db.Close()
	_, err = db.ExecContext(ctx, "VACUUM INTO ?", to)
	return err
}

func digest(path string) (size int64, sum string, err error) {
	f, err := os.Open(path)
	if err != nil {
		return 0, "", err
	}
	defer f.Close()
	h := sha256.New()
	size, err = io.Copy(h, f)
	return size, hex.EncodeToString(h.Sum(nil)), err
}

// Restore unpacks a backup into a folder that does not exist or is empty. It
// compares every file with the manifest and looks the whole through before it
// is there under its name.
func Restore(ctx context.Context, backup io.Reader, dir string) (*Manifest, *Checked, error) {
	if entries, err := os.ReadDir(dir); err == nil && len(entries) > 0 {
		return nil, nil, fault.New(fault.Conflict, "%s is not empty", dir).
			Then("restore into a new folder, and start the service with --data on it")
	}
	parent := filepath.Dir(filepath.Clean(dir))
	if err := os.MkdirAll(parent, 0o700); err != nil {
		return nil, nil, fault.New(fault.Internal, "%s cannot be made: %s", parent, plain(err))
	}
	part, err := os.MkdirTemp(parent, ".restore-")
	if err != nil {
		return nil, nil, fault.New(fault.Internal, "there is no room beside %s: %s", dir, plain(err))
	}
	defer os.RemoveAll(part)
	m, err := unpack(backup, part)
	if err != nil {
		return nil, nil, err
	}
	c, err := Check(ctx, part, false, nil)
	if err != nil {
		return m, c, err
	}
	if len(c.Damage) > 0 {
		return m, c, fault.New(fault.Invalid, "the backup is damaged: %s of %s: %s", c.Damage[0].Place,
			c.Damage[0].File, c.Damage[0].Sentence)
	}
	if err := beginEpoch(ctx, part); err != nil {
		return m, c, err
	}
	os.Remove(filepath.Join(part, "lock"))
	os.Remove(dir) // an empty folder, if there is one
	if err := os.Rename(part, dir); err != nil {
		return m, c, fault.New(fault.Internal, "%s cannot be made: %s", dir, plain(err))
	}
	return m, c, nil
}

// beginEpoch tells a restored folder that devices may have been sent revisions
// that it knows nothing of.
func beginEpoch(ctx context.Context, dir string) error {
	r, err := openRecords(filepath.Join(dir, "records.db"), Options{})
	if err != nil {
		return err
	}
	return errors.Join(r.beginEpoch(ctx), r.close())
}

func unpack(backup io.Reader, dir string) (*Manifest, error) {
	bad := func(format string, args ...any) error {
		return fault.New(fault.Invalid, "this is no whole backup of Ullage: "+format, args...).
			Then("nothing was restored")
	}
	t := tar.NewReader(backup)
	h, err := t.Next()
	if err != nil || h.Name != manifestName || h.Size > 1<<20 {
		return nil, bad("it does not begin with its manifest")
	}
	m := &Manifest{}
	if err := json.NewDecoder(t).Decode(m); err != nil || m.Format != 1 {
		return nil, bad("its manifest is not readable, or of another format")
	}
	for _, f := range m.Files {
		if f.Name != filepath.Base(f.Name) || !strings.HasSuffix(f.Name, ".db") {
			return nil, bad("%q is no name of one of its files", f.Name)
		}
		h, err := t.Next()
		if err != nil || h.Name != f.Name || h.Size != f.Size {
			return nil, bad("%s is missing or cut off", f.Name)
		}
		out, err := os.OpenFile(filepath.Join(dir, f.Name), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
		if err != nil {
			return nil, err
		}
		sum := sha256.New()
		_, err = io.Copy(io.MultiWriter(out, sum), t)
		if err = errors.Join(err, out.Sync(), out.Close()); err != nil {
			return nil, bad("%s breaks off: %s", f.Name, plain(err))
		}
		if hex.EncodeToString(sum.Sum(nil)) != f.SHA256 {
			return nil, bad("the checksum of %s does not match", f.Name)
		}
	}
	return m, nil
}
