package commit

import (
	"iter"
	"sync"
)

// Table holds records by their key. Everybody reads what is committed; use
// cases read and change what will be.
type Table[K comparable, V any] struct {
	mu   sync.RWMutex
	rows map[K]V

	staged map[K]staged[V] // the writer's alone
}

type staged[V any] struct {
	value V
	gone  bool
	by    *Tx
}

// NewTable returns a Table that holds some rows from the beginning.
func NewTable[K comparable, V any](rows map[K]V) *Table[K, V] {
	if rows == nil {
		rows = map[K]V{}
	}
	return &Table[K, V]{rows: rows, staged: map[K]staged[V]{}}
}

// Get returns the committed row of a key.
func (t *Table[K, V]) Get(k K) (V, bool) {
	t.mu.RLock()
	defer t.mu.RUnlock()
	v, ok := t.rows[k]
	return v, ok
}

// Len returns how many rows are committed.
func (t *Table[K, V]) Len() int {
	t.mu.RLock()
	defer t.mu.RUnlock()
	return len(t.rows)
}

// All yields the committed rows, in no order. The table is locked meanwhile.
func (t *Table[K, V]) All() iter.Seq2[K, V] {
	return func(yield func(K, V) bool) {
		t.mu.RLock()
		defer t.mu.RUnlock()
		for k, v := range t.rows {
			if !yield(k, v) {
				return
			}
		}
	}
}

// In returns the row of a key as the use cases before have left it.
func (t *Table[K, V]) In(_ *Tx, k K) (V, bool) {
	if s, ok := t.staged[k]; ok {
		return s.value, !s.gone
	}
	return t.Get(k)
}

// Set changes a row with the commit of tx.
func (t *Table[K, V]) Set(tx *Tx, k K, v V) { t.stage(tx, k, staged[V]{value: v, by: tx}) }

// Drop takes a row out with the commit of tx.
func (t *Table[K, V]) Drop(tx *Tx, k K) { t.stage(tx, k, staged[V]{gone: true, by: tx}) }

func (t *Table[K, V]) stage(tx *Tx, k K, s staged[V]) {
	old, had := t.staged[k]
	t.staged[k] = s
	tx.undo = append(tx.undo, func() {
		if had {
			t.staged[k] = old
		} else {
			delete(t.staged, k)
		}
	})
	tx.After(func() {
		t.mu.Lock()
		if s.gone {
			delete(t.rows, k)
		} else {
			t.rows[k] = s.value
		}
		t.mu.Unlock()
		if t.staged[k].by == tx {
			delete(t.staged, k)
		}
	})
}
