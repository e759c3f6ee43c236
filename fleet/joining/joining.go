// Package joining lets devices join by themselves: with a join key, whose secret they
// show, they get a credential of their own, at once or when a person lets them in.
package joining

import (
	"context"
	"crypto/hkdf"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"ullage/core/join"
	"ullage/core/person"
	"ullage/core/value"
	"ullage/fleet/commit"
	"ullage/fleet/devices"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
	"ullage/fleet/models"
	"ullage/fleet/noun"
)

// Salt is what the secret of a key is made of, beside the master key of the service,
// which stands in no database.
type Salt struct {
	Key  string
	Salt []byte
}

// Record is what is stored of one serial under one key.
type Record struct {
	Request join.Request
	// Attempt is the SHA-256 of the nonce or the request for a certificate that it came
	// with last, and Used that of the one by which it has joined.
	Attempt, Used [sha256.Size]byte
	JoinedAt      time.Time
}

func (r Record) key() string { return recordKey(r.Request.Key, r.Request.Serial) }

func recordKey(key, serial string) string { return key + "\x00" + serial }

// Records reads what is stored. What changes is put into commits as join.Key, Salt and
// Record.
type Records interface {
	JoinKeys(context.Context) ([]join.Key, error)
	JoinSalts(context.Context) ([]Salt, error)
	JoinRecords(context.Context) ([]Record, error)
}

// Options are what Joining is made of.
type Options struct {
	Records Records
	Commits *commit.Writer
	Devices *devices.Registry
	Models  *models.Catalogue
	// Master is the secret that those of join keys are made of; nobody joins where it is
	// empty.
	Master []byte
	// Referred reports whether any access speaks of a label.
	Referred func(label string) bool
	Now      func() time.Time
}

// Joining holds the join keys, and who asked to join.
type Joining struct {
	o       Options
	keys    *noun.Register[join.Key]
	salts   *commit.Table[string, Salt]
	records *commit.Table[string, Record]

	mu       sync.Mutex
	counts   map[string]*counts           // by key
	used     map[[sha256.Size]byte]string // record of each attempt
	polls    map[string]*poll             // by record
	replies  map[[sha256.Size]byte]reply  // certificates that may be asked for again
	accesses map[string]*person.Access    // by their condition
	serials  map[string]map[string]bool   // by key, of those that list some
}

type counts struct{ joined, admitted, waiting, again, all int }

// poll is how often somebody asked.
type poll struct {
	asked int
	at    time.Time
	from  string
	pace  *rate.Limiter
}

type reply struct {
	given devices.Given
	until time.Time
}

// Open reads every key and every request.
func Open(ctx context.Context, o Options) (*Joining, error) {
	j := &Joining{o: o, counts: map[string]*counts{}, used: map[[sha256.Size]byte]string{}, polls: map[string]*poll{},
		replies: map[[sha256.Size]byte]reply{}, accesses: map[string]*person.Access{}, serials: map[string]map[string]bool{}}
	keys, err := o.Records.JoinKeys(ctx)
	if err != nil {
		return nil, err
	}
	salts, err := o.Records.JoinSalts(ctx)
	if err != nil {
		return nil, err
	}
	records, err := o.Records.JoinRecords(ctx)
	if err != nil {
		return nil, err
	}
	bySalt, byRecord := map[string]Salt{}, map[string]Record{}
	for _, s := range salts {
		bySalt[s.Key] = s
	}
	for _, r := range records {
		byRecord[r.key()] = r
		j.count(nil, Record{}, r)
	}
	j.salts, j.records = commit.NewTable(bySalt), commit.NewTable(byRecord)
	for i := range keys {
		j.noted(&keys[i])
	}
	j.keys = noun.New(noun.Options[join.Key]{Word: "join key", Name: func(k join.Key) string { return k.Name },
		Check: func(k join.Key) error { return k.Check() }, Within: j.within, Most: 1000, Stored: keys, Commits: o.Commits, Now: o.Now,
		After: func(old, next *join.Key) {
			if next == nil {
				j.mu.Lock()
				delete(j.serials, old.Name)
				j.mu.Unlock()
			} else {
				j.noted(next)
			}
		}})
	return j, nil
}

