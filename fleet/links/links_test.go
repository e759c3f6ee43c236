package links_test

import (
	"errors"
	"log/slog"
	"sync"
	"testing"
	"time"

	"ullage/core/health"
	"ullage/fleet/commit"
	"ullage/fleet/event"
	"ullage/fleet/fact"
	"ullage/fleet/links"
)

// disk is a store that can be full.
type disk struct {
	mu   sync.Mutex
	full bool
	link []string
	told []fact.Fact
}

func (d *disk) Commit(txs []*commit.Tx) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.full {
		return errors.New("no room")
	}
	for _, t := range txs {
		for _, v := range t.Validity {
			d.link = append(d.link, v.Value)
		}
		d.told = append(d.told, t.Facts...)
	}
	return nil
}

func (d *disk) now() ([]string, int) {
	d.mu.Lock()
	defer d.mu.Unlock()
	return append([]string{}, d.link...), len(d.told)
}

var begin = time.Date(2026, 3, 9, 14, 0, 0, 0, time.UTC)

func change(minute int, link health.Link) event.Link {
	return event.Link{Device: "tank-fennimore-07", Link: link, At: begin.Add(time.Duration(minute) * time.Minute),
		Told: true}
}

// TestFlappingIsDamped: of a device that comes and goes all the time twelve changes
// an hour are told, and the next one that is says how many were not. What was so
// is known of all.
func TestFlappingIsDamped(t *testing.T) {
	d := &disk{}
	w := commit.NewWriter(d, nil)
	defer w.Close()
	l := links.New(w, slog.New(slog.DiscardHandler))
	for i := range 40 {
		l.Handle(0, change(i, []health.Link{health.Online, health.Silent}[i%2]))
	}
	w.Settle()
	if held, told := d.now(); len(held) != 40 || told != 12 {
		t.Errorf("of 40 changes within the hour %d are known and %d told", len(held), told)
	}
	l.Handle(0, change(61, health.Online))
	w.Settle()
	if _, told := d.now(); told != 13 || d.told[12].Sentence() == d.told[0].Sentence() {
		t.Errorf("an hour later it tells %q", d.told[len(d.told)-1].Sentence())
	}
}

// TestNothingLaterIsUndone: a change that the disk did not take is tried again,
// unless a later one has been stored meanwhile.
func TestNothingLaterIsUndone(t *testing.T) {
	d := &disk{full: true}
	w := commit.NewWriter(d, nil)
	defer w.Close()
	l := links.New(w, slog.New(slog.DiscardHandler))
	l.Handle(0, change(0, health.Silent))
	other := change(0, health.Silent)
	other.Device = "tank-fennimore-08"
	l.Handle(0, other)
	w.Settle()
	d.mu.Lock()
	d.full = false
	d.mu.Unlock()
	l.Handle(0, change(1, health.Online))
	for end := time.Now().Add(30 * time.Second); time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		if held, _ := d.now(); len(held) >= 2 {
			break
		}
	}
	time.Sleep(500 * time.Millisecond)
	held, _ := d.now()
	if len(held) != 2 || held[0] != "online" || held[1] != "silent" {
		t.Errorf("stored were %v; the first device is online and the second one silent", held)
	}
}
