package store

import (
	"cmp"
	"context"
	"database/sql"
	"fmt"
	"net/url"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"gorm.io/gorm"

	"ullage/core/series"
	"ullage/core/value"
	"ullage/fleet/alarms"
	"ullage/fleet/fault"
	"ullage/fleet/ingest"
)

// Telemetry is telemetry.db. One goroutine writes. Each commit adds one packed
// record to the table of records with whatever has queued up while the commit
// before was under way, so that many devices share one flush to disk; devices
// that wait for nothing are gathered for some milliseconds (gathering). The
// readings stay in memory besides, until they are sealed: merged into chunks of some hundred readings of one series, with the
// records that nobody needs any more dropped in the same transaction. What was
// not sealed is read back from the records when the store opens.
type Telemetry struct {
	db   database
	read queries

	mu     sync.Mutex
	ready  *sync.Cond
	queue  []ingest.Append
	rows   int // readings in the queue
	closed bool
	wanted []chan struct{} // those that wait until everything is sealed
	jobs   []*job
	gather gathering
	done   chan struct{}
	// answers carries finished batches to the goroutine that calls Done, so that
	// the next commit does not wait for what callers do with the news.
	answers chan answer

	unsealedMu sync.RWMutex // of the streams and what is not yet sealed in them
	streams    map[int64]*stream
	names      map[string]map[string]*stream // by device and metric

	// The writer's alone.
	dirty    []*stream // with something unsealed, that with the oldest record first
	unsealed int       // unsealed readings in all
	seq      int64     // of the newest record
	kept     []kept    // receipts of records that are not dropped yet
	record   recordWriter
	tx       queries // the open transaction
	opened   time.Time
	emptied  time.Time       // when there was nothing unsealed last
	above    int             // Options.SealAbove
	room     []series.Sample // for those of one chunk
	in       []arrival       // of one commit; empty between two

	// Of the start alone.
	arrivals map[string][]alarms.Arrival
	newest   int64 // arrival

	receiptMu sync.Mutex
	receipts  map[string]*recent

	stats Stats
}

// Stats count what the writer did since the store was opened.
type Stats struct {
	Commits  atomic.Uint64
	Readings atomic.Uint64
	Failures atomic.Uint64
	Nanos    atomic.Uint64 // spent in commits
	Sealed   atomic.Uint64 // readings that went into chunks
	Unsealed atomic.Int64  // readings that are in no chunk yet
}

// arrival is a reading that is being committed.
type arrival struct {
	s *stream
	x series.Sample
}

type answer struct {
	batch []ingest.Append
	err   error
}

const (
	// maxQueued is how many readings may wait for the writer before it says
	// that it is overloaded.
	maxQueued = 200_000
	// maxBatch keeps one commit far below 20 ms, because acknowledgements wait
	// for it.
	maxBatch = 20_000
	// sealUsually is how many unsealed readings are kept before the oldest are
	// sealed: the more, the fuller the chunks and the longer the start.
	sealUsually = 1_000_000
	// maxUnsealed is where readings come in faster than they can be sealed.
	maxUnsealed = 4_000_000
	// sealFor is how long one slice of sealing goes on; a slice stands between
	// two commits.
	sealFor = 4 * time.Millisecond
	// sealAfter is how long readings are not yet sealed at most while little comes in.
	sealAfter = 10 * time.Minute
	// sealNotBefore leaves the start of the service to what it needs.
	sealNotBefore = 3 * time.Second
	// squeezeEvery is how often sealing everything at once is tried where there
	// was no room even for that, since it may take seconds.
	squeezeEvery = 20 * time.Second
	// vacuumEvery is how often pages that are free are looked for.
	vacuumEvery = 30 * time.Second
	// everyUsually is the expected interval of a series that came without one.
	everyUsually = time.Minute
)

