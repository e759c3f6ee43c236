package people

import (
	"maps"
	"sync"
	"time"

	"golang.org/x/time/rate"
)

// throttle bounds how many passwords are tried. It counts an attempt before the
// password is looked at, since looking costs a hash, and takes it back where the
// password was right: whoever knows theirs is not slowed down by having used it.
//
// It counts by person and address together, by address, and by person from
// addresses that the person has never signed in from: nobody is locked out where
// they usually are by what others try elsewhere.
type throttle struct {
	mu      sync.Mutex
	buckets map[string]*rate.Limiter
	known   map[string]bool // person and address of sign-ins that were right
	swept   time.Time
}

const (
	perBoth    = 10 // wrong passwords of one person from one address, and as many a minute
	perAddress = 30
	perPerson  = 30
	// maxBuckets bounds what is remembered; beyond it everybody new counts as one.
	maxBuckets = 10_000
)

func newThrottle() *throttle {
	return &throttle{buckets: map[string]*rate.Limiter{}, known: map[string]bool{}}
}

// bucket returns the limiter of a key; the throttle is locked.
func (t *throttle) bucket(key string, a int, now time.Time) *rate.Limiter {
	if b := t.buckets[key]; b != nil {
		return b
	}
	if len(t.buckets) >= maxBuckets {
		if now.Sub(t.swept) > time.Second {
			t.swept = now
			maps.DeleteFunc(t.buckets, func(_ string, b *rate.Limiter) bool {
				return b.TokensAt(now) >= float64(b.Burst())
			})
		}
		if len(t.buckets) >= maxBuckets {
			if key = "the rest"; t.buckets[key] != nil {
				return t.buckets[key]
			}
		}
	}
	b := rate.NewLimiter(rate.Limit(float64(a)/60), a)
	t.buckets[key] = b
	return b
}

// attempt counts one attempt. It returns what takes it back, and false if there
// were too many.
//
// From a familiar place it counts by that alone.
func (t *throttle) attempt(person, address, familiar string, now time.Time) (back func(), ok bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	var limiters []*rate.Limiter
	switch {
	case familiar != "":
		limiters = append(limiters, t.bucket("in "+familiar, perBoth, now))
	default:
		limiters = append(limiters, t.bucket(person+"\x00"+address, perBoth, now), t.bucket("at "+address, perAddress, now))
		if !t.known[person+"\x00"+address] {
			limiters = append(limiters, t.bucket("of "+person, perPerson, now))
		}
	}
	var taken []*rate.Reservation
	back = func() {
		for _, r := range taken {
			r.CancelAt(now)
		}
	}
	for _, l := range limiters {
		r := l.ReserveN(now, 1)
		taken = append(taken, r)
		if !r.OK() || r.DelayFrom(now) > 0 {
			back()
			return nil, false
		}
	}
	return back, true
}

// full reports whether an address has no attempts left.
func (t *throttle) full(address string, now time.Time) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.bucket("at "+address, perAddress, now).TokensAt(now) < 1
}

// right notes that a person signed in from an address.
func (t *throttle) right(person, address string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if len(t.known) < maxBuckets {
		t.known[person+"\x00"+address] = true
	}
}
