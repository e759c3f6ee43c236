package commit_test

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"reflect"
	"sync"
	"testing"
	"time"

	"ullage/fleet/commit"
	"ullage/fleet/fault"
)

// disk is a Store in memory that can be made to fail.
type disk struct {
	mu      sync.Mutex
	commits int
	records []any
	refuse  func([]*commit.Tx) error
	gate    chan struct{} // where it is not nil a commit waits for it
}

func (d *disk) Commit(txs []*commit.Tx) error {
	if d.gate != nil {
		<-d.gate
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.refuse != nil {
		if err := d.refuse(txs); err != nil {
			return err
		}
	}
	d.commits++
	for _, tx := range txs {
		d.records = append(d.records, tx.Records...)
	}
	return nil
}

func TestManyUseCasesShareACommit(t *testing.T) {
	d := &disk{gate: make(chan struct{})}
	w := commit.NewWriter(d, nil)
	table := commit.NewTable[string, int](nil)
	var ends sync.WaitGroup
	var order []int
	for i := range 100 {
		ends.Add(1)
		w.Go(func(tx *commit.Tx) error {
			n, _ := table.In(tx, "n") // sees those before it
			table.Set(tx, "n", n+1)
			tx.Put(i)
			if v, ok := table.Get("n"); ok && v >= n+1 {
				t.Errorf("%d is seen before it is committed", v)
			}
			tx.After(func() { order = append(order, i) })
			return nil
		}, func(err error) {
			if err != nil {
				t.Error(err)
			}
			ends.Done()
		})
	}
	close(d.gate)
	ends.Wait()
	w.Close()
	if v, _ := table.Get("n"); v != 100 || len(d.records) != 100 || d.commits > 5 {
		t.Errorf("n is %d after %d commits of %d records", v, d.commits, len(d.records))
	}
	for i, x := range order {
		if x != i {
			t.Fatalf("the order is %v", order)
		}
	}
}

func TestAFailedUseCaseLeavesNothing(t *testing.T) {
	d := &disk{}
	w := commit.NewWriter(d, nil)
	defer w.Close()
	table := commit.NewTable(map[string]int{"kept": 1})
	no := errors.New("no")
	for name, run := range map[string]func(tx *commit.Tx) error{
		"error": func(tx *commit.Tx) error {
			table.Set(tx, "kept", 2)
			table.Set(tx, "kept", 3)
			table.Set(tx, "new", 4)
			table.Drop(tx, "kept")
			tx.Put("x")
			tx.After(func() { t.Error("After is called") })
			return no
		},
		"panic": func(tx *commit.Tx) error {
			table.Set(tx, "new", 5)
			panic("at the disco")
		},
	} {
		err := w.Do(context.Background(), run)
		if err == nil || name == "error" && !errors.Is(err, no) || name == "panic" && !fault.Is(err, fault.Internal) {
			t.Errorf("%s: %v", name, err)
		}
		if err := w.Do(context.Background(), func(tx *commit.Tx) error {
			if _, there := table.In(tx, "new"); there {
				t.Errorf("%s: the next use case sees what failed", name)
			}
			return nil
		}); err != nil {
			t.Error(err)
		}
	}
	if v, ok := table.Get("kept"); v != 1 || !ok || table.Len() != 1 || len(d.records) != 0 {
		t.Errorf("left are %d, %v, %d rows and %v", v, ok, table.Len(), d.records)
	}
}

// TestAgainstOneByOne runs random use cases, some of which fail by themselves
// and some of which cannot be stored, in shared commits and one by one: what is
// left, what is answered and what is stored must be the same.
func TestAgainstOneByOne(t *testing.T) {
	type state struct {
		table   map[string]int
		answers []string
		stored  []any
	}
	play := func(seed uint64, together bool) state {
		r := rand.New(rand.NewPCG(seed, 1))
		d := &disk{refuse: func(txs []*commit.Tx) error {
			for _, tx := range txs {
				for _, x := range tx.Records {
					if x.(int)%17 == 3 {
						return fault.New(fault.Full, "no room for %v", x)
					}
				}
			}
			return nil
		}}
		if together {
			d.gate = make(chan struct{}, 1000)
		}
		w := commit.NewWriter(d, nil)
		table := commit.NewTable[string, int](nil)
		out := state{answers: make([]string, 60)}
		for i := range 60 {
			key, add, fails := fmt.Sprint(r.IntN(4)), r.IntN(50), r.IntN(9) == 0
			w.Go(func(tx *commit.Tx) error {
				n, ok := table.In(tx, key)
				if ok && n > 150 {
					table.Drop(tx, key)
					tx.Put(n)
					return nil
				}
				table.Set(tx, key, n+add)
				tx.Put(n + add)
				if fails {
					return errors.New("of itself")
				}
				return nil
			}, func(err error) { out.answers[i] = fmt.Sprint(err) })
			if !together {
				w.Settle()
			}
		}
		if together {
			close(d.gate)
		}
		w.Close()
		out.table = map[string]int{}
		for k, v := range table.All() {
			out.table[k] = v
		}
		out.stored = d.records
		return out
	}
	refused := false
	for seed := range uint64(40) {
		one, many := play(seed, false), play(seed, true)
		if !reflect.DeepEqual(one, many) {
			t.Fatalf("seed %d:\none by one %+v\ntogether   %+v", seed, one, many)
		}
		for _, a := range one.answers {
			refused = refused || a == "no room for 3" || a == "no room for 20" || a == "no room for 37"
		}
	}
	if !refused {
		t.Error("nothing was ever refused by the store, so nothing was tested")
	}
}

func TestClosedAndFull(t *testing.T) {
	d := &disk{gate: make(chan struct{})}
	w := commit.NewWriter(d, nil)
	nothing := func(tx *commit.Tx) error { tx.Put(1); return nil }
	overloaded := 0
	for range 60_000 {
		w.Go(nothing, func(err error) {
			if fault.Is(err, fault.Overload) {
				overloaded++
			}
		})
	}
	if overloaded == 0 {
		t.Error("the queue has no end")
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Millisecond)
	defer cancel()
	if err := w.Do(ctx, nothing); err == nil {
		t.Error("waiting did not end with its context")
	}
	close(d.gate)
	w.Close()
	if err := w.Do(context.Background(), nothing); !fault.Is(err, fault.Stopping) {
		t.Errorf("a closed writer says %v", err)
	}
}
