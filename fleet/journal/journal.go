// Package journal is the append-only record of what happened: alarms, links,
// changes, people.
package journal

import (
	"crypto/rand"
	"sync"
	"time"

	"github.com/oklog/ulid/v2"
)

// Kind says what an entry is about.
type Kind string

// The kinds of entry.
const (
	AlarmRaised       Kind = "alarm raised"
	AlarmReturned     Kind = "alarm returned"
	AlarmAcknowledged Kind = "alarm acknowledged"
	LinkChanged       Kind = "link changed"
	DeviceChanged     Kind = "device changed"
	SettingChanged    Kind = "setting changed"
	SettingApplied    Kind = "setting applied"
	SettingRefused    Kind = "setting refused"
	ModelLoaded       Kind = "model loaded"
	RuleChanged       Kind = "rule changed"
	CommandGiven      Kind = "command given"
	CommandReplied    Kind = "command replied"
	CommandEnded      Kind = "command ended" // expired or withdrawn
	EventSent         Kind = "event"
	Access            Kind = "access"
)

// Entry is one thing that happened.
type Entry struct {
	ID     string    `json:"id" doc:"ULID"`
	At     time.Time `json:"at" doc:"When it happened"`
	Kind   Kind      `json:"kind" doc:"What it is about"`
	Device string    `json:"device,omitempty" doc:"Device it is of"`
	Person string    `json:"person,omitempty" doc:"Who did it"`
	Text   string    `json:"text" doc:"What happened, in one sentence"`
}

// Filter narrows a reading of the journal.
type Filter struct {
	Among  []string // only of these devices, unless it is nil
	Device string
	Kind   Kind
	Before string // only entries with a lesser id
	Limit  int
}

// Records stores the journal.
type Records interface {
	AppendJournal(...Entry) error
	Journal(Filter) ([]Entry, error)
}

var (
	mu      sync.Mutex
	entropy = ulid.Monotonic(rand.Reader, 0)
)

// NewID returns a ULID whose time is t; later calls of one process with the
// same t sort later.
func NewID(t time.Time) string {
	mu.Lock()
	defer mu.Unlock()
	return ulid.MustNew(ulid.Timestamp(t), entropy).String()
}

// New returns an entry with an id.
func New(at time.Time, kind Kind, device, person, text string) Entry {
	return Entry{ID: NewID(at), At: at.UTC(), Kind: kind, Device: device, Person: person, Text: text}
}
