// Package commands carries commands to devices and their replies back. A
// command is an action of the model that a device performs once; it is kept
// until the device has replied, or until it expires.
package commands

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"ullage/core/model"
	"ullage/core/value"
	"ullage/fleet/devices"
	"ullage/fleet/event"
	"ullage/fleet/fault"
	"ullage/fleet/journal"
	"ullage/fleet/models"
)

// Phase says how far a command has come.
type Phase string

// The phases. Done and Failed are what the device said; the last two are ends
// without a reply, and a reply that comes all the same still counts.
const (
	Waiting   Phase = "waiting" // not handed over yet
	Sent      Phase = "sent"    // handed over, not replied to
	Done      Phase = "done"
	Failed    Phase = "failed"
	Expired   Phase = "expired"
	Withdrawn Phase = "withdrawn"
)

// Open reports whether a reply is still waited for.
func (p Phase) Open() bool { return p == Waiting || p == Sent }

// Command is one command to one device.
type Command struct {
	ID     string
	Device string
	Name   string
	Input  json.RawMessage
	By     string
	Phase  Phase
	At     time.Time // when it was given
	// Expires is when it is given up; zero while it waits for the next contact.
	Expires time.Time
	SentAt  time.Time // when it was handed over last; zero for never
	EndedAt time.Time // when it was replied to or given up; zero while open
	Output  json.RawMessage
	Error   string // why the device could not do it
}

// Usually is how long a command waits for its reply unless said otherwise, and
// how long after the contact one has that waited for it.
const Usually = time.Minute

const (
	maxOpen   = 20 // commands of one device that wait for a reply
	maxExpiry = 30 * 24 * time.Hour
	sendAgain = 10 * time.Second // before Due gives a command a second time
	lookEvery = time.Second
)

// Expiry says when a command is given up: after a time, or, for a device that
// sleeps, Usually after its next contact.
type Expiry struct {
	After       time.Duration // Usually if it is zero
	NextContact bool
}

// ParseExpiry reads "", "90s" or "next contact".
func ParseExpiry(s string) (Expiry, error) {
	switch strings.ReplaceAll(strings.TrimSpace(s), "-", " ") {
	case "":
		return Expiry{}, nil
	case "next contact":
		return Expiry{NextContact: true}, nil
	}
	d, err := value.ParseDuration(s)
	if err != nil || d.Std() <= 0 || d.Std() > maxExpiry {
		return Expiry{}, fault.New(fault.Invalid, "%q is no expiry", s).Then(`write a time up to 30d, like 90s, or "next contact" for a device that sleeps`)
	}
	return Expiry{After: d.Std()}, nil
}

// Filter narrows a list of commands.
type Filter struct {
	ID     string
	Device string
	Among  []string // only of these devices, unless it is nil
	Open   bool
	Before string // only those with a lesser id
	Limit  int
}

// Records stores commands.
type Records interface {
	SaveCommands([]Command, ...journal.Entry) error
	// Commands returns those that pass, the newest first.
	Commands(Filter) ([]Command, error)
}

// Queue holds the commands that wait for a reply. Make one with Open and give
// Handle to the bus, which lets commands expire.
type Queue struct {
	records Records
	devices *devices.Registry
	models  *models.Catalogue
	bus     *event.Bus
	now     func() time.Time

	mu      sync.Mutex
	open    map[string][]Command // by device, the oldest first
	changed map[string]chan struct{}
	looked  time.Time
}

// Open reads the commands that still wait.
func Open(r Records, d *devices.Registry, m *models.Catalogue, bus *event.Bus, now func() time.Time) (*Queue, error) {
	q := &Queue{records: r, devices: d, models: m, bus: bus, now: now, open: map[string][]Command{}, changed: map[string]chan struct{}{}}
	all, err := r.Commands(Filter{Open: true})
	if err != nil {
		return nil, err
	}
	slices.Reverse(all)
	for _, c := range all {
		q.open[c.Device] = append(q.open[c.Device], c)
	}
	return q, nil
}

