// Package links makes facts of what becomes of the links of devices: that one
// was heard for the first time, fell silent, or is back.
package links

import (
	"log/slog"
	"slices"
	"sync"
	"time"

	"ullage/core/health"
	"ullage/fleet/commit"
	"ullage/fleet/event"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
)

// Links writes facts about links. Make one with New and give Handle to the bus.
type Links struct {
	commits *commit.Writer
	log     *slog.Logger

	mu    sync.Mutex
	flaps map[string]*flap
}

// New returns a Links.
func New(w *commit.Writer, log *slog.Logger) *Links {
	return &Links{commits: w, log: log, flaps: map[string]*flap{}}
}

// flap damps a device that comes and goes: of more than maxTold changes within
// an hour the further ones are counted, and told with the next that is.
type flap struct {
	since        time.Time
	told, silent int
	at           time.Time // of the newest change
}

const (
	maxTold    = 12
	retryAfter = 2 * time.Second
)

// Handle makes facts of changed links.
func (l *Links) Handle(_ int, e event.Event) {
	ev, ok := e.(event.Link)
	if !ok {
		return
	}
	if ev.Told {
		before, tell := l.allow(ev)
		l.store(ev, before, tell)
	}
}

// store writes a change. What the store does not take is tried again, so that
// what is told of a link and what is shown of it do not part.
func (l *Links) store(ev event.Link, before int, told bool) {
	link := ev.Link
	if link != health.Silent || ev.First { // one that begins with its backlog is there
		link = health.Online
	}
	l.commits.Go(func(tx *commit.Tx) error {
		tx.Hold(commit.Validity{Kind: commit.Link, Subject: ev.Device, From: ev.At, Value: string(link)})
		if told {
			c := fact.Link{Link: string(link), First: ev.First, Before: before}
			if ev.Link == health.Silent {
				c.Last = ev.Last
			}
			tx.Tell(fact.New(ev.At, c).Of(ev.Device))
		}
		return nil
	}, func(err error) {
		if err != nil && !fault.Is(err, fault.Stopping) {
			l.log.Error("a change of link was not stored and will be tried again", "device", ev.Device, "error", err)
			time.AfterFunc(retryAfter, func() {
				if l.newest(ev) { // or what came later would be undone
					l.store(ev, before, told)
				}
			})
		}
	})
}

func (l *Links) newest(ev event.Link) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.flaps[ev.Device].at.Equal(ev.At)
}

func (l *Links) allow(ev event.Link) (before int, told bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	f := l.flaps[ev.Device]
	if f == nil {
		f = &flap{}
		l.flaps[ev.Device] = f
	}
	f.at = ev.At
	if ev.At.Sub(f.since) >= time.Hour || ev.At.Before(f.since) {
		f.since, f.told = ev.At, 0
	}
	if f.told >= maxTold {
		f.silent++
		return 0, false
	}
	f.told++
	before, f.silent = f.silent, 0
	return before, true
}

// Spells are the times in which devices were off line, by their ids, from the changes of their
// links in whatever order.
func Spells(rows []commit.Validity) map[string][]health.Spell {
	rows = slices.Clone(rows)
	slices.SortStableFunc(rows, func(a, b commit.Validity) int { return a.From.Compare(b.From) })
	out := map[string][]health.Spell{}
	for _, v := range rows {
		of := out[v.Subject]
		open := len(of) > 0 && of[len(of)-1].End.IsZero()
		switch silent := v.Value == string(health.Silent); {
		case silent && !open:
			out[v.Subject] = append(of, health.Spell{From: v.From})
		case !silent && open:
			of[len(of)-1].End = v.From
		}
	}
	return out
}
