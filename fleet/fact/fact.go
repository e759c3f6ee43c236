// Package fact holds what people and devices have changed, one entry for each
// change: numbered without gaps, written in the transaction of the change, told
// in order after its commit. The journal is facts told as sentences.
package fact

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/oklog/ulid/v2"
)

// Kind says what happened.
type Kind string

// The kinds of fact.
const (
	DeviceOnboarded    Kind = "device onboarded"
	DeviceLabelled     Kind = "device labelled"
	DeviceMoved        Kind = "device moved" // to another version of its model
	StatusChanged      Kind = "status changed"
	TokenGiven         Kind = "token given"
	CredentialRevoked  Kind = "credential revoked"
	AttributesReported Kind = "attributes reported"
	LinkChanged        Kind = "link changed"
	SettingChanged     Kind = "setting changed"
	SettingApplied     Kind = "setting applied"
	SettingRefused     Kind = "setting refused"
	ModelPublished     Kind = "model published"
	RuleChanged        Kind = "rule changed"
	ReadingsDeleted    Kind = "readings deleted"
	AlarmRaised        Kind = "alarm raised"
	AlarmReturned      Kind = "alarm returned"
	AlarmAcknowledged  Kind = "alarm acknowledged"
	AlarmShelved       Kind = "alarm shelved"
	AlarmUnshelved     Kind = "alarm unshelved"
	AlarmSuppressed    Kind = "alarm suppressed" // by design, or no more
	AlarmOutOfService  Kind = "alarm out of service"
	AlarmResetBy       Kind = "alarm reset"
	AlarmCommented     Kind = "alarm commented"
	AlarmPriorityRose  Kind = "alarm priority rose"
	CommandGiven       Kind = "command given"
	CommandReplied     Kind = "command replied"
	CommandEnded       Kind = "command ended" // expired or withdrawn
	EventSent          Kind = "event"
	PersonAdded        Kind = "person added"
	SignedIn           Kind = "signed in"
	SignInWrong        Kind = "sign-in failed"
	PersonInvited      Kind = "person invited"
	PasswordChanged    Kind = "password changed"
	FactorChanged      Kind = "second factor changed"
	SignedOut          Kind = "sign-in ended"
	CredentialEnding   Kind = "credential ends"
	CredentialTwice    Kind = "credential shared"
	MessageSentAs      Kind = "sent as device"
	HardwareReplaced   Kind = "hardware replaced"
	DevicesChanged     Kind = "devices changed" // many at once
	JoinAskedFor       Kind = "join asked"
	JoinDecidedOn      Kind = "join decided"
	ResponseActed      Kind = "response acted"
	ResponseHeldBack   Kind = "response held back"
	ResponsesSwitched  Kind = "responses switched"
	LayersOrdered      Kind = "layers ordered"
	RolloutGoesOn      Kind = "rollout moved"
	DeviceJoined       Kind = "device joined"
)

// Kinds lists every kind.
var Kinds = []Kind{DeviceOnboarded, DeviceLabelled, DeviceMoved, StatusChanged, TokenGiven, CredentialRevoked, AttributesReported,
	LinkChanged, SettingChanged, SettingApplied, SettingRefused, ModelPublished, RuleChanged, ReadingsDeleted, AlarmRaised, AlarmReturned,
	AlarmAcknowledged, AlarmShelved, AlarmUnshelved, AlarmSuppressed, AlarmOutOfService, AlarmResetBy, AlarmCommented, AlarmPriorityRose,
	CommandGiven, CommandReplied, CommandEnded, EventSent, PersonAdded, SignedIn, SignInWrong, PersonInvited, PasswordChanged, FactorChanged, SignedOut, CredentialEnding, CredentialTwice, MessageSentAs, HardwareReplaced, DevicesChanged, JoinAskedFor, JoinDecidedOn, DeviceJoined,
	ResponseActed, ResponseHeldBack, ResponsesSwitched, LayersOrdered, RolloutGoesOn}

// Known reports whether there can be facts of a kind.
func Known(k Kind) bool { return slices.Contains(Kinds, k) || strings.HasSuffix(string(k), changed) }

// Fact is one thing that happened.
type Fact struct {
	Number int64 // from 1, in the order of the commits; 0 before it
	At     time.Time
	Kind   Kind
	// What it is about, to filter by; each may be empty.
	Device, Group, Alarm, Rule, Person string
	// From is the address that the person asked from; empty where that is not known.
	From string
	// Content is JSON: the type of contents.go that belongs to Kind.
	Content json.RawMessage
}

// New returns a fact about a content. Fields to filter by are filled in by the
// caller.
func New(at time.Time, c Content) Fact {
	b, err := json.Marshal(c)
	if err != nil {
		panic(err) // contents hold nothing that JSON cannot
	}
	return Fact{At: at.UTC(), Kind: c.kind(), Content: b}
}

// Of says which device a fact is about.
func (f Fact) Of(device string) Fact { f.Device = device; return f }

// By says who did it.
func (f Fact) By(person string) Fact { f.Person = person; return f }

// Sentence tells the fact. A content that cannot be read is told by its kind.
func (f Fact) Sentence() string {
	c := contentOf(f.Kind)
	if c == nil || json.Unmarshal(f.Content, c) != nil {
		return string(f.Kind)
	}
	text := c.sentence()
	switch {
	case f.Person == "" || f.Kind == SignedIn:
	case f.Kind == RolloutGoesOn: // whose sentence is about the rollout, whoever moves it
		return f.Person + ": " + text
	default:
		return f.Person + " " + text
	}
	return text
}

// Filter narrows a reading of the journal.
type Filter struct {
	Among                       []string // only of these devices, unless it is nil
	Device, Alarm, Rule, Person string
	Kind                        Kind
	Noun                        string    // only kinds about this noun, such as rule
	Rollout                     string    // only what moved this rollout, by its id
	Since, Until                time.Time // Until is not included; zero for no end
	Before                      int64     // only facts with a lesser number; 0 for all
	Limit                       int
}

// Gone is the error of a reader whose number is older than what is kept: it has
// to begin anew from a snapshot, and go on behind First.
type Gone struct{ First int64 }

// Error says so.
func (g *Gone) Error() string {
	return fmt.Sprintf("facts up to number %d are not kept any more", g.First)
}

// Log reads facts.
type Log interface {
	// Facts returns those that pass, the newest first.
	Facts(context.Context, Filter) ([]Fact, error)
	// FactsAfter returns the facts behind a number, in order, at most limit. The
	// error is a *Gone where some of them are not kept any more. Only those of some
	// devices are told where among is not nil.
	FactsAfter(ctx context.Context, number int64, limit int, among []string) ([]Fact, error)
}

var (
	mu      sync.Mutex
	entropy = ulid.Monotonic(rand.Reader, 0)
)

// NewID returns a ULID whose time is t, for alarms and commands; later calls of
// one process with the same t sort later.
func NewID(t time.Time) string {
	mu.Lock()
	defer mu.Unlock()
	return ulid.MustNew(ulid.Timestamp(t), entropy).String()
}
