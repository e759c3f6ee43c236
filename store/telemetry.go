package store

import (
	"context"
	"database/sql"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/go-gormigrate/gormigrate/v2"
	"gorm.io/gorm"

	"ullage/core/series"
	"ullage/core/value"
	"ullage/fleet/fault"
	"ullage/fleet/ingest"
)

// Telemetry is telemetry.db: one row for each reading, keyed by series and
// time. One goroutine writes. It commits whatever has queued up while the
// commit before was under way, so that many devices share one flush to disk
// and none waits for a timer.
type Telemetry struct {
	db   database
	conn *sql.Conn
	ins  map[int]*sql.Stmt // by how many rows they insert

	mu     sync.Mutex
	ready  *sync.Cond
	queue  []ingest.Append
	rows   int // readings in the queue
	closed bool
	done   chan struct{}
	// answers carries finished batches to the goroutine that calls Done, so that
	// the next commit does not wait for what callers do with the news.
	answers chan answer

	seriesMu sync.RWMutex
	series   map[seriesKey]int64

	stats Stats
}

// Stats count what the writer did since the store was opened.
type Stats struct {
	Commits  atomic.Uint64
	Readings atomic.Uint64
	Failures atomic.Uint64
	Nanos    atomic.Uint64 // spent in commits
}

type answer struct {
	batch []ingest.Append
	err   error
}

type seriesKey struct{ device, metric string }

const (
	// maxQueued is how many readings may wait for the writer before it says
	// that it is overloaded.
	maxQueued = 200_000
	// maxBatch keeps one commit near 20 ms, because acknowledgements wait for it.
	maxBatch = 4_000
)

var insertSizes = []int{64, 8, 1}

func openTelemetry(path string, o Options) (*Telemetry, error) {
	pragmas := url.Values{}
	if o.MaxBytes > 0 {
		pragmas["_pragma"] = []string{fmt.Sprintf("max_page_count(%d)", max(o.MaxBytes/4096, 1))}
	}
	db, err := openDatabase(path, pragmas, []*gormigrate.Migration{{
		ID: "1",
		Migrate: func(tx *gorm.DB) error {
			for _, q := range []string{
				`CREATE TABLE series (id INTEGER PRIMARY KEY, device TEXT NOT NULL, metric TEXT NOT NULL, UNIQUE (device, metric))`,
				// value is REAL for a number, TEXT for a text and INTEGER 0 or 1 for a boolean.
				`CREATE TABLE readings (series INTEGER NOT NULL, at INTEGER NOT NULL, value, quality INTEGER NOT NULL,
					device_at INTEGER, receipt INTEGER, PRIMARY KEY (series, at)) WITHOUT ROWID`,
			} {
				if err := tx.Exec(q).Error; err != nil {
					return err
				}
			}
			return nil
		},
	}})
	if err != nil {
		return nil, err
	}
	t := &Telemetry{db: db, ins: map[int]*sql.Stmt{}, series: map[seriesKey]int64{}, done: make(chan struct{}), answers: make(chan answer, 4)}
	t.ready = sync.NewCond(&t.mu)
	pool, err := db.write.DB()
	if err != nil {
		return nil, err
	}
	if t.conn, err = pool.Conn(context.Background()); err != nil {
		return nil, translate(err)
	}
	for _, n := range insertSizes {
		q := `INSERT INTO readings (series, at, value, quality, device_at, receipt) VALUES ` +
			strings.TrimSuffix(strings.Repeat("(?,?,?,?,?,?),", n), ",") +
			` ON CONFLICT (series, at) DO UPDATE SET value = excluded.value, quality = excluded.quality,
			  device_at = excluded.device_at, receipt = excluded.receipt`
		if t.ins[n], err = t.conn.PrepareContext(context.Background(), q); err != nil {
			return nil, translate(err)
		}
	}
	var rows []struct {
		ID             int64
		Device, Metric string
	}
	if err := db.read.Table("series").Find(&rows).Error; err != nil {
		return nil, translate(err)
	}
	for _, r := range rows {
		t.series[seriesKey{r.Device, r.Metric}] = r.ID
	}
	go t.run()
	go t.answer()
	return t, nil
}

// Append implements ingest.Store.
func (t *Telemetry) Append(a ingest.Append) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.closed {
		return fault.New(fault.Stopping, "the service is stopping").Then("send again in a moment")
	}
	if t.rows+len(a.Readings) > maxQueued {
		return fault.New(fault.Overload, "more readings come in than the disk takes").Then("send again in a moment; nothing of this message was kept")
	}
	t.queue = append(t.queue, a)
	t.rows += len(a.Readings)
	t.ready.Signal()
	return nil
}

