// Package commit lets changes of records share commits to disk: many use cases
// in one flush, each whole or not at all. Nobody waits for a flush while holding
// a lock.
//
// A use case is a function of a Tx. It runs in the writer, one after another,
// and sees what the use cases before it have changed, also in this commit. It
// checks, puts records, tells facts, and changes tables; none of that is seen by
// others before it is on disk. After the commit the tables change and After is
// called, in order. A use case that fails leaves nothing behind, and those that
// share its commit go on.
package commit

import (
	"context"
	"runtime"
	"sync"
	"sync/atomic"
	"time"

	"ullage/fleet/fact"
	"ullage/fleet/fault"
)

// Validity says what something was from a time on, until it is told again. An
// empty Value says that it is over.
type Validity struct {
	Kind    ValidityKind
	Subject string // a device, or a group
	Key     string // the rule, label or setting; empty for link, status and version
	From    time.Time
	Value   string
}

// ValidityKind is what is followed over time.
type ValidityKind string

// The kinds of validity.
const (
	Link    ValidityKind = "link"
	Alarm   ValidityKind = "alarm"
	Setting ValidityKind = "setting"
	Label   ValidityKind = "label"
	Version ValidityKind = "version"
	Status  ValidityKind = "status"
	// Firmware is what a device says that it runs.
	Firmware ValidityKind = "firmware"
	// Maintenance is a maintenance as people have made it, in JSON; the subject is its name.
	Maintenance ValidityKind = "maintenance"
)

// Tx is one use case's part of a commit.
type Tx struct {
	Records  []any // what to store; the last one of a key stands
	Facts    []fact.Fact
	Validity []Validity

	from  string // address of who asks
	after []func()
	undo  []func()
}

// Put stores records of the types that the store knows.
func (t *Tx) Put(records ...any) { t.Records = append(t.Records, records...) }

// Tell adds facts. Those of somebody get the address that they ask from.
func (t *Tx) Tell(fs ...fact.Fact) {
	for _, f := range fs {
		if f.Person != "" && f.From == "" {
			f.From = t.from
		}
		t.Facts = append(t.Facts, f)
	}
}

type fromKey struct{}

// From returns a context whose use cases are asked for from an address.
func From(ctx context.Context, address string) context.Context {
	return context.WithValue(ctx, fromKey{}, address)
}

// Hold notes what is so from now on.
func (t *Tx) Hold(vs ...Validity) { t.Validity = append(t.Validity, vs...) }

// After has f called once the commit is on disk, in order. It must be quick.
func (t *Tx) After(f func()) { t.after = append(t.after, f) }

// Undo has f called if the use case fails, or the commit.
func (t *Tx) Undo(f func()) { t.undo = append(t.undo, f) }

func (t *Tx) empty() bool { return len(t.Records)+len(t.Facts)+len(t.Validity) == 0 }

func (t *Tx) revert() {
	for i := len(t.undo) - 1; i >= 0; i-- {
		t.undo[i]()
	}
	*t = Tx{}
}

// Store writes what some use cases came to in one transaction: all of it or
// nothing. It numbers the facts in their order, also those in the Tx.
type Store interface {
	Commit([]*Tx) error
}

// Delete is a record whose row goes away; Record says which by its key.
type Delete struct{ Record any }

// The bounds of a commit.
const (
	// maxQueued is how many use cases may wait.
	maxQueued = 50_000
	// slice is how long use cases are gathered for one commit at most, and
	// maxRecords how much they may come to. Both are small, because a reading that
	// arrives meanwhile may have to wait for a core that long.
	slice      = 2 * time.Millisecond
	maxRecords = 120
	// rest is the pause behind a commit of busy records or more: the disk and the
	// cores are the readings' then.
	rest = 1 * time.Millisecond
	busy = 50
)

// Writer runs use cases. Make one with NewWriter.
type Writer struct {
	store Store
	news  *fact.News

	mu     sync.Mutex
	ready  *sync.Cond
	queue  []job
	open   int // use cases that are not answered yet
	closed bool
	done   chan struct{}

	commits, cases atomic.Uint64
}

type job struct {
	run  func(*Tx) error
	done func(error)
}

// NewWriter returns a running Writer. News, which may be nil, is told of facts
// that are on disk.
func NewWriter(s Store, news *fact.News) *Writer {
	w := &Writer{store: s, news: news, done: make(chan struct{})}
	w.ready = sync.NewCond(&w.mu)
	go w.loop()
	return w
}