// Give queues a command. The input must be what the model says.
func (q *Queue) Give(device, name string, input json.RawMessage, e Expiry, by string) (Command, error) {
	d, err := q.devices.Get(device)
	if err != nil {
		return Command{}, err
	}
	if d.Status == devices.Retired || d.Status == devices.Suspended {
		return Command{}, fault.New(fault.Conflict, "%s is %s, so it gets no commands", device, d.Status)
	}
	m, err := q.models.Of(d.Model, d.Version)
	if err != nil {
		return Command{}, err
	}
	input, err = check(m, name, input)
	if err != nil {
		return Command{}, err
	}
	at := q.now()
	c := Command{ID: journal.NewID(at), Device: device, Name: name, Input: input, By: by, Phase: Waiting, At: at}
	if !e.NextContact {
		c.Expires = at.Add(Usually)
		if e.After > 0 {
			c.Expires = at.Add(e.After)
		}
	}
	q.mu.Lock()
	defer q.mu.Unlock()
	if len(q.open[device]) >= maxOpen {
		return Command{}, fault.New(fault.TooMany, "%d commands wait for %s already", maxOpen, device).
			Then("see them with: ullage command list %s, and withdraw what is not wanted any more", device)
	}
	text := fmt.Sprintf("%s told it to %s", by, name)
	if string(input) != "{}" {
		text += " " + clip(string(input))
	}
	if err := q.records.SaveCommands([]Command{c}, journal.New(at, journal.CommandGiven, device, by, text)); err != nil {
		return Command{}, err
	}
	q.open[device] = append(q.open[device], c)
	q.tell(device)
	return c, nil
}

// check judges the input of a command and writes it in short.
func check(m *model.Model, name string, input json.RawMessage) (json.RawMessage, error) {
	short, wrong, err := m.Input(name, input)
	if _, known := m.Action(name); err != nil && !known {
		return nil, fault.New(fault.NotFound, "%s", err)
	}
	if len(wrong) > 0 {
		e := fault.New(fault.Invalid, "the command %s was not given: %s", name, model.Findings(wrong).Error())
		e.Findings = wrong
		return nil, e.Then("see what it takes with: ullage model show %s", m.Name)
	}
	return short, err
}

// tell lets doors and long polls know; the caller holds mu.
func (q *Queue) tell(device string) {
	if c := q.changed[device]; c != nil {
		close(c)
		delete(q.changed, device)
	}
	q.bus.Publish(event.Command{Device: device})
}

// Changed returns a channel that is closed when something about the device's
// open commands has changed.
func (q *Queue) Changed(device string) <-chan struct{} {
	q.mu.Lock()
	defer q.mu.Unlock()
	c := q.changed[device]
	if c == nil {
		c = make(chan struct{})
		q.changed[device] = c
	}
	return c
}

// Waiting returns the commands of a device that it has not replied to, the
// oldest first.
func (q *Queue) Waiting(device string) []Command {
	q.mu.Lock()
	defer q.mu.Unlock()
	return slices.Clone(q.open[device])
}

// Due returns the commands to hand to a device that asks for them: those it
// was never handed, and those that it has not replied to for a while. The time
// is when the next of the others comes due; zero for none.
func (q *Queue) Due(device string) (due []Command, next time.Time) {
	now := q.now()
	for _, c := range q.Waiting(device) {
		if again := c.SentAt.Add(sendAgain); c.SentAt.IsZero() || !now.Before(again) {
			due = append(due, c)
		} else if next.IsZero() || again.Before(next) {
			next = again
		}
	}
	return due, next
}

// Message is a command as a device gets it. The name is empty where the topic
// says it.
type Message struct {
	ID      string          `json:"id"`
	Name    string          `json:"name,omitempty"`
	Input   json.RawMessage `json:"input"`
	Expires time.Time       `json:"expires"`
}

