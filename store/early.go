package store

import (
	"context"
	"sync"
)

// early has records that a start asks for read before it does, by another core: most of a
// start is to make records of rows, and they are asked for one kind after the other. What was
// read is good until the first commit.
type early struct {
	mu   sync.Mutex
	of   map[any]any // *coming of its records, by kind
	done sync.WaitGroup
}

type coming[Record any] struct {
	read chan struct{} // closed when it is there
	all  []Record
	err  error
}

// begin reads kinds, in their order.
func (e *early) begin(r *Records) {
	reads := []func(){expect(r, settingKind), expect(r, detectionKind)}
	e.done.Go(func() {
		for _, read := range reads {
			read()
		}
	})
}

// forget drops what was read; there is something newer.
func (e *early) forget() {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.of = nil
}

// expect says that a kind will be asked for, and returns what reads it.
func expect[Record any, Key comparable, Row any](r *Records, k *kind[Record, Key, Row]) (read func()) {
	c := &coming[Record]{read: make(chan struct{})}
	r.early.mu.Lock()
	defer r.early.mu.Unlock()
	if r.early.of == nil {
		r.early.of = map[any]any{}
	}
	r.early.of[k] = c
	return func() {
		defer close(c.read)
		c.all, c.err = found(r, k, r.db.read.WithContext(context.Background()))
	}
}

// came returns the records of a kind that were read early, for the first who asks.
func came[Record any, Key comparable, Row any](ctx context.Context, r *Records, k *kind[Record, Key, Row]) ([]Record, bool) {
	r.early.mu.Lock()
	c, expected := r.early.of[k].(*coming[Record])
	delete(r.early.of, k)
	r.early.mu.Unlock()
	if !expected {
		return nil, false
	}
	select {
	case <-c.read:
		return c.all, c.err == nil // what failed is asked for again, and may say why
	case <-ctx.Done():
		return nil, false
	}
}
