// Package commands carries commands to devices and their replies back. A
// command is an action of the model that a device performs once; it is kept
// until the device has replied, or until it expires.
package commands

import (
	"context"
	"encoding/json"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"ullage/core/model"
	"ullage/core/value"
	"ullage/fleet/commit"
	"ullage/fleet/devices"
	"ullage/fleet/event"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
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
	Withdrawn Phase = "withdrawn" // with an Error where it could not even be given
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
	Job     string // the Job that gave it; empty for none
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
		return Expiry{}, fault.New(fault.Invalid, "%q is no expiry", s).
			Then(`write a time up to 30d, like 90s, or "next contact" for a device that sleeps`)
	}
	return Expiry{After: d.Std()}, nil
}

// Filter narrows a list of commands.
type Filter struct {
	ID     string
	Device string
	Among  []string // only of these devices, unless it is nil
	Job    string   // only of this Job
	Open   bool
	Before string // only those with a lesser id
	Limit  int
}

// Records reads commands. What changes is put into commits as Command, Job and JobProgress.
type Records interface {
	// Commands returns those that pass, the newest first.
	Commands(context.Context, Filter) ([]Command, error)
	// CommandJobs returns the commands for many devices, with how far they are.
	CommandJobs(context.Context) ([]Job, error)
	// CommandCounts returns how many commands of jobs are in each phase.
	CommandCounts(ctx context.Context, jobs []string) (map[string]Counts, error)
}

// Options are what a Queue is made of.
type Options struct {
	Records Records
	Commits *commit.Writer
	Devices *devices.Registry
	Models  *models.Catalogue
	Bus     *event.Bus
	// MayOperate tells whether somebody may operate a device; nil for all.
	MayOperate func(who, device string) bool
	Log        *slog.Logger
	Now        func() time.Time
}

// Queue holds the commands that wait for a reply. Make one with Open and give
// Handle to the bus, which lets commands expire.
type Queue struct {
	records Records
	commits *commit.Writer
	devices *devices.Registry
	models  *models.Catalogue
	bus     *event.Bus
	log     *slog.Logger
	now     func() time.Time

	mayOperate func(who, device string) bool

	open *commit.Table[string, []Command] // by device, the oldest first
	jobs jobs

	mu      sync.Mutex
	changed map[string]chan struct{}
	sent    map[string]time.Time // when open commands were handed over last, by id
	looked  time.Time
	looking bool // an expiry is on its way
}

// Open reads the commands that still wait.
func Open(ctx context.Context, o Options) (*Queue, error) {
	q := &Queue{records: o.Records, commits: o.Commits, devices: o.Devices, models: o.Models, bus: o.Bus, log: o.Log,
		now: o.Now, mayOperate: o.MayOperate, changed: map[string]chan struct{}{}, sent: map[string]time.Time{}}
	all, err := o.Records.Commands(ctx, Filter{Open: true})
	if err != nil {
		return nil, err
	}
	slices.Reverse(all)
	open := map[string][]Command{}
	for _, c := range all {
		open[c.Device] = append(open[c.Device], c)
		if !c.SentAt.IsZero() {
			q.sent[c.ID] = c.SentAt
		}
	}
	q.open = commit.NewTable(open)
	return q, q.openJobs(ctx, open)
}

// Give queues a command. The input must be what the model says.
func (q *Queue) Give(ctx context.Context, device, name string, input json.RawMessage, e Expiry,
	by string) (Command, error) {
	var c Command
	err := q.commits.Do(ctx, func(tx *commit.Tx) (err error) {
		c, err = q.give(tx, device, name, input, e, given{by: by})
		return err
	})
	return c, err
}

// GiveIn is Give within a commit, for what a rule does by itself.
func (q *Queue) GiveIn(tx *commit.Tx, device, name string, input json.RawMessage, e Expiry, by, rule string) error {
	_, err := q.give(tx, device, name, input, e, given{by: by, rule: rule})
	return err
}

// given says on whose account a command is given.
type given struct {
	by   string
	rule string // that gave it by itself
	job  string // of which it is a part
}