// Queued returns how many readings wait for the writer.
func (t *Telemetry) Queued() int {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.rows
}

// Stats returns the writer's counters.
func (t *Telemetry) Stats() *Stats { return &t.stats }

// answer tells the callers what became of their readings, in order.
func (t *Telemetry) answer() {
	defer close(t.done)
	for a := range t.answers {
		for i := range a.batch {
			a.batch[i].Done(a.err)
		}
	}
}

func (t *Telemetry) run() {
	defer close(t.answers)
	for {
		t.mu.Lock()
		for len(t.queue) == 0 && !t.closed {
			t.ready.Wait()
		}
		if len(t.queue) == 0 {
			t.mu.Unlock()
			return
		}
		n, rows := 0, 0
		for n < len(t.queue) && (n == 0 || rows+len(t.queue[n].Readings) <= maxBatch) {
			rows += len(t.queue[n].Readings)
			n++
		}
		batch := slices.Clone(t.queue[:n])
		rest := copy(t.queue, t.queue[n:])
		clear(t.queue[rest:])
		t.queue = t.queue[:rest]
		t.rows -= rows
		t.mu.Unlock()

		start := time.Now()
		err := t.commit(batch)
		t.stats.Nanos.Add(uint64(time.Since(start)))
		t.stats.Commits.Add(1)
		if err != nil {
			t.stats.Failures.Add(1)
		} else {
			t.stats.Readings.Add(uint64(rows))
		}
		t.answers <- answer{batch, err}
	}
}

// commit writes a batch in one transaction. On failure nothing of it is kept.
func (t *Telemetry) commit(batch []ingest.Append) (err error) {
	ctx := context.Background()
	if _, err := t.conn.ExecContext(ctx, "BEGIN IMMEDIATE"); err != nil {
		return translate(err)
	}
	added := map[seriesKey]int64{}
	defer func() {
		if err != nil {
			t.conn.ExecContext(ctx, "ROLLBACK")
			return
		}
		if len(added) > 0 {
			t.seriesMu.Lock()
			for k, id := range added {
				t.series[k] = id
			}
			t.seriesMu.Unlock()
		}
	}()
	args := make([]any, 0, 64*6)
	total := 0
	for i := range batch {
		total += len(batch[i].Readings)
	}
	left, size := total, 0
	next := func() {
		for _, n := range insertSizes {
			if left >= n {
				size = n
				return
			}
		}
	}
	next()
	for i := range batch {
		a := &batch[i]
		for _, r := range a.Readings {
			id, err := t.seriesID(ctx, seriesKey{a.Device, r.Metric}, added)
			if err != nil {
				return translate(err)
			}
			args = append(args, id, r.At.UnixMilli(), column(r.Value), int64(r.Quality), orNull(ms(r.DeviceAt)), orNull(a.Receipt))
			if len(args) == size*6 {
				if _, err := t.ins[size].ExecContext(ctx, args...); err != nil {
					return translate(err)
				}
				left -= size
				args = args[:0]
				next()
			}
		}
	}
	if _, err := t.conn.ExecContext(ctx, "COMMIT"); err != nil {
		return translate(err)
	}
	return nil
}

func (t *Telemetry) seriesID(ctx context.Context, k seriesKey, added map[seriesKey]int64) (int64, error) {
	t.seriesMu.RLock()
	id, ok := t.series[k]
	t.seriesMu.RUnlock()
	if ok {
		return id, nil
	}
	if id, ok := added[k]; ok {
		return id, nil
	}
	res, err := t.conn.ExecContext(ctx, "INSERT INTO series (device, metric) VALUES (?, ?)", k.device, k.metric)
	if err != nil {
		return 0, err
	}
	if id, err = res.LastInsertId(); err == nil {
		added[k] = id
	}
	return id, err
}

func column(v value.Value) any {
	switch v.Kind {
	case value.Number:
		return v.Num
	case value.Text:
		return v.Text
	case value.Bool:
		return int64(v.Num)
	}
	return nil
}

func fromColumn(x any) value.Value {
	switch x := x.(type) {
	case float64:
		return value.OfNumber(x)
	case int64:
		return value.OfBool(x != 0)
	case string:
		return value.OfText(x)
	case []byte:
		return value.OfText(string(x))
	}
	return value.Value{}
}