// noted keeps the serials of a key where they are found at once.
func (j *Joining) noted(k *join.Key) {
	listed := make(map[string]bool, len(k.Serials))
	for _, s := range k.Serials {
		listed[s] = true
	}
	j.mu.Lock()
	defer j.mu.Unlock()
	j.serials[k.Name] = listed
}

// within takes away with a key what was asked with it.
func (j *Joining) within(tx *commit.Tx, old, next *join.Key) error {
	if next != nil {
		if _, err := j.o.Models.Get(next.Model); err != nil {
			return err
		}
		return nil
	}
	if s, ok := j.salts.In(tx, old.Name); ok {
		tx.Put(commit.Delete{Record: s})
		j.salts.Drop(tx, old.Name)
	}
	for id, r := range j.records.All() {
		if r.Request.Key == old.Name {
			j.drop(tx, id, r)
		}
	}
	return nil
}

func (j *Joining) put(tx *commit.Tx, old, r Record) {
	tx.Put(r)
	j.records.Set(tx, r.key(), r)
	j.count(tx, old, r)
}

func (j *Joining) drop(tx *commit.Tx, id string, r Record) {
	tx.Put(commit.Delete{Record: r})
	j.records.Drop(tx, id)
	j.count(tx, r, Record{})
	tx.After(func() {
		j.mu.Lock()
		defer j.mu.Unlock()
		delete(j.polls, id)
	})
}

// count keeps the counts of a key, and whose each attempt is. It is the writer's alone,
// but for the lock.
func (j *Joining) count(tx *commit.Tx, old, next Record) {
	apply := func(r Record, n int) {
		if r.Request.Key == "" {
			return
		}
		c := j.counts[r.Request.Key]
		if c == nil {
			c = &counts{}
			j.counts[r.Request.Key] = c
		}
		c.all += n
		if !r.JoinedAt.IsZero() {
			c.joined += n
		}
		switch {
		case r.Request.State == join.Waiting && r.Request.Again:
			c.again += n
		case r.Request.State == join.Waiting:
			c.waiting += n
		case r.Request.State == join.Admitted && r.JoinedAt.IsZero():
			c.admitted += n
		}
		for _, a := range [][sha256.Size]byte{r.Attempt, r.Used} {
			if a == ([sha256.Size]byte{}) {
				continue
			}
			if n > 0 {
				j.used[a] = r.key()
			} else {
				delete(j.used, a)
			}
		}
	}
	change := func(old, next Record) {
		j.mu.Lock()
		defer j.mu.Unlock()
		apply(old, -1)
		apply(next, 1)
	}
	change(old, next)
	if tx != nil {
		tx.Undo(func() { change(next, old) })
	}
}

// secretOf returns the secret of a key.
func (j *Joining) secretOf(name string) ([]byte, bool) {
	s, ok := j.salts.Get(name)
	if !ok || len(j.o.Master) == 0 {
		return nil, false
	}
	b, err := hkdf.Key(sha256.New, j.o.Master, s.Salt, "ullage join key "+name, 32)
	return b, err == nil
}

// Make makes a key and returns its secret. That of a serial is made of it; see
// join.Secret.
func (j *Joining) Make(ctx context.Context, k join.Key, by string) (join.Key, string, error) {
	if len(j.o.Master) == 0 {
		return k, "", fault.New(fault.Conflict, "this service has no master key, so nobody can join it").Then("look at the folder pki of its data")
	}
	now := j.o.Now().UTC()
	k.MadeAt, k.MadeBy, k.RevokedAt = &now, by, nil
	k = own(k)
	if err := j.ahead(k); err != nil {
		return k, "", err
	}
	salt := Salt{Key: k.Name, Salt: make([]byte, 16)}
	rand.Read(salt.Salt)
	err := j.o.Commits.Do(ctx, func(tx *commit.Tx) error {
		if _, ok := j.keys.FindIn(tx, k.Name); ok {
			return fault.New(fault.Conflict, "there is a join key %s already", k.Name).Then("choose another name").On("join key")
		}
		tx.Put(salt)
		j.salts.Set(tx, k.Name, salt)
		return j.keys.Stage(tx, []join.Key{k}, by)
	})
	if err != nil {
		return k, "", err
	}
	secret, _ := j.secretOf(k.Name)
	out, err := j.Key(k.Name)
	return out, join.Shared(k.Name, secret), err
}

