// Package noun keeps the things that people make, such as sites: it holds them
// in memory, checks and commits what changes, tells it as facts, and refuses a
// change of something that somebody else has changed meanwhile.
package noun

import (
	"context"
	"slices"
	"strings"
	"time"

	"ullage/core/record"
	"ullage/core/value"
	"ullage/fleet/commit"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
)

// If is a condition on the state of a thing that is changed (RFC 9110, section
// 13). The zero If holds always.
type If struct {
	Match []string // tags of which the thing must have one; "*" for any
	New   bool     // the thing must not exist
}

// Holds returns a conflict if the condition does not hold for a thing with a
// tag; an empty tag is that of a thing that does not exist.
func (i If) Holds(word, name, tag string) error {
	switch {
	case i.New && tag != "":
		return fault.New(fault.Unmet, "the %s %s exists already", word, name).
			Then("change it by its tag, or choose another name").On(word)
	case len(i.Match) == 0:
		return nil
	case tag == "":
		return fault.New(fault.Unmet, "the %s %s does not exist any more", word, name).Then("look at the list again").
			On(word)
	case slices.Contains(i.Match, tag), slices.Contains(i.Match, "*"):
		return nil
	}
	return fault.New(fault.Unmet, "the %s %s was changed by somebody else since it was read", word, name).
		Then("read it again and make the change on top of that").On(word)
}

// Options are what a Register is made of.
type Options[T any] struct {
	Word string // what one is called, as in site
	// Name is the key of a thing.
	Name func(T) string
	// Check checks a thing alone; nil for nothing.
	Check func(T) error
	// Within checks a change against everything else, and makes what follows from
	// it; it runs in the writer. Next is nil for one that is removed, old for a new
	// one. It may be nil.
	Within func(tx *commit.Tx, old, next *T) error
	// Told is called with Within, and with who changes it; nil for nothing.
	Told func(tx *commit.Tx, old, next *T, by string)
	// After is called after the commit of a change; nil for nothing.
	After func(old, next *T)
	// Most is how many there may be; 10,000 if it is zero.
	Most    int
	Stored  []T
	Commits *commit.Writer
	Now     func() time.Time
}

// Register holds every thing of one noun. It answers from memory.
type Register[T any] struct {
	o     Options[T]
	table *commit.Table[string, T]
}

// New returns a Register of what is stored.
func New[T any](o Options[T]) *Register[T] {
	if o.Most == 0 {
		o.Most = 10_000
	}
	rows := make(map[string]T, len(o.Stored))
	for _, x := range o.Stored {
		rows[o.Name(x)] = x
	}
	return &Register[T]{o: o, table: commit.NewTable(rows)}
}

// Saved is what became of a change.
type Saved[T any] struct {
	Value   T
	Created bool
	Changed bool // false if it was so already
}

// List returns every thing, by name.
func (r *Register[T]) List() []T {
	out := make([]T, 0, r.table.Len())
	for _, x := range r.table.All() {
		out = append(out, x)
	}
	slices.SortFunc(out, func(a, b T) int { return strings.Compare(r.o.Name(a), r.o.Name(b)) })
	return out
}

// Find returns a thing, and whether there is one.
func (r *Register[T]) Find(name string) (T, bool) { return r.table.Get(name) }

// In returns the things as the use cases before have left them, but for those that
// are new in this commit.
func (r *Register[T]) In(tx *commit.Tx) []T {
	var out []T
	for _, x := range r.List() {
		if x, held := r.table.In(tx, r.o.Name(x)); held {
			out = append(out, x)
		}
	}
	return out
}

// FindIn is Find as the use cases before have left it.
func (r *Register[T]) FindIn(tx *commit.Tx, name string) (T, bool) { return r.table.In(tx, name) }

// Get returns a thing, or a fault if there is none.
func (r *Register[T]) Get(name string) (T, error) {
	x, ok := r.table.Get(name)
	if !ok {
		return x, r.Unknown(name)
	}
	return x, nil
}

// Unknown is the error about a thing that does not exist.
func (r *Register[T]) Unknown(name string) error {
	return fault.New(fault.NotFound, "there is no %s %q", r.o.Word, value.Clip(name, 63)).On(r.o.Word)
}