func (q *Queue) give(tx *commit.Tx, device, name string, input json.RawMessage, e Expiry, g given) (Command, error) {
	d, ok := q.devices.In(tx, device)
	if !ok {
		return Command{}, devices.Unknown(device)
	}
	input, err := q.fits(d, name, input)
	if err != nil {
		return Command{}, err
	}
	at := q.now()
	c := Command{ID: fact.NewID(at), Device: device, Name: name, Input: input, By: g.by, Job: g.job, Phase: Waiting, At: at}
	if !e.NextContact {
		c.Expires = at.Add(Usually)
		if e.After > 0 {
			c.Expires = at.Add(e.After)
		}
	}
	open, _ := q.open.In(tx, device)
	if len(open) >= maxOpen {
		return Command{}, fault.New(fault.TooMany, "%d commands wait for %s already", maxOpen, device).
			Then("withdraw what is not wanted any more").On("command")
	}
	tx.Put(c)
	told := fact.New(at, fact.Given{Command: name, ID: c.ID, Input: input, Rule: g.rule, Job: g.job}).Of(device).By(g.by)
	if told.Rule = g.rule; g.rule != "" {
		told.Person = ""
	}
	tx.Tell(told)
	q.set(tx, device, append(slices.Clone(open), c))
	return c, nil
}

// set changes the open commands of a device with a commit.
func (q *Queue) set(tx *commit.Tx, device string, open []Command) {
	if len(open) == 0 {
		q.open.Drop(tx, device)
	} else {
		q.open.Set(tx, device, open)
	}
	tx.After(func() { q.tell(device) })
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
		return nil, e.On("model")
	}
	return short, err
}