// own leaves out of k what is worked out whenever it is shown.
func own(k join.Key) join.Key {
	k.Joined, k.Waiting, k.Listed = 0, 0, 0
	if k.Approval == "" {
		k.Approval = join.ByPerson
	}
	if k.ExpiresAt != nil {
		t := k.ExpiresAt.UTC()
		k.ExpiresAt = &t
	}
	return k
}

func (j *Joining) ahead(k join.Key) error {
	if k.ExpiresAt != nil && !k.ExpiresAt.After(j.o.Now()) {
		return fault.New(fault.Invalid, "the key would have expired already").Then("give it a time to come").On("expires_at")
	}
	return nil
}

// Put changes a key. Its secret stays.
func (j *Joining) Put(ctx context.Context, k join.Key, cond noun.If, by string) (noun.Saved[join.Key], error) {
	old, err := j.keys.Get(k.Name)
	if err != nil {
		return noun.Saved[join.Key]{}, err
	}
	if old.RevokedAt != nil {
		return noun.Saved[join.Key]{}, fault.New(fault.Conflict, "the join key %s was revoked, and stays so", k.Name).Then("make another one").On("join key")
	}
	k.MadeAt, k.MadeBy, k.RevokedAt = old.MadeAt, old.MadeBy, nil
	k = own(k)
	if old.ExpiresAt == nil || k.ExpiresAt == nil || !k.ExpiresAt.Equal(*old.ExpiresAt) {
		if err := j.ahead(k); err != nil {
			return noun.Saved[join.Key]{}, err
		}
	}
	out, err := j.keys.Put(ctx, k, cond, by)
	out.Value = j.shown(out.Value)
	return out, err
}

// Revoke ends a key for good. Devices that have joined by it stay.
func (j *Joining) Revoke(ctx context.Context, name, by string) (join.Key, error) {
	k, err := j.keys.Get(name)
	if err != nil || k.RevokedAt != nil {
		return j.shown(k), err
	}
	now := j.o.Now().UTC()
	k.RevokedAt = &now
	out, err := j.keys.Put(ctx, k, noun.If{}, by)
	return j.shown(out.Value), err
}

// Regranted lets the keys of somebody follow what they reach now.
func (j *Joining) Regranted(ctx context.Context, name, where string) error {
	for _, k := range j.keys.List() {
		if k.MadeBy != name || k.Where == where || k.RevokedAt != nil {
			continue
		}
		k.Where = where
		if _, err := j.keys.Put(ctx, k, noun.If{}, ""); err != nil {
			return err
		}
	}
	return nil
}

// Remove takes a key away, and what was asked with it. Devices that have joined by it
// stay.
func (j *Joining) Remove(ctx context.Context, name string, cond noun.If, by string) error {
	return j.keys.Remove(ctx, name, cond, by)
}

// Keys returns the keys by name, without the serials that they list.
func (j *Joining) Keys() []join.Key {
	all := j.keys.List()
	for i := range all {
		all[i] = j.shown(all[i])
		all[i].Serials = nil
	}
	return all
}

// Key returns one key.
func (j *Joining) Key(name string) (join.Key, error) {
	k, err := j.keys.Get(name)
	return j.shown(k), err
}

func (j *Joining) shown(k join.Key) join.Key {
	j.mu.Lock()
	defer j.mu.Unlock()
	k.Listed = len(k.Serials)
	if c := j.counts[k.Name]; c != nil {
		k.Joined, k.Waiting = c.joined, c.waiting+c.again
	}
	return k
}

// Labels returns what is glued onto devices: the secret of each of some serials, or of
// those that the key lists where none are named.
func (j *Joining) Labels(name string, serials []string) (join.Key, []join.Label, error) {
	k, err := j.Key(name)
	if err != nil {
		return k, nil, err
	}
	if len(serials) == 0 {
		serials = k.Serials
	}
	if len(serials) == 0 {
		return k, nil, fault.New(fault.Invalid, "%s lists no serials", name).Then("say which serials the labels are for").On("serials")
	}
	if len(serials) > join.MaxSerials {
		return k, nil, fault.New(fault.TooLarge, "%d serials are too many at once; %d are the most", len(serials), join.MaxSerials).Then("ask in parts")
	}
	secret, ok := j.secretOf(name)
	if !ok {
		return k, nil, fault.New(fault.Conflict, "the secret of %s is not known here; was the service restored without its folder pki?", name).
			Then("put that folder back, or make another key")
	}
	out := make([]join.Label, len(serials))
	for i, s := range serials {
		if err := join.CheckSerial(s); err != nil {
			return k, nil, fault.New(fault.Invalid, "%s", err).On("serials")
		}
		if !k.Lists(s) {
			return k, nil, fault.New(fault.Invalid, "the serial %s is not on the list of %s", s, name).Then("add it to the key first").On("serials")
		}
		is, err := k.For(s)
		if err != nil {
			return k, nil, fault.New(fault.Invalid, "%s", err).On("serials")
		}
		out[i] = join.Label{Serial: s, Device: is.ID, Secret: join.Secret(name, secret, s)}
	}
	return k, out, nil
}

