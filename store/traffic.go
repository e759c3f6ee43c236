package store

import (
	"bytes"
	"context"
	"errors"
	"hash/fnv"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"time"

	"github.com/fxamacker/cbor/v2"
	"github.com/go-gormigrate/gormigrate/v2"
	"github.com/klauspost/compress/zstd"
	"gorm.io/gorm"

	"ullage/fleet/traffic"
)

// Traffic is traffic.db: the messages of the last days, packed in blocks, the oldest of
// which give way. It is in no backup, and a crash may lose its last second.
type Traffic struct {
	db   database
	most int64         // bytes of all blocks
	keep time.Duration // 0 for as long as there is room
	pack *zstd.Encoder
	open *zstd.Decoder
	held int64 // bytes of the blocks; the writer's alone
	// What a block is made in; the writer's alone.
	text  bytes.Buffer
	block []byte
}

// TrafficOptions bound what is kept of the traffic.
type TrafficOptions struct {
	MaxBytes int64         // of the packed messages; 256 MiB if it is zero
	Keep     time.Duration // how long; 7 days if it is zero
}

const (
	trafficBytes = 256 << 20
	trafficKeep  = 7 * 24 * time.Hour
	// messagesOf is how many messages one block holds at most.
	messagesOf = 512
	// trafficWindow is about the size of a block that is not packed yet; the packer keeps
	// twice as much in memory.
	trafficWindow = 512 << 10
	// sieveBytes is the size of the sieve of a block, which says of most devices that none
	// of their messages is in it (Bloom, 1970).
	sieveBytes  = 1024
	sieveHashes = 4
)

type trafficRow struct {
	First   int64 `gorm:"primaryKey"` // number of its first message
	Last    int64
	Since   int64
	Until   int64 `gorm:"index"`
	Count   int
	Refused int
	Sieve   []byte
	Block   []byte
}

func (trafficRow) TableName() string { return "blocks" }

var trafficMigrations = []*gormigrate.Migration{
	{ID: "1", Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(&trafficRow{}) }},
	// Blocks held JSON, which took nearly twice the time to write.
	{ID: "2", Migrate: func(tx *gorm.DB) error { return tx.Exec("DELETE FROM blocks").Error }},
}

// blockEncoding writes the messages of a block, one behind another: a CBOR sequence (RFC 8742).
var blockEncoding = func() cbor.EncMode {
	m, err := cbor.EncOptions{Time: cbor.TimeRFC3339Nano}.EncMode()
	if err != nil {
		panic(err)
	}
	return m
}()

// OpenTraffic opens traffic.db of a data folder that is locked already. One that cannot
// be read is put aside, since nothing depends on it; aside tells where.
func OpenTraffic(dir string, o TrafficOptions) (t *Traffic, aside string, err error) {
	return openOrAside(filepath.Join(dir, "traffic.db"), func(path string) (*Traffic, error) { return openTraffic(path, o) })
}

// openOrAside opens a file on which nothing depends. One that cannot be read is put aside, and a
// new one begins; aside tells where.
func openOrAside[T any](path string, open func(path string) (*T, error)) (x *T, aside string, err error) {
	if x, err = open(path); err == nil {
		return x, "", nil
	}
	if aside, err = putAside(path, err); err != nil {
		return nil, "", err
	}
	x, err = open(path)
	return x, aside, err
}

// openLoose opens the database of such a file. Nobody is told that something stands in it: the
// disk may take its time.
func openLoose(path string, migrations []*gormigrate.Migration) (database, error) {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return database{}, err
	}
	f.Close()
	return openDatabase(path, url.Values{"_pragma": {"synchronous(NORMAL)"}}, migrations)
}

// putAside moves a file that cannot be read, with what belongs to it, and tells where; it
// returns why it cannot be read where that fails.
func putAside(path string, why error) (aside string, err error) {
	aside = path + ".unreadable"
	for _, suffix := range []string{"", "-wal", "-shm"} {
		if e := os.Rename(path+suffix, aside+suffix); e != nil && !errors.Is(e, os.ErrNotExist) {
			return "", why
		}
	}
	return aside, nil
}