// Put makes a thing, or changes the one of its name.
func (r *Register[T]) Put(ctx context.Context, x T, cond If, by string) (out Saved[T], err error) {
	if err := r.check(x); err != nil {
		return out, err
	}
	err = r.o.Commits.Do(ctx, func(tx *commit.Tx) error {
		out, err = r.stage(tx, x, cond, by)
		return err
	})
	return out, err
}

func (r *Register[T]) check(x T) error {
	if r.o.Check == nil {
		return nil
	}
	if err := r.o.Check(x); err != nil {
		if f := fault.From(err); f.Code != fault.Internal {
			return f
		}
		return fault.New(fault.Invalid, "%s", err).On(r.o.Word)
	}
	return nil
}

// Stage makes and changes things in the commit of tx.
func (r *Register[T]) Stage(tx *commit.Tx, xs []T, by string) error {
	for _, x := range xs {
		if err := r.check(x); err != nil {
			return err
		}
		if _, err := r.stage(tx, x, If{}, by); err != nil {
			return err
		}
	}
	return nil
}

// StageUntold makes one thing in the commit of tx, of which whoever asks for it tells
// more than that it was made.
func (r *Register[T]) StageUntold(tx *commit.Tx, x T) error {
	if err := r.check(x); err != nil {
		return err
	}
	tx.Put(x)
	r.table.Set(tx, r.o.Name(x), x)
	return nil
}

func (r *Register[T]) stage(tx *commit.Tx, x T, cond If, by string) (Saved[T], error) {
	name := r.o.Name(x)
	old, had := r.table.In(tx, name)
	tag := ""
	if had {
		tag = record.Tag(old)
	}
	out := Saved[T]{Value: x, Created: !had}
	if err := cond.Holds(r.o.Word, name, tag); err != nil {
		return out, err
	}
	if had && record.Tag(x) == tag {
		return out, nil
	}
	out.Changed = true
	var before *T
	if had {
		before = &old
	} else if r.table.Len() >= r.o.Most {
		return out, fault.New(fault.TooMany, "there are %d %ss already, which is the most", r.o.Most, r.o.Word).
			Then("remove one first")
	}
	return out, r.change(tx, name, before, &x, by)
}

// change puts one change into a commit: the record, the fact, what follows.
func (r *Register[T]) change(tx *commit.Tx, name string, old, next *T, by string) error {
	if r.o.Within != nil {
		if err := r.o.Within(tx, old, next); err != nil {
			return err
		}
	}
	if r.o.Told != nil {
		r.o.Told(tx, old, next, by)
	}
	what := fact.Changed{Noun: r.o.Word, Name: name}
	switch {
	case next == nil:
		what.Done = fact.Removed
		tx.Put(commit.Delete{Record: *old})
		r.table.Drop(tx, name)
	case old == nil:
		what.Done = fact.Made
		tx.Put(*next)
		r.table.Set(tx, name, *next)
	default:
		what.Done, what.Fields = fact.Saved, record.Difference(*old, *next)
		tx.Put(*next)
		r.table.Set(tx, name, *next)
	}
	tx.Tell(fact.New(r.o.Now(), what).By(by))
	if r.o.After != nil {
		tx.After(func() { r.o.After(old, next) })
	}
	return nil
}

// StageRemove takes a thing out in the commit of tx.
func (r *Register[T]) StageRemove(tx *commit.Tx, name, by string) error {
	old, had := r.table.In(tx, name)
	if !had {
		return r.Unknown(name)
	}
	return r.change(tx, name, &old, nil, by)
}

// Remove takes a thing out.
func (r *Register[T]) Remove(ctx context.Context, name string, cond If, by string) error {
	return r.o.Commits.Do(ctx, func(tx *commit.Tx) error {
		old, had := r.table.In(tx, name)
		if !had {
			_, err := r.Get(name)
			return err
		}
		if err := cond.Holds(r.o.Word, name, record.Tag(old)); err != nil {
			return err
		}
		return r.change(tx, name, &old, nil, by)
	})
}