func orNull(n int64) any {
	if n == 0 {
		return nil
	}
	return n
}

func (t *Telemetry) id(device, metric string) (int64, bool) {
	t.seriesMu.RLock()
	defer t.seriesMu.RUnlock()
	id, ok := t.series[seriesKey{device, metric}]
	return id, ok
}

// HasReceipt implements ingest.Store.
func (t *Telemetry) HasReceipt(device string, receipt int64, since time.Time) (bool, error) {
	var n int64
	err := t.db.read.Raw(`SELECT count(*) FROM readings WHERE series IN (SELECT id FROM series WHERE device = ?) AND at >= ? AND receipt = ?`,
		device, ms(since), receipt).Scan(&n).Error
	return n > 0, translate(err)
}

// Readings calls yield with the readings of a series from a time up to, but
// without, another, in order. A yield that fails ends it with that error.
func (t *Telemetry) Readings(device, metric string, from, to time.Time, yield func(series.Point) error) error {
	return t.ReadingsContext(context.Background(), device, metric, from, to, yield)
}

// ReadingsContext is Readings that ends when ctx does.
func (t *Telemetry) ReadingsContext(ctx context.Context, device, metric string, from, to time.Time, yield func(series.Point) error) error {
	id, ok := t.id(device, metric)
	if !ok {
		return nil
	}
	rows, err := t.db.read.WithContext(ctx).Raw(`SELECT at, value, quality FROM readings WHERE series = ? AND at >= ? AND at < ? ORDER BY at`,
		id, from.UnixMilli(), to.UnixMilli()).Rows()
	if err != nil {
		return translate(err)
	}
	defer rows.Close()
	for rows.Next() {
		var at int64
		var v any
		var q uint8
		if err := rows.Scan(&at, &v, &q); err != nil {
			return translate(err)
		}
		if err := yield(series.Point{At: value.FromMillis(at), Value: fromColumn(v), Quality: value.Quality(q)}); err != nil {
			return err
		}
	}
	return translate(rows.Err())
}

// Last implements derived.History.
func (t *Telemetry) Last(device, metric string, at time.Time) (value.Reading, bool, error) {
	id, ok := t.id(device, metric)
	if !ok {
		return value.Reading{}, false, nil
	}
	rows, err := t.db.read.Raw(`SELECT at, value, quality FROM readings WHERE series = ? AND at <= ? ORDER BY at DESC LIMIT 1`, id, at.UnixMilli()).Rows()
	if err != nil {
		return value.Reading{}, false, translate(err)
	}
	defer rows.Close()
	if !rows.Next() {
		return value.Reading{}, false, translate(rows.Err())
	}
	var ms int64
	var v any
	var q uint8
	if err := rows.Scan(&ms, &v, &q); err != nil {
		return value.Reading{}, false, translate(err)
	}
	return value.Reading{Metric: metric, At: value.FromMillis(ms), Value: fromColumn(v), Quality: value.Quality(q)}, true, nil
}

// Latest implements present.Latests.
func (t *Telemetry) Latest(yield func(device string, r value.Reading)) error {
	rows, err := t.db.read.Raw(`SELECT s.device, s.metric, r.at, r.value, r.quality FROM series s
		JOIN readings r ON r.series = s.id AND r.at = (SELECT max(at) FROM readings WHERE series = s.id)`).Rows()
	if err != nil {
		return translate(err)
	}
	defer rows.Close()
	for rows.Next() {
		var device string
		var r value.Reading
		var at int64
		var v any
		var q uint8
		if err := rows.Scan(&device, &r.Metric, &at, &v, &q); err != nil {
			return translate(err)
		}
		r.At, r.Value, r.Quality = value.FromMillis(at), fromColumn(v), value.Quality(q)
		yield(device, r)
	}
	return translate(rows.Err())
}

// Count returns how many readings of a device are stored.
func (t *Telemetry) Count(device string) (int64, error) {
	var n int64
	err := t.db.read.Raw(`SELECT count(*) FROM readings WHERE series IN (SELECT id FROM series WHERE device = ?)`, device).Scan(&n).Error
	return n, translate(err)
}

func (t *Telemetry) close() error {
	t.mu.Lock()
	already := t.closed
	t.closed = true
	t.ready.Signal()
	t.mu.Unlock()
	if already {
		return nil
	}
	<-t.done
	for _, s := range t.ins {
		s.Close()
	}
	t.conn.Close()
	return t.db.close()
}