// Requests returns who asked to join, the latest first.
func (j *Joining) Requests() []join.Request {
	var out []join.Request
	j.mu.Lock()
	defer j.mu.Unlock()
	for _, r := range j.records.All() {
		out = append(out, j.polled(r))
	}
	slices.SortFunc(out, func(a, b join.Request) int {
		if c := b.At.Compare(a.At); c != 0 {
			return c
		}
		return strings.Compare(a.ID, b.ID)
	})
	return out
}

// polled is the request of r with how often it came; mu is held.
func (j *Joining) polled(r Record) join.Request {
	out := r.Request
	if p := j.polls[r.key()]; p != nil {
		out.Asked = p.asked
		if p.at.After(out.At) {
			out.At, out.From = p.at, p.from
		}
	}
	return out
}

// Request returns one of them.
func (j *Joining) Request(id string) (join.Request, error) {
	for _, r := range j.Requests() {
		if r.ID == id {
			return r, nil
		}
	}
	return join.Request{}, unknown(id)
}

func unknown(id string) error {
	return fault.New(fault.NotFound, "there is no request to join %q; did the device ask anew since?", value.Clip(id, 40)).Then("look at the list again").On("join request")
}

// maxDecided is how many requests are decided at once.
const maxDecided = 10_000

// Decide lets some requests in, or refuses them, all or none; those that are so already
// stay. It returns how many are other than before.
func (j *Joining) Decide(ctx context.Context, ids []string, admit bool, reason, by string) (n int, err error) {
	if len(ids) > maxDecided {
		return 0, fault.New(fault.TooLarge, "%d requests are too many at once; %d are the most", len(ids), maxDecided).Then("decide them in parts")
	}
	if wrong := value.Written(reason, 200); wrong != "" {
		return 0, fault.New(fault.Invalid, "the reason %s", wrong)
	}
	now := j.o.Now().UTC()
	err = j.o.Commits.Do(ctx, func(tx *commit.Tx) error {
		n = 0
		wanted := make(map[string]bool, len(ids))
		for _, id := range ids {
			wanted[id] = true
		}
		var keys []string
		for key, r := range j.records.All() {
			if wanted[r.Request.ID] {
				keys = append(keys, key)
			}
		}
		slices.Sort(keys)
		for _, key := range keys {
			r, ok := j.records.In(tx, key)
			if !ok || !wanted[r.Request.ID] {
				continue // it was asked anew just now
			}
			delete(wanted, r.Request.ID)
			next := r
			switch {
			case r.Request.State == join.Joined:
				return fault.New(fault.Conflict, "%s has joined already", r.Request.Serial).Then("suspend or retire the device %s", r.Request.Device).On("join request")
			case admit && r.Request.State == join.Admitted, !admit && r.Request.State == join.Refused:
				continue
			case admit:
				next.Request.State, next.Request.Reason = join.Admitted, ""
			default:
				next.Request.State, next.Request.Reason = join.Refused, reason
			}
			next.Request.DecidedAt, next.Request.DecidedBy = &now, by
			j.put(tx, r, next)
			tx.Tell(fact.New(now, fact.JoinDecided{Serial: r.Request.Serial, Key: r.Request.Key, Device: r.Request.Device, Admitted: admit, Again: r.Request.Again, Reason: reason}).Of(r.Request.Device).By(by))
			n++
		}
		for id := range wanted {
			return unknown(id)
		}
		return nil
	})
	return n, err
}

var errStands = errors.New("it stands otherwise now")