// HandOver marks a command as sent and returns what to send. It returns false
// where the command is not open any more.
func (q *Queue) HandOver(device, id string) (Message, bool, error) {
	q.mu.Lock()
	defer q.mu.Unlock()
	i := slices.IndexFunc(q.open[device], func(c Command) bool { return c.ID == id })
	if i < 0 {
		return Message{}, false, nil
	}
	c := q.open[device][i]
	first := c.Phase == Waiting
	c.SentAt, c.Phase = q.now(), Sent
	if c.Expires.IsZero() {
		c.Expires = c.SentAt.Add(Usually)
	}
	if first { // later times are of use only while the service runs
		if err := q.records.SaveCommands([]Command{c}); err != nil {
			return Message{}, false, err
		}
	}
	q.open[device][i] = c
	m := Message{ID: c.ID, Name: c.Name, Input: c.Input, Expires: c.Expires.UTC().Truncate(time.Millisecond)}
	return m, true, nil
}

type reply struct {
	ID     string          `json:"id"`
	Output json.RawMessage `json:"output"`
	Error  *string         `json:"error"`
}

// Reply takes what a device says about a command: {"id","output"} or
// {"id","error"}. An output that is not what the model says is not kept, and
// the command counts as done all the same. A second reply changes nothing.
func (q *Queue) Reply(device string, body []byte) (kept int, wrong []model.Finding, err error) {
	var r reply
	if err := json.Unmarshal(body, &r); err != nil || r.ID == "" || r.Output != nil && r.Error != nil {
		return 0, nil, fault.New(fault.Invalid, "this is no reply to a command").
			Then(`write it like {"id":"…","output":{…}} or {"id":"…","error":"…"}, with the id of the command`)
	}
	q.mu.Lock()
	defer q.mu.Unlock()
	known, err := q.records.Commands(Filter{ID: r.ID})
	if err != nil {
		return 0, nil, err
	}
	if len(known) == 0 || known[0].Device != device {
		return 0, nil, fault.New(fault.NotFound, "%s was not given a command with the id %q", device, clip(r.ID)).Then("reply with the id that came with the command")
	}
	c := known[0]
	if c.Phase == Done || c.Phase == Failed {
		return 0, nil, nil
	}
	late := ""
	if !c.Phase.Open() {
		late = fmt.Sprintf(", after it was %s", c.Phase)
	}
	c.EndedAt, c.Phase = q.now(), Done
	text := fmt.Sprintf("it did %s%s", c.Name, late)
	if r.Error != nil {
		c.Phase, c.Error = Failed, clip(*r.Error)
		text = fmt.Sprintf("it could not %s%s: %s", c.Name, late, c.Error)
	} else if wrong = q.output(&c, r.Output); len(c.Output) > 0 && string(c.Output) != "{}" {
		text += ": " + clip(string(c.Output))
	}
	if err := q.end(c, journal.CommandReplied, text); err != nil {
		return 0, nil, err
	}
	return 1, wrong, nil
}

func (q *Queue) output(c *Command, output json.RawMessage) []model.Finding {
	if output == nil {
		return nil
	}
	var x any
	if err := json.Unmarshal(output, &x); err != nil {
		return nil // the whole was read before
	}
	if d, err := q.devices.Get(c.Device); err == nil {
		if m, err := q.models.Of(d.Model, d.Version); err == nil {
			if a, ok := m.Action(c.Name); ok && a.Output != nil {
				if wrong := a.Output.Check(x, "/output"); len(wrong) > 0 {
					return wrong
				}
			}
		}
	}
	c.Output = output
	return nil
}

// end stores a command that is open no more; the caller holds mu.
func (q *Queue) end(c Command, kind journal.Kind, text string) error {
	if err := q.records.SaveCommands([]Command{c}, journal.New(c.EndedAt, kind, c.Device, "", text)); err != nil {
		return err
	}
	q.drop(c)
	return nil
}