func openTraffic(path string, o TrafficOptions) (*Traffic, error) {
	if o.MaxBytes == 0 {
		o.MaxBytes = trafficBytes
	}
	if o.Keep == 0 {
		o.Keep = trafficKeep
	}
	db, err := openLoose(path, trafficMigrations)
	if err != nil {
		return nil, err
	}
	t := &Traffic{db: db, most: o.MaxBytes, keep: o.Keep}
	if t.pack, err = zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1),
		zstd.WithWindowSize(trafficWindow)); err != nil {
		return nil, err
	}
	if t.open, err = zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(64<<20)); err != nil {
		return nil, err
	}
	return t, db.read.Model(&trafficRow{}).Select("COALESCE(SUM(LENGTH(block)), 0)").Scan(&t.held).Error
}

// Close closes the file.
func (t *Traffic) Close() error {
	t.pack.Close()
	t.open.Close()
	return t.db.close()
}

// sieved returns the places of a device in a sieve.
func sieved(device string) [sieveHashes]uint32 {
	h := fnv.New64a()
	h.Write([]byte(device))
	x := h.Sum64()
	var out [sieveHashes]uint32
	for i := range out {
		out[i] = uint32((x + uint64(i)*(x>>33|1)) % (sieveBytes * 8))
	}
	return out
}

func passes(sieve []byte, device string) bool {
	for _, p := range sieved(device) {
		if int(p/8) >= len(sieve) || sieve[p/8]&(1<<(p%8)) == 0 {
			return false
		}
	}
	return true
}

// row packs some messages, in the order of their numbers. Its block is used again by the next.
func (t *Traffic) row(es []traffic.Entry) (trafficRow, error) {
	r := trafficRow{First: int64(es[0].Seq), Last: int64(es[len(es)-1].Seq), Count: len(es), Sieve: make([]byte, sieveBytes)}
	t.text.Reset()
	e := blockEncoding.NewEncoder(&t.text)
	for i := range es {
		if i%32 == 31 {
			runtime.Gosched() // messages that are taken meanwhile go first
		}
		if err := e.Encode(&es[i]); err != nil {
			return r, err
		}
		at := es[i].At.UnixMilli()
		if i == 0 || at < r.Since {
			r.Since = at
		}
		r.Until = max(r.Until, at)
		if es[i].Refusal() {
			r.Refused++
		}
		for _, p := range sieved(es[i].Device) {
			r.Sieve[p/8] |= 1 << (p % 8)
		}
	}
	t.block = t.pack.EncodeAll(t.text.Bytes(), t.block[:0])
	r.Block = t.block
	if t.text.Cap() > 4*trafficWindow {
		t.text = bytes.Buffer{}
	}
	return r, nil
}

// unpack returns the messages of a block.
func (t *Traffic) unpack(r *trafficRow) ([]traffic.Entry, error) {
	text, err := t.open.DecodeAll(r.Block, nil)
	if err != nil {
		return nil, err
	}
	out := make([]traffic.Entry, 0, r.Count)
	for d := cbor.NewDecoder(bytes.NewReader(text)); ; {
		var e traffic.Entry
		switch err := d.Decode(&e); {
		case errors.Is(err, io.EOF):
			return out, nil
		case err != nil:
			return out, err
		}
		out = append(out, e)
	}
}

// Keep implements traffic.Keeper.
func (t *Traffic) Keep(es []traffic.Entry) error {
	for len(es) > 0 {
		part := es[:min(len(es), messagesOf)]
		es = es[len(part):]
		r, err := t.row(part)
		if err != nil {
			return err
		}
		if err := t.db.write.Create(&r).Error; err != nil {
			return translate(err)
		}
		t.held += int64(len(r.Block))
	}
	return t.trim(time.Now())
}