func openTelemetry(path string, o Options) (*Telemetry, error) {
	// The order counts: space can be given back only where that was asked for
	// before the first table.
	pragmas := url.Values{"_pragma": {"auto_vacuum(INCREMENTAL)"}}
	if o.MaxBytes > 0 {
		pragmas.Add("_pragma", fmt.Sprintf("max_page_count(%d)", max(o.MaxBytes/4096, 1)))
	}
	db, err := openDatabase(path, pragmas, telemetryMigrations)
	if err != nil {
		return nil, err
	}
	t := &Telemetry{db: db, streams: map[int64]*stream{}, names: map[string]map[string]*stream{},
		read: queries{db.read}, receipts: map[string]*recent{}, arrivals: map[string][]alarms.Arrival{}, done: make(chan struct{}), answers: make(chan answer, 4), emptied: time.Now(), opened: time.Now()}
	if t.above = o.SealAbove; t.above <= 0 {
		t.above = sealUsually
	}
	t.ready = sync.NewCond(&t.mu)
	t.gather = newGathering(t.wake)
	if err := t.load(o); err != nil {
		return nil, translate(err)
	}
	go t.run()
	go t.answer()
	return t, nil
}

// load reads the series, the receipts, and what is not yet sealed back.
func (t *Telemetry) load(o Options) error {
	rows, err := t.read.rows(context.Background(),
		"SELECT id, device, metric, every, kept, sealed FROM series ORDER BY id")
	if err != nil {
		return err
	}
	defer rows.Close()
	var byID []*stream
	device, metrics := "", map[string]string{} // one copy of each name for all series that have it
	for rows.Next() {
		s := &stream{sorted: true}
		var d, m sql.RawBytes
		if err := rows.Scan(&s.id, &d, &m, &s.every, &s.kept, &s.sealed); err != nil {
			return err
		}
		if string(d) != device {
			device = string(d)
		}
		if _, ok := metrics[string(m)]; !ok {
			metrics[string(m)] = string(m)
		}
		s.device, s.metric = device, metrics[string(m)]
		t.enter(s)
		byID = append(byID, s)
		// Where all records are gone, numbers still go on behind what is sealed.
		t.seq = max(t.seq, s.sealed)
	}
	if err := rows.Err(); err != nil {
		return err
	}
	if err := t.loadReceipts(); err != nil {
		return err
	}
	// There may be millions of readings: records are read by one goroutine and
	// taken apart by another.
	parts := make(chan []record, 8)
	failed := make(chan error, 1)
	go func() {
		defer close(parts)
		failed <- t.eachRecord(func(part []record) { parts <- part })
	}()
	find := finder(byID)
	var bad []record
	var last *stream
	var lastAt, lastArrived int64
	for part := range parts {
		for _, r := range part {
			t.seq = max(t.seq, r.seq)
			before := lastArrived
			if !readRecord(r.data, t.keep, func(id int64, x series.Sample, arrived int64) {
				s := find(id)
				if s == nil {
					return
				}
				if r.seq > s.sealed {
					t.enlist(s, &x, r.seq)
				}
				if last == nil || last.device != s.device || lastAt != x.At || lastArrived != arrived {
					t.arrive(s.device, x.At, arrived)
					last, lastAt, lastArrived = s, x.At, arrived
				}
			}) {
				if r.since == 0 { // an older version wrote it: it came behind the one before
					r.since, r.until = before, before
				}
				bad = append(bad, r)
			}
		}
	}
	t.stats.Unsealed.Store(int64(t.unsealed))
	if err := <-failed; err != nil {
		return err
	}
	if o.looking {
		return nil
	}
	return t.moveAside(bad)
}

// record is a row of records.
type record struct {
	seq          int64
	data         []byte
	n            int64 // readings; 0 where an older version wrote it
	since, until int64 // when they had come, in ms
}