// Go queues a use case and returns at once. Done, which may be nil, is called
// once, after the commit or the failure; it must be quick. Use cases run in the
// order of Go.
func (w *Writer) Go(run func(*Tx) error, done func(error)) {
	w.mu.Lock()
	var refused error
	switch {
	case w.closed:
		refused = fault.New(fault.Stopping, "the service is stopping").Then("try again in a moment")
	case w.open >= maxQueued:
		refused = fault.New(fault.Overload, "more changes come in than the disk takes").
			Then("try again in a moment; nothing of this one was kept")
	default:
		w.queue = append(w.queue, job{run, done})
		w.open++
		w.ready.Signal()
	}
	w.mu.Unlock()
	if refused != nil && done != nil {
		done(refused)
	}
}

// Do runs a use case and waits for its commit. Where ctx ends before, the use
// case may be committed all the same. It must not be called within a use case,
// nor under a lock that one takes.
func (w *Writer) Do(ctx context.Context, run func(*Tx) error) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	end := make(chan error, 1)
	from, _ := ctx.Value(fromKey{}).(string)
	w.Go(func(tx *Tx) error { tx.from = from; return run(tx) }, func(err error) { end <- err })
	select {
	case err := <-end:
		return err
	case <-ctx.Done():
		return ctx.Err()
	}
}

// Settle waits until what was queued so far is committed.
func (w *Writer) Settle() { _ = w.Do(context.Background(), func(*Tx) error { return nil }) }

// Waiting returns how many use cases wait.
func (w *Writer) Waiting() int {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.open
}

// Counts returns how many commits there were, and of how many use cases.
func (w *Writer) Counts() (commits, cases uint64) { return w.commits.Load(), w.cases.Load() }

// Close commits what is queued and takes no more.
func (w *Writer) Close() {
	w.mu.Lock()
	w.closed = true
	w.ready.Signal()
	w.mu.Unlock()
	<-w.done
}

func (w *Writer) loop() {
	defer close(w.done)
	for {
		w.mu.Lock()
		for len(w.queue) == 0 && !w.closed {
			w.ready.Wait()
		}
		batch := w.queue
		w.queue = nil
		w.mu.Unlock()
		if len(batch) == 0 {
			return
		}
		for len(batch) > 0 {
			n, size := w.commit(batch)
			batch = batch[n:]
			w.mu.Lock()
			w.open -= n
			closed := w.closed
			w.mu.Unlock()
			if size >= busy && !closed {
				time.Sleep(rest)
			}
		}
	}
}

// attempt is a use case on its way into a commit.
type attempt struct {
	job
	tx  *Tx
	err error // its own
}

func (a *attempt) run() {
	a.tx = &Tx{}
	if a.err = run(a.job.run, a.tx); a.err != nil {
		a.tx.revert()
	}
}

// commit runs as many use cases as fit into one commit, and returns how many,
// and to how many records they came.
func (w *Writer) commit(batch []job) (n, size int) {
	begun := time.Now()
	all := make([]*attempt, 0, min(len(batch), maxRecords))
	txs := make([]*Tx, 0, min(len(batch), maxRecords))
	for len(all) < len(batch) && size < maxRecords && (len(all) == 0 || time.Since(begun) < slice) {
		a := &attempt{job: batch[len(all)]}
		a.run()
		all = append(all, a)
		runtime.Gosched() // readings that have come meanwhile go first
		if a.err == nil && !a.tx.empty() {
			size += len(a.tx.Records) + len(a.tx.Facts) + len(a.tx.Validity)
			txs = append(txs, a.tx)
		}
	}
	var err error
	if len(txs) > 0 {
		err = w.store.Commit(txs)
		w.commits.Add(1)
	}
	if err != nil {
		for i := len(all) - 1; i >= 0; i-- {
			all[i].tx.revert()
		}
		if len(all) > 1 {
			w.oneByOne(all)
			return len(all), size
		}
		all[0].err = err
	}
	for _, a := range all {
		w.finish(a)
	}
	return len(all), size
}

// oneByOne commits use cases that could not be stored together. One of them must
// not take the others with it, so each is run again from the beginning, since it
// may have seen what another had done; also those that failed.
func (w *Writer) oneByOne(all []*attempt) {
	for _, a := range all {
		if a.run(); a.err == nil && !a.tx.empty() {
			if a.err = w.store.Commit([]*Tx{a.tx}); a.err != nil {
				a.tx.revert()
			}
			w.commits.Add(1)
		}
		w.finish(a)
	}
}

// finish changes what is in memory and answers.
func (w *Writer) finish(a *attempt) {
	if a.err == nil {
		w.cases.Add(1)
		for _, f := range a.tx.after {
			f()
		}
		if w.news != nil && len(a.tx.Facts) > 0 {
			w.news.Add(a.tx.Facts...)
		}
	}
	if a.done != nil {
		a.done(a.err)
	}
}

// run calls a use case; a panic in it is its failure and not that of all.
func run(f func(*Tx) error, tx *Tx) (err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fault.Panicked(r)
		}
	}()
	return f(tx)
}