// trim lets the oldest blocks go that are too many, or too old.
func (t *Traffic) trim(now time.Time) error {
	old := now.Add(-t.keep).UnixMilli()
	for {
		var r trafficRow
		err := t.db.write.Select("first", "until", "LENGTH(block) AS count").Order("first").Limit(1).Find(&r).Error
		if err != nil || r.First == 0 || t.held <= t.most && r.Until >= old {
			return translate(err)
		}
		if err := t.db.write.Where("first = ?", r.First).Delete(&trafficRow{}).Error; err != nil {
			return translate(err)
		}
		t.held -= int64(r.Count)
	}
}

// perLook is how many blocks are looked at before others get their turn.
const perLook = 32

// Past implements traffic.Keeper.
func (t *Traffic) Past(ctx context.Context, f traffic.Filter, yield func(traffic.Entry) bool) (uint64, error) {
	reached := f.Before
	if reached == 0 || reached > 1<<62 {
		reached = 1 << 62
	}
	for ctx.Err() == nil {
		var rows []trafficRow
		q := t.db.read.WithContext(ctx).Where("first < ?", int64(reached)).Order("first DESC").Limit(perLook)
		if !f.From.IsZero() {
			q = q.Where("until >= ?", f.From.UnixMilli())
		}
		if !f.To.IsZero() {
			q = q.Where("since <= ?", f.To.UnixMilli())
		}
		if f.Refused {
			q = q.Where("refused > 0")
		}
		if err := q.Find(&rows).Error; err != nil {
			if ctx.Err() != nil {
				return reached, nil
			}
			return reached, translate(err)
		}
		if len(rows) == 0 {
			return 0, nil
		}
		for i := range rows {
			r := &rows[i]
			if f.Device != "" && !passes(r.Sieve, f.Device) {
				reached = uint64(r.First)
				continue
			}
			es, err := t.unpack(r)
			if err != nil { // one that cannot be read is left out
				reached = uint64(r.First)
				continue
			}
			for _, e := range slices.Backward(es) {
				if f.Before != 0 && e.Seq >= f.Before {
					continue
				}
				if reached = e.Seq; f.Passes(&e) && !yield(e) {
					return reached, nil
				}
			}
			if ctx.Err() != nil {
				return reached, nil
			}
		}
	}
	return reached, nil
}

// Forget implements traffic.Keeper.
func (t *Traffic) Forget(device string) error {
	var firsts []int64
	rows, err := t.db.read.Model(&trafficRow{}).Select("first", "sieve").Rows()
	if err != nil {
		return translate(err)
	}
	for rows.Next() {
		var first int64
		var sieve []byte
		if err := rows.Scan(&first, &sieve); err != nil {
			rows.Close()
			return err
		}
		if passes(sieve, device) {
			firsts = append(firsts, first)
		}
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return translate(err)
	}
	for _, first := range firsts {
		if err := t.without(first, device); err != nil {
			return err
		}
	}
	return nil
}

// without takes the messages of a device out of a block.
func (t *Traffic) without(first int64, device string) error {
	var r trafficRow
	if err := t.db.read.Where("first = ?", first).Limit(1).Find(&r).Error; err != nil || r.First == 0 {
		return translate(err)
	}
	es, err := t.unpack(&r)
	if err != nil {
		es = nil // what cannot be read may hold its messages
	}
	left := slices.DeleteFunc(slices.Clone(es), func(e traffic.Entry) bool { return e.Device == device })
	if len(left) == len(es) && err == nil {
		return nil
	}
	t.held -= int64(len(r.Block))
	return translate(t.db.write.Transaction(func(tx *gorm.DB) error {
		if err := tx.Where("first = ?", first).Delete(&trafficRow{}).Error; err != nil || len(left) == 0 {
			return err
		}
		next, err := t.row(left)
		if err != nil {
			return err
		}
		t.held += int64(len(next.Block))
		return tx.Create(&next).Error
	}))
}