func (q *Queue) drop(c Command) {
	q.open[c.Device] = slices.DeleteFunc(q.open[c.Device], func(o Command) bool { return o.ID == c.ID })
	if len(q.open[c.Device]) == 0 {
		delete(q.open, c.Device)
	}
	q.tell(c.Device)
}

// Withdraw gives a command up before its time. What was handed over already,
// the device may do all the same.
func (q *Queue) Withdraw(device, id, by string) (Command, error) {
	q.mu.Lock()
	defer q.mu.Unlock()
	i := slices.IndexFunc(q.open[device], func(c Command) bool { return c.ID == id })
	if i < 0 {
		return Command{}, fault.New(fault.Conflict, "no command %q waits for %s any more", clip(id), device)
	}
	c := q.open[device][i]
	c.Phase, c.EndedAt = Withdrawn, q.now()
	if err := q.records.SaveCommands([]Command{c}, journal.New(c.EndedAt, journal.CommandEnded, device, by, fmt.Sprintf("%s withdrew %s", by, c.Name))); err != nil {
		return Command{}, err
	}
	q.drop(c)
	return c, nil
}

// Get returns a command of a device.
func (q *Queue) Get(device, id string) (Command, error) {
	cs, err := q.List(Filter{Device: device, ID: id})
	if err == nil && len(cs) == 0 {
		err = fault.New(fault.NotFound, "%s was not given a command with the id %q", device, clip(id))
	}
	if err != nil {
		return Command{}, err
	}
	return cs[0], nil
}

// List returns the commands that pass, the newest first.
func (q *Queue) List(f Filter) ([]Command, error) {
	cs, err := q.records.Commands(f)
	if err != nil {
		return nil, err
	}
	q.mu.Lock()
	defer q.mu.Unlock()
	for i, c := range cs { // what is open is newest in memory
		if k := slices.IndexFunc(q.open[c.Device], func(o Command) bool { return o.ID == c.ID }); k >= 0 {
			cs[i] = q.open[c.Device][k]
		}
	}
	return cs, nil
}

// Await returns the command when it has ended, or as it is when ctx ends.
func (q *Queue) Await(ctx context.Context, c Command) (Command, error) {
	for {
		news := q.Changed(c.Device)
		now, err := q.Get(c.Device, c.ID)
		if err != nil || !now.Phase.Open() {
			return now, err
		}
		select {
		case <-news:
		case <-ctx.Done():
			return now, nil
		}
	}
}

// Handle lets commands expire.
func (q *Queue) Handle(shard int, e event.Event) {
	if t, ok := e.(event.Tick); ok && shard == 0 {
		q.expire(t.Now)
	}
}

// expire gives up what has waited too long. What cannot be stored now is tried
// again a moment later.
func (q *Queue) expire(now time.Time) {
	q.mu.Lock()
	defer q.mu.Unlock()
	if now.Sub(q.looked) < lookEvery {
		return
	}
	q.looked = now
	var over []Command
	var entries []journal.Entry
	for _, cs := range q.open {
		for _, c := range cs {
			if c.Expires.IsZero() || now.Before(c.Expires) {
				continue
			}
			text := fmt.Sprintf("%s expired before it was handed over", c.Name)
			if c.Phase == Sent {
				text = fmt.Sprintf("%s expired without a reply", c.Name)
			}
			c.Phase, c.EndedAt = Expired, now
			over = append(over, c)
			entries = append(entries, journal.New(now, journal.CommandEnded, c.Device, "", text))
		}
	}
	if len(over) == 0 || q.records.SaveCommands(over, entries...) != nil {
		return
	}
	for _, c := range over {
		q.drop(c)
	}
}

func clip(s string) string {
	if r := []rune(s); len(r) > 200 {
		return string(r[:200]) + "…"
	}
	return s
}