// eachRecord reads all records in their order, some at a time.
func (t *Telemetry) eachRecord(yield func([]record)) error {
	rows, err := t.read.rows(context.Background(), "SELECT seq, data, n, since, until FROM records ORDER BY seq")
	if err != nil {
		return err
	}
	defer rows.Close()
	const size = 64 << 10
	var part []record
	var room []byte
	for rows.Next() {
		var r record
		var data sql.RawBytes
		if err := rows.Scan(&r.seq, &data, &r.n, &r.since, &r.until); err != nil {
			return err
		}
		if len(room)+len(data) > cap(room) {
			if len(part) > 0 {
				yield(part)
			}
			part, room = nil, make([]byte, 0, max(size, len(data)))
		}
		at := len(room)
		room = append(room, data...)
		r.data = room[at:len(room):len(room)]
		part = append(part, r)
	}
	if len(part) > 0 {
		yield(part)
	}
	return rows.Err()
}

// finder returns a function that finds a series by its id, of those in the order
// of their ids. Ids have few gaps, so that it seldom has to search.
func finder(byID []*stream) func(id int64) *stream {
	gap := 0 // how many ids are missing before the place that was found last
	return func(id int64) *stream {
		i := int(id) - 1 - gap
		if i >= 0 && i < len(byID) && byID[i].id == id {
			return byID[i]
		}
		i, ok := slices.BinarySearchFunc(byID, id, func(s *stream, id int64) int { return cmp.Compare(s.id, id) })
		if !ok {
			return nil
		}
		gap = int(id) - 1 - i
		return byID[i]
	}
}

func (t *Telemetry) enter(s *stream) {
	t.streams[s.id] = s
	of := t.names[s.device]
	if of == nil {
		of = map[string]*stream{}
		t.names[s.device] = of
	}
	of[s.metric] = s
}

// enlist adds a reading of a record, the newest one, to what is not yet sealed.
func (t *Telemetry) enlist(s *stream, x *series.Sample, seq int64) {
	if s.n == 0 {
		s.since = seq
		t.dirty = append(t.dirty, s)
	}
	s.add(x)
	t.unsealed++
}

// Append implements ingest.Store.
func (t *Telemetry) Append(a ingest.Append) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.closed {
		return fault.New(fault.Stopping, "the service is stopping").Then("send again in a moment")
	}
	if t.rows+len(a.Readings) > maxQueued || t.stats.Unsealed.Load() > maxUnsealed {
		return fault.New(fault.Overload, "more readings come in than the disk takes").
			Then("send again in a moment; nothing of this message was kept")
	}
	t.queue = append(t.queue, a)
	t.rows += len(a.Readings)
	if t.gather.add(a.Device, a.Patient, len(t.queue) == 1) {
		t.ready.Signal()
	}
	return nil
}

// wake has the writer look whether there is something to do.
func (t *Telemetry) wake() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.ready.Signal()
}