// tell lets doors and long polls know.
func (q *Queue) tell(device string) {
	q.mu.Lock()
	if c := q.changed[device]; c != nil {
		close(c)
		delete(q.changed, device)
	}
	q.mu.Unlock()
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
	open, _ := q.open.Get(device)
	if len(open) == 0 {
		return nil
	}
	open = slices.Clone(open)
	q.mu.Lock()
	defer q.mu.Unlock()
	for i := range open {
		open[i].SentAt = q.sent[open[i].ID]
	}
	return open
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
// where the command is not open any more. It does not wait for the disk: after a
// crash the command is sent once more, and the device drops an id it has seen.
func (q *Queue) HandOver(device, id string) (Message, bool) {
	open, _ := q.open.Get(device)
	i := slices.IndexFunc(open, func(c Command) bool { return c.ID == id })
	if i < 0 {
		return Message{}, false
	}
	c := open[i]
	now := q.now()
	q.mu.Lock()
	q.sent[id] = now
	q.mu.Unlock()
	if c.Expires.IsZero() {
		c.Expires = now.Add(Usually)
	}
	if c.Phase == Waiting { // later times are of use only while the service runs
		q.commits.Go(func(tx *commit.Tx) error {
			open, _ := q.open.In(tx, device)
			i := slices.IndexFunc(open, func(o Command) bool { return o.ID == id })
			if i < 0 || open[i].Phase != Waiting {
				return nil
			}
			open = slices.Clone(open)
			open[i].SentAt, open[i].Phase, open[i].Expires = now, Sent, c.Expires
			tx.Put(open[i])
			q.set(tx, device, open)
			return nil
		}, nil)
	}
	return Message{ID: c.ID, Name: c.Name, Input: c.Input, Expires: c.Expires.UTC().Truncate(time.Millisecond)}, true
}

type reply struct {
	ID     string          `json:"id"`
	Output json.RawMessage `json:"output"`
	Error  *string         `json:"error"`
}

// Reply takes what a device says about a command: {"id","output"} or
// {"id","error"}, and calls done when that is on disk, or will not be. An output
// that is not what the model says is not kept, and the command counts as done
// all the same. A second reply changes nothing.
func (q *Queue) Reply(device string, body []byte, done func(kept int, wrong []model.Finding, err error)) {
	var r reply
	if err := json.Unmarshal(body, &r); err != nil || r.ID == "" || r.Output != nil && r.Error != nil {
		done(0, nil, fault.New(fault.Invalid, "this is no reply to a command").
			Then(`write it like {"id":"…","output":{…}} or {"id":"…","error":"…"}, with the id of the command`))
		return
	}
	var wrong []model.Finding
	kept := 0
	q.commits.Go(func(tx *commit.Tx) error {
		open, _ := q.open.In(tx, device)
		i := slices.IndexFunc(open, func(o Command) bool { return o.ID == r.ID })
		var c Command
		if i >= 0 {
			c = open[i]
		} else { // it has ended, by a reply or before one
			known, err := q.records.Commands(context.Background(), Filter{ID: r.ID})
			if err != nil {
				return err
			}
			if len(known) == 0 || known[0].Device != device {
				return fault.New(fault.NotFound, "%s was not given a command with the id %q", device,
					value.Clip(r.ID, 200)).Then("reply with the id that came with the command")
			}
			if c = known[0]; c.Phase == Done || c.Phase == Failed {
				return nil
			}
		}
		told := fact.Replied{Command: c.Name, ID: c.ID}
		if !c.Phase.Open() {
			told.After = string(c.Phase)
		}
		c.EndedAt, c.Phase = q.now(), Done
		if r.Error != nil {
			c.Phase, c.Error = Failed, value.Clip(*r.Error, 200)
			told.Error = c.Error
		} else {
			wrong = q.output(&c, r.Output)
			told.Output = c.Output
		}
		kept = 1
		q.end(tx, c)
		tx.Tell(fact.New(c.EndedAt, told).Of(device))
		return nil
	}, func(err error) {
		if err != nil {
			kept, wrong = 0, nil
		}
		done(kept, wrong, err)
	})
}

// end stores a command that is open no more.
func (q *Queue) end(tx *commit.Tx, c Command) {
	tx.Put(c)
	open, _ := q.open.In(tx, c.Device)
	q.set(tx, c.Device, slices.DeleteFunc(slices.Clone(open), func(o Command) bool { return o.ID == c.ID }))
	if c.Job != "" && slices.ContainsFunc(open, func(o Command) bool { return o.ID == c.ID }) {
		q.ended(tx, c.Job)
	}
	tx.After(func() {
		q.mu.Lock()
		delete(q.sent, c.ID)
		q.mu.Unlock()
	})
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

// Withdraw gives a command up before its time. What was handed over already,
// the device may do all the same.
func (q *Queue) Withdraw(ctx context.Context, device, id, by string) (Command, error) {
	var c Command
	err := q.commits.Do(ctx, func(tx *commit.Tx) error {
		open, _ := q.open.In(tx, device)
		i := slices.IndexFunc(open, func(o Command) bool { return o.ID == id })
		if i < 0 {
			return fault.New(fault.Conflict, "no command %q waits for %s any more", value.Clip(id, 200), device)
		}
		c = q.giveUp(tx, open[i], Withdrawn, q.now(), by)
		return nil
	})
	return c, err
}

// giveUp ends a command that was not replied to; by is empty where nobody did it.
func (q *Queue) giveUp(tx *commit.Tx, c Command, to Phase, at time.Time, by string) Command {
	sent := c.Phase == Sent
	c.Phase, c.EndedAt = to, at
	q.end(tx, c)
	tx.Tell(fact.New(at, fact.Ended{Command: c.Name, ID: c.ID, Phase: string(to), Sent: sent}).Of(c.Device).By(by))
	return c
}

// Get returns a command of a device.
func (q *Queue) Get(ctx context.Context, device, id string) (Command, error) {
	cs, err := q.List(ctx, Filter{Device: device, ID: id})
	if err == nil && len(cs) == 0 {
		err = fault.New(fault.NotFound, "%s was not given a command with the id %q", device, value.Clip(id, 200))
	}
	if err != nil {
		return Command{}, err
	}
	return cs[0], nil
}

// List returns the commands that pass, the newest first.
func (q *Queue) List(ctx context.Context, f Filter) ([]Command, error) {
	cs, err := q.records.Commands(ctx, f)
	if err != nil {
		return nil, err
	}
	for i, c := range cs { // what is open is newest in memory
		open := q.Waiting(c.Device)
		if k := slices.IndexFunc(open, func(o Command) bool { return o.ID == c.ID }); k >= 0 {
			cs[i] = open[k]
		}
	}
	return cs, nil
}

// Await returns the command when it has ended, or as it is when ctx ends.
func (q *Queue) Await(ctx context.Context, c Command) (Command, error) {
	for {
		news := q.Changed(c.Device)
		now, err := q.Get(context.WithoutCancel(ctx), c.Device, c.ID)
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
	if q.looking || now.Sub(q.looked) < lookEvery && !now.Before(q.looked) {
		q.mu.Unlock()
		return
	}
	q.looked = now
	q.mu.Unlock()
	over := map[string]bool{}
	for device, cs := range q.open.All() {
		for _, c := range cs {
			if !c.Expires.IsZero() && !now.Before(c.Expires) {
				over[device] = true
			}
		}
	}
	if len(over) == 0 {
		return
	}
	q.mu.Lock()
	q.looking = true
	q.mu.Unlock()
	q.commits.Go(func(tx *commit.Tx) error {
		for device := range over {
			open, _ := q.open.In(tx, device)
			for _, c := range slices.Clone(open) {
				if c.Expires.IsZero() || now.Before(c.Expires) {
					continue
				}
				q.giveUp(tx, c, Expired, now, "")
			}
		}
		return nil
	}, func(err error) {
		q.mu.Lock()
		q.looking = false
		q.mu.Unlock()
		if err != nil {
			q.log.Error("commands did not expire and are tried again", "error", err)
		}
	})
}