// await waits for something to do, and reports whether what is in the queue is to be
// committed now; the caller holds mu. It may return for nothing.
func (t *Telemetry) await(able bool) bool {
	for !t.closed && len(t.wanted) == 0 && len(t.jobs) == 0 {
		wait := time.Duration(0)
		if len(t.queue) > 0 {
			if wait = t.gather.wait(); wait <= 0 {
				return true
			}
		}
		if able && t.due() { // while others come
			return false
		}
		if wait > 0 {
			t.gather.alarm.Reset(wait)
		}
		t.ready.Wait()
		if len(t.queue) == 0 {
			return false
		}
	}
	return true
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

// run commits and seals until the store is closed.
func (t *Telemetry) run() {
	defer close(t.answers)
	look := time.NewTicker(time.Second)
	defer look.Stop()
	stop := make(chan struct{})
	defer close(stop)
	go func() { // wakes the writer, for what is to be sealed while nothing comes in
		for {
			select {
			case <-look.C:
				t.wake()
			case <-stop:
				return
			}
		}
	}()
	failed := time.Time{}   // when sealing failed last
	squeezed := time.Time{} // when not even sealing everything at once found room
	looked := time.Now()    // when free pages were looked for
	tight := false          // nothing could be stored for want of room
	for {
		able := time.Since(failed) > time.Second
		t.mu.Lock()
		now := t.await(able)
		var next *job
		if len(t.jobs) > 0 {
			next = t.jobs[0]
		}
		var batch []ingest.Append
		rows := 0
		if now {
			batch, rows = t.take()
		}
		wanted := len(t.wanted) > 0
		over := t.closed && len(t.queue) == 0 && len(batch) == 0
		t.mu.Unlock()
		if len(batch) > 0 {
			start := time.Now()
			err := t.commit(batch)
			t.stats.Nanos.Add(uint64(time.Since(start)))
			t.stats.Commits.Add(1)
			if err != nil {
				t.stats.Failures.Add(1)
				tight = tight || fault.Is(err, fault.Full)
			} else {
				t.stats.Readings.Add(uint64(rows))
			}
			t.answers <- answer{batch, err}
		}
		if over {
			t.release()
			t.stopJobs()
			return
		}
		if next != nil {
			if more, err := next.slice(); err != nil || !more {
				t.mu.Lock()
				t.jobs = t.jobs[1:]
				t.mu.Unlock()
				next.end <- err
			}
		}
		if able && len(t.dirty) > 0 && (wanted || t.due()) {
			err := t.seal(t.patience())
			tight = tight || fault.Is(err, fault.Full)
			if err != nil {
				failed, able = time.Now(), false
				t.stats.Failures.Add(1)
			}
		}
		if tight && len(t.dirty) > 0 && time.Since(squeezed) > squeezeEvery {
			if err := t.squeeze(); err != nil {
				t.stats.Failures.Add(1)
				squeezed = time.Now()
			}
		}
		tight = false
		if len(t.dirty) == 0 {
			t.emptied = time.Now()
		}
		if able && time.Since(looked) > vacuumEvery {
			if more, err := t.giveBack(vacuumAbove); err != nil || !more {
				looked = time.Now()
			}
		}
		if len(t.dirty) == 0 || !able {
			t.release()
		}
	}
}

// due reports whether something should be sealed now.
func (t *Telemetry) due() bool {
	if t.above >= sealUsually && t.unsealed < maxUnsealed*3/4 && time.Since(t.opened) < sealNotBefore {
		return false
	}
	return t.unsealed > t.above || len(t.dirty) > 0 && time.Since(t.emptied) > sealAfter
}

// patience is how long the next slice may take: longer, the more is not yet sealed.
func (t *Telemetry) patience() time.Duration {
	return sealFor * time.Duration(1+max(0, t.unsealed-t.above)*8/t.above)
}

func (t *Telemetry) release() {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, c := range t.wanted {
		close(c)
	}
	t.wanted = nil
}

// Seal waits until everything that is stored now is in chunks.
func (t *Telemetry) Seal() {
	c := make(chan struct{})
	t.mu.Lock()
	if t.closed {
		t.mu.Unlock()
		return
	}
	t.wanted = append(t.wanted, c)
	t.ready.Signal()
	t.mu.Unlock()
	<-c
}

// job is work for the writer that is done in slices between commits.
type job struct {
	slice func() (more bool, err error)
	end   chan error
}

// work has a job done and waits for its end.
func (t *Telemetry) work(slice func() (more bool, err error)) error {
	j := &job{slice, make(chan error, 1)}
	t.mu.Lock()
	if t.closed {
		t.mu.Unlock()
		return fault.New(fault.Stopping, "the service is stopping")
	}
	t.jobs = append(t.jobs, j)
	t.ready.Signal()
	t.mu.Unlock()
	return <-j.end
}

func (t *Telemetry) stopJobs() {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, j := range t.jobs {
		j.end <- fault.New(fault.Stopping, "the service is stopping")
	}
	t.jobs = nil
}

// take takes the next batch from the queue; the caller holds mu.
func (t *Telemetry) take() (batch []ingest.Append, rows int) {
	n := 0
	for n < len(t.queue) && (n == 0 || rows+len(t.queue[n].Readings) <= maxBatch) {
		rows += len(t.queue[n].Readings)
		n++
	}
	if n == 0 {
		return nil, 0
	}
	batch = slices.Clone(t.queue[:n])
	rest := copy(t.queue, t.queue[n:])
	clear(t.queue[rest:])
	t.queue = t.queue[:rest]
	t.rows -= rows
	t.gather.taken(func(yield func(string) bool) {
		for i := range batch {
			if !yield(batch[i].Device) {
				return
			}
		}
	}, rest > 0)
	return batch, rows
}

// queries runs statements that are written out, on a pool or on a transaction.
// GORM prepares each once and keeps as many as Options of the pool say.
type queries struct{ db *gorm.DB }

func (q queries) rows(ctx context.Context, s string, args ...any) (*sql.Rows, error) {
	return q.db.WithContext(ctx).Raw(s, args...).Rows()
}

// row is one row at most; Scan says sql.ErrNoRows where there is none.
func (q queries) row(ctx context.Context, s string, args ...any) *sql.Row {
	return q.db.WithContext(ctx).Raw(s, args...).Row()
}

// The statements that run with each commit, and for each series that is sealed.
const (
	insertRecord  = "INSERT INTO records (seq, data, n, since, until) VALUES (?, ?, ?, ?, ?)"
	deleteRecords = "DELETE FROM records WHERE seq < ?"
	updateSealed  = "UPDATE series SET sealed = ? WHERE id = ?"
	insertChunk   = "INSERT OR REPLACE INTO chunks (key, n, till, data) VALUES (?, ?, ?, ?)"
	deleteChunk   = "DELETE FROM chunks WHERE key = ?"
	chunkBefore   = "SELECT key, n, till, data FROM chunks WHERE key >= ? AND key <= ? ORDER BY key DESC LIMIT 1"
	chunkBehind   = "SELECT key, n, till, data FROM chunks WHERE key > ? AND key <= ? ORDER BY key LIMIT 1"
	insertRollups = "INSERT OR REPLACE INTO rollups (key, data) VALUES (?, ?)"
	deleteRollups = "DELETE FROM rollups WHERE key = ?"
	selectRollups = "SELECT data FROM rollups WHERE key >= ? AND key <= ? ORDER BY key"
)

// exec runs a statement of the open transaction. What runs often goes past GORM's
// own way to its pool, which prepares each statement once: GORM writes the text
// of a statement anew whenever it runs.
func (t *Telemetry) exec(q string, args ...any) error {
	_, err := t.tx.db.Statement.ConnPool.ExecContext(context.Background(), q, args...)
	return err
}

func (t *Telemetry) queryRows(q string, args ...any) (*sql.Rows, error) {
	return t.tx.db.Statement.ConnPool.QueryContext(context.Background(), q, args...)
}

func (t *Telemetry) queryRow(q string, args ...any) *sql.Row {
	return t.tx.db.Statement.ConnPool.QueryRowContext(context.Background(), q, args...)
}

// transaction runs f in a transaction of the writer. On failure nothing of it
// is kept.
func (t *Telemetry) transaction(f func() error) error {
	err := t.db.write.Transaction(func(tx *gorm.DB) error {
		t.tx = queries{tx}
		defer func() { t.tx = queries{} }()
		return f()
	})
	return translate(err)
}

// commit writes one record of a batch, and takes the readings in once it is on
// disk.
func (t *Telemetry) commit(batch []ingest.Append) error {
	total := 0
	for i := range batch {
		total += len(batch[i].Readings)
	}
	in := t.in[:0]
	defer func() {
		clear(in)
		if t.in = in[:0]; cap(in) > 2*maxBatch {
			t.in = nil
		}
	}()
	var added []*stream
	seq := t.seq + 1
	since, until := arrivedAt(&batch[0]), int64(0)
	if err := t.transaction(func() error {
		t.record.reset()
		for i := range batch {
			a := &batch[i]
			since, until = min(since, arrivedAt(a)), max(until, arrivedAt(a))
			t.record.begin(a.Device, a.Receipt, arrivedAt(a), len(a.Readings))
			of := t.names[a.Device] // only the writer changes the maps
			for k := range a.Readings {
				r := &a.Readings[k]
				s := of[r.Metric]
				if s == nil {
					var err error
					if s, err = t.addStream(&added, a, r.Metric); err != nil {
						return err
					}
				}
				x := series.Sample{At: r.At.UnixMilli(), Value: r.Value, Quality: r.Quality, DeviceAt: ms(r.DeviceAt)}
				t.record.reading(s.id, &x)
				in = append(in, arrival{s, x})
			}
		}
		return t.exec(insertRecord, seq, t.record.end(), total, since, until)
	}); err != nil {
		return err
	}
	t.seq = seq
	t.unsealedMu.Lock()
	for _, s := range added {
		t.enter(s)
	}
	for i := range in {
		t.enlist(in[i].s, &in[i].x, t.seq)
	}
	t.unsealedMu.Unlock()
	for i := range batch {
		if batch[i].Receipt != 0 {
			t.keep(batch[i].Device, batch[i].Receipt, arrivedAt(&batch[i]))
		}
	}
	t.stats.Unsealed.Store(int64(t.unsealed))
	return nil
}

// arrivedAt returns when a message came; where nobody said, the time of its
// first reading.
func arrivedAt(a *ingest.Append) int64 {
	switch {
	case !a.Arrived.IsZero():
		return a.Arrived.UnixMilli()
	case len(a.Readings) == 0:
		return time.Now().UnixMilli()
	}
	return a.Readings[0].At.UnixMilli()
}

// unevaluatedFor is how far back arrivals are told at a start. What rules have
// seen is stored twice a minute, so what came before that was evaluated.
const unevaluatedFor = 5 * 60_000

// arrive notes when a reading came that is read back at the start.
func (t *Telemetry) arrive(device string, at, arrived int64) {
	t.newest = max(t.newest, arrived)
	if arrived < t.newest-unevaluatedFor {
		return
	}
	of := t.arrivals[device]
	if n := len(of); n > 0 && of[n-1] == (alarms.Arrival{At: at, Arrived: arrived}) {
		return
	}
	t.arrivals[device] = append(of, alarms.Arrival{At: at, Arrived: arrived})
}

// Arrivals tells alarms when readings had come. It answers once, since nobody needs them
// after the start.
func (t *Telemetry) Arrivals() map[string][]alarms.Arrival {
	all := t.arrivals
	t.arrivals = nil
	for device, of := range all {
		all[device] = slices.DeleteFunc(of, func(a alarms.Arrival) bool { return a.Arrived < t.newest-unevaluatedFor })
	}
	return all
}

func (t *Telemetry) addStream(added *[]*stream, a *ingest.Append, metric string) (*stream, error) {
	for _, s := range *added {
		if s.device == a.Device && s.metric == metric {
			return s, nil
		}
	}
	// An id may have been that of a series which was deleted: records of before
	// are none of it.
	s := &stream{device: a.Device, metric: metric, every: a.Every.Milliseconds(), sorted: true, sealed: t.seq}
	if s.every <= 0 {
		s.every = everyUsually.Milliseconds()
	}
	err := t.tx.row(context.Background(), "INSERT INTO series (device, metric, every, sealed) VALUES (?, ?, ?, ?) RETURNING id",
		s.device, s.metric, s.every, s.sealed).Scan(&s.id)
	if err != nil {
		return nil, err
	}
	if s.id > maxSeries {
		err = fault.New(fault.Full, "there are %d series, and no more are kept in one store", maxSeries)
	}
	*added = append(*added, s)
	return s, err
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
	return t.db.close()
}

func point(x *series.Sample) series.Point {
	p := series.Point{At: value.FromMillis(x.At), Value: x.Value, Quality: x.Quality}
	if x.DeviceAt != 0 {
		p.DeviceAt = value.FromMillis(x.DeviceAt)
	}
	return p
}
