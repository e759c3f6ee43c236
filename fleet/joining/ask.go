package joining

import (
	"context"
	"crypto/hkdf"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"maps"
	"time"

	"golang.org/x/time/rate"

	"ullage/core/join"
	"ullage/core/person"
	"ullage/core/value"
	"ullage/fleet/commit"
	"ullage/fleet/devices"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
)

// Asked is what a device shows that wants to join.
type Asked struct {
	Secret string
	Serial string
	Nonce  string // as it was sent
	CSR    []byte // a request for a certificate, in the place of a nonce
	From   string // network address, without a port
	Over   string // how it came, as in "http, TLS 1.3"
}

// Answer is what it gets: a device with a credential, or the time after which it asks
// again.
type Answer struct {
	Device devices.Device
	Given  devices.Given
	After  time.Duration // it waits for a person if this is not zero
}

const (
	// lostFor is how long a reply that was lost can be fetched again.
	lostFor = 15 * time.Minute
	// pollEvery is how often somebody who waits should ask, and pollPace how often in a
	// minute they may.
	pollEvery = 30 * time.Second
	pollPace  = 20
)

// Ask lets a device join. What is refused before the secret was found right is
// Unauthenticated, and its sentence is for the engineer alone; the rest is for the
// device too.
func (j *Joining) Ask(ctx context.Context, a Asked) (Answer, error) {
	k, err := j.identify(a)
	if err != nil {
		return Answer{}, err
	}
	now := j.o.Now()
	refuse := func(format string, args ...any) (Answer, error) {
		return Answer{}, fault.New(fault.NotAllowed, format, args...)
	}
	switch {
	case k.RevokedAt != nil:
		return refuse("the join key %s was revoked on %s; the device needs a label of a newer one", k.Name, k.RevokedAt.Format(time.RFC3339))
	case !now.Before(*k.ExpiresAt):
		return refuse("the join key %s expired on %s; give it more time, or the device a label of a newer one", k.Name, k.ExpiresAt.Format(time.RFC3339))
	}
	attempt, err := attemptOf(a)
	if err != nil {
		return Answer{}, err
	}
	if err := j.pace(k.Name, a, now); err != nil {
		return Answer{}, err
	}
	j.mu.Lock()
	owner, seen := j.used[attempt]
	j.mu.Unlock()
	id := recordKey(k.Name, a.Serial)
	if seen && owner != id {
		return refuse("this nonce came from another serial before; does the device make random ones?")
	}
	r, known := j.records.Get(id)
	is, err := k.For(a.Serial)
	if err != nil {
		return Answer{}, fault.New(fault.Invalid, "%s", err).Then("correct the join key %s", k.Name)
	}
	j.trim(&is, k)
	if err := j.reaches(k, is); err != nil {
		return Answer{}, err
	}
	if len(a.CSR) > 0 { // a person should not let in what cannot be made
		if err := j.o.Devices.CheckRequest(is.ID, a.CSR, a.Serial); err != nil {
			return Answer{}, err
		}
	}
	switch {
	case known && !r.JoinedAt.IsZero() && attempt == r.Used:
		return j.again(ctx, k, r, a, attempt, now)
	case known && attempt == r.Attempt && r.Request.State == join.Admitted:
		return j.finish(ctx, k, r, is, a, attempt, now)
	case known && r.Request.State == join.Refused:
		return refuse("%s was refused%s; ask whoever did", a.Serial, because(r.Request.Reason))
	case known && attempt == r.Attempt && r.Request.State == join.Waiting:
		return Answer{After: pollEvery}, nil
	}
	return j.first(ctx, k, r, is, a, attempt, now)
}

func because(reason string) string {
	if reason == "" {
		return ""
	}
	return ": " + reason
}

// identify finds the key whose secret was shown.
func (j *Joining) identify(a Asked) (join.Key, error) {
	refuse := func(format string, args ...any) (join.Key, error) {
		return join.Key{}, fault.New(fault.Unauthenticated, format, args...)
	}
	if a.Secret == "" || a.Serial == "" {
		return refuse("no secret or no serial was given; both are on the label of the device")
	}
	if err := join.CheckSerial(a.Serial); err != nil {
		return refuse("%s", err)
	}
	name, ok := join.KeyOf(a.Secret)
	if !ok {
		return refuse("what was given is no secret for joining, which is the name of the join key, a dot and 43 letters")
	}
	k, there := j.keys.Find(name)
	secret, has := j.secretOf(name)
	if !there || !has {
		return refuse("there is no join key %s; was it removed?", name)
	}
	switch join.Match(name, secret, a.Serial, a.Secret) {
	case join.Own:
	case join.Common:
		// Whoever has the shared secret can take any serial, unless somebody looks.
		if !k.Person() && len(k.Serials) == 0 {
			return refuse("the secret is that of the whole key %s, which lists no serials and lets devices in without a person; flash each its own", name)
		}
	default:
		return refuse("the secret is not that of the serial %s under the join key %s; was the label of another device flashed?", a.Serial, name)
	}
	j.mu.Lock()
	listed := j.serials[name]
	j.mu.Unlock()
	if len(listed) > 0 && !listed[a.Serial] {
		return join.Key{}, fault.New(fault.NotAllowed, "the serial %s is not on the list of the join key %s", a.Serial, name).Then("add it there")
	}
	return k, nil
}

// attemptOf is what tells one attempt from another: the nonce, or the request for a
// certificate, whose key is the device's alone.
func attemptOf(a Asked) ([sha256.Size]byte, error) {
	if len(a.CSR) > 0 {
		return sha256.Sum256(append([]byte("csr "), a.CSR...)), nil
	}
	b, err := join.ParseNonce(a.Nonce)
	if err != nil {
		return [sha256.Size]byte{}, fault.New(fault.Invalid, "%s", err).On("nonce")
	}
	return sha256.Sum256(append([]byte("nonce "), b...)), nil
}

// pace counts how often one serial asks.
func (j *Joining) pace(key string, a Asked, now time.Time) error {
	j.mu.Lock()
	defer j.mu.Unlock()
	id := recordKey(key, a.Serial)
	p := j.polls[id]
	if p == nil {
		if len(j.polls) >= maxPolls {
			j.forget(now)
		}
		p = &poll{pace: rate.NewLimiter(rate.Limit(pollPace)/60, pollPace)}
		j.polls[id] = p
	}
	p.asked, p.at, p.from = p.asked+1, now.UTC(), a.From
	if !p.pace.AllowN(now, 1) {
		return fault.New(fault.TooMany, "%s asks more than %d times a minute", a.Serial, pollPace).Then("wait for as long as Retry-After says")
	}
	return nil
}

// maxPolls is of how many serials is known how often they asked.
const maxPolls = 50_000

// forget leaves out those that have not asked for a while; mu is held.
func (j *Joining) forget(now time.Time) {
	maps.DeleteFunc(j.polls, func(_ string, p *poll) bool { return now.Sub(p.at) > time.Minute })
	if len(j.polls) >= maxPolls {
		clear(j.polls)
	}
}

// trim leaves out labels that the serial decides and that decide who reaches the device:
// they are only given to serials that somebody has listed.
func (j *Joining) trim(is *join.Becomes, k join.Key) {
	if len(k.Serials) > 0 || j.o.Referred == nil {
		return
	}
	for _, name := range is.Templated {
		if j.o.Referred(name) {
			delete(is.Labels, name)
		}
	}
}

// reaches refuses devices that whoever made the key does not reach.
func (j *Joining) reaches(k join.Key, is join.Becomes) error {
	if k.Where == "" {
		return nil
	}
	j.mu.Lock()
	a := j.accesses[k.Where]
	j.mu.Unlock()
	if a == nil {
		var err error
		if a, err = person.NewAccess(k.Where); err != nil {
			return err
		}
		j.mu.Lock()
		if len(j.accesses) > 1000 {
			clear(j.accesses)
		}
		j.accesses[k.Where] = a
		j.mu.Unlock()
	}
	if !a.Reaches(is.ID, k.Model, is.Labels) {
		return fault.New(fault.NotAllowed, "%s would not be among the devices that the join key %s is for: %s", is.ID, k.Name, value.Clip(k.Where, 200))
	}
	return nil
}

// request is what is kept of an attempt.
func request(k join.Key, is join.Becomes, a Asked, attempt [sha256.Size]byte, now time.Time) join.Request {
	sum := sha256.Sum256([]byte(recordKey(k.Name, a.Serial) + "\x00" + string(attempt[:])))
	kind := devices.Token
	if len(a.CSR) > 0 {
		kind = devices.Certificate
	}
	return join.Request{ID: hex.EncodeToString(sum[:6]), Serial: a.Serial, Key: k.Name, Device: is.ID, Model: k.Model, Labels: is.Labels,
		Credential: string(kind), From: a.From, Over: a.Over, FirstAt: now.UTC(), At: now.UTC()}
}

// first takes an attempt that was not seen before.
func (j *Joining) first(ctx context.Context, k join.Key, was Record, is join.Becomes, a Asked, attempt [sha256.Size]byte, now time.Time) (Answer, error) {
	next := Record{Request: request(k, is, a, attempt, now), Attempt: attempt, Used: was.Used, JoinedAt: was.JoinedAt}
	if was.Request.ID != "" {
		next.Request.FirstAt = was.Request.FirstAt
	}
	if d, err := j.o.Devices.Get(is.ID); err == nil {
		switch {
		case was.JoinedAt.IsZero():
			next.Request.Reason = "there is a device " + is.ID + " already, which did not join with this serial"
		case d.Status == devices.Retired:
			return Answer{}, fault.New(fault.NotAllowed, "%s is %s, which is retired", a.Serial, d.ID).Then("give the hardware another serial, or the device a new life under another id")
		default:
			next.Request.Reason = "this serial joined before, from " + was.Request.From
			if was.Request.From != a.From {
				next.Request.Reason += ", and asks from another address now"
			}
		}
		next.Request.Again = true
	}
	if !next.Request.Again && !k.Person() {
		return j.finish(ctx, k, next, is, a, attempt, now)
	}
	next.Request.State = join.Waiting
	err := j.o.Commits.Do(ctx, func(tx *commit.Tx) error {
		old, _ := j.records.In(tx, next.key())
		if old.Attempt != was.Attempt || old.Request.State != was.Request.State {
			return fault.New(fault.Conflict, "%s asked twice at once", a.Serial).Then("ask again with the same nonce")
		}
		if err := j.room(k, old, next.Request.Again); err != nil {
			return err
		}
		// Somebody who asks anew and anew is told of once.
		if old.Request.State != join.Waiting || old.Request.Again != next.Request.Again {
			tx.Tell(fact.New(now, fact.JoinAsked{Serial: a.Serial, Key: k.Name, Device: is.ID, From: next.Request.From, Again: next.Request.Again}).Of(is.ID))
		}
		j.put(tx, old, next)
		return nil
	})
	if err != nil {
		return Answer{}, err
	}
	return Answer{After: pollEvery}, nil
}

// room refuses one more than the cap of a key.
func (j *Joining) room(k join.Key, old Record, again bool) error {
	j.mu.Lock()
	defer j.mu.Unlock()
	c := j.counts[k.Name]
	if c == nil {
		return nil
	}
	fresh := old.Request.ID == ""
	counted := !old.JoinedAt.IsZero() || !old.Request.Again && (old.Request.State == join.Waiting || old.Request.State == join.Admitted)
	switch {
	case !again && !counted && c.joined+c.admitted+c.waiting >= k.Cap:
		if c.waiting > 0 && c.joined+c.admitted < k.Cap {
			return fault.New(fault.NotAllowed, "the join key %s lets %d devices join, and as many have joined or wait", k.Name, k.Cap).Then("let them in or refuse them, or raise its cap")
		}
		return fault.New(fault.NotAllowed, "the join key %s is used up: %d devices have joined", k.Name, c.joined+c.admitted).Then("raise its cap, or make another one")
	case fresh && c.all >= 2*k.Cap+100:
		return fault.New(fault.NotAllowed, "too many serials have asked with the join key %s", k.Name).Then("look at who asked, and make another key")
	}
	return nil
}

// wanted is the credential for an attempt: a token that is made of the nonce, so that it
// can be made again for a reply that was lost, also after a restart.
func (j *Joining) wanted(a Asked, attempt [sha256.Size]byte) (devices.Wanted, error) {
	if len(a.CSR) > 0 {
		return devices.Wanted{Kind: devices.Certificate, Request: a.CSR, Names: []string{a.Serial}}, nil
	}
	nonce, err := join.ParseNonce(a.Nonce)
	if err != nil {
		return devices.Wanted{}, fault.New(fault.Invalid, "%s", err).On("nonce")
	}
	bits, err := hkdf.Key(sha256.New, j.o.Master, nonce, "ullage join token "+a.Secret+" "+a.Serial, devices.TokenBytes)
	return devices.Wanted{Bits: bits}, err
}

// finish makes the device, or gives the one there another credential, and writes down
// that it has joined.
func (j *Joining) finish(ctx context.Context, k join.Key, r Record, is join.Becomes, a Asked, attempt [sha256.Size]byte, now time.Time) (Answer, error) {
	w, err := j.wanted(a, attempt)
	if err != nil {
		return Answer{}, err
	}
	before := r
	r.Request.State, r.Request.Reason, r.Request.Device, r.Request.Labels = join.Joined, "", is.ID, is.Labels
	r.Request.From, r.Request.Over, r.Request.At = a.From, a.Over, now.UTC()
	r.Used, r.Attempt = attempt, attempt
	r.JoinedAt = now
	w.Within = func(tx *commit.Tx) error {
		old, _ := j.records.In(tx, r.key())
		if before.Request.State == join.Admitted && (old.Attempt != attempt || old.Request.State != join.Admitted) || before.Request.State == "" && old.Request.State == join.Joined {
			return errStands
		}
		if err := j.room(k, old, r.Request.Again); err != nil {
			return err
		}
		j.put(tx, old, r)
		tx.Tell(fact.New(now, fact.Joined{Serial: a.Serial, Key: k.Name, Device: is.ID, From: r.Request.From, Again: r.Request.Again}).Of(is.ID))
		return nil
	}
	by := "join key " + k.Name
	var out Answer
	if r.Request.Again {
		// What works stays until the device has the new one: whoever let it in has said
		// that it is the same device, or takes its place.
		out.Given, err = j.o.Devices.Renew(ctx, is.ID, w, false, by)
		if err == nil {
			out.Device, err = j.o.Devices.Get(is.ID)
		}
	} else {
		out.Device, out.Given, err = j.o.Devices.Onboard(ctx, devices.New{ID: is.ID, Model: k.Model, Labels: is.Labels}, w, by)
	}
	if errors.Is(err, errStands) {
		return Answer{}, fault.New(fault.Conflict, "%s asked twice at once", a.Serial).Then("ask again with the same nonce")
	}
	if err != nil {
		return Answer{}, err
	}
	j.remember(attempt, out.Given, now)
	return out, nil
}

// remember keeps a certificate for a while, in case that the reply is lost. A token is
// made again instead.
func (j *Joining) remember(attempt [sha256.Size]byte, g devices.Given, now time.Time) {
	if g.Token != "" {
		return
	}
	j.mu.Lock()
	defer j.mu.Unlock()
	maps.DeleteFunc(j.replies, func(_ [sha256.Size]byte, r reply) bool { return now.After(r.until) })
	if len(j.replies) < 10_000 {
		j.replies[attempt] = reply{g, now.Add(lostFor)}
	}
}

// again gives a device once more what it has got already: the reply was lost.
func (j *Joining) again(ctx context.Context, k join.Key, r Record, a Asked, attempt [sha256.Size]byte, now time.Time) (Answer, error) {
	if now.Sub(r.JoinedAt) > lostFor {
		return Answer{}, fault.New(fault.NotAllowed, "with this nonce %s has joined on %s, and its reply can be fetched for %s", a.Serial, r.JoinedAt.UTC().Format(time.RFC3339), value.Duration(lostFor)).
			Then("make a new nonce for each join")
	}
	d, err := j.o.Devices.Get(r.Request.Device)
	if err != nil {
		return Answer{}, err
	}
	j.mu.Lock()
	kept, ok := j.replies[attempt]
	j.mu.Unlock()
	if ok {
		return Answer{Device: d, Given: kept.given}, nil
	}
	w, err := j.wanted(a, attempt)
	if err != nil {
		return Answer{}, err
	}
	if len(a.CSR) > 0 { // the service has started anew since
		given, err := j.o.Devices.Renew(ctx, d.ID, w, true, "join key "+k.Name)
		return Answer{Device: d, Given: given}, err
	}
	given, works := j.o.Devices.Same(d.ID, w)
	if !works {
		return Answer{}, fault.New(fault.NotAllowed, "the token that %s has got with this nonce does not work any more", a.Serial).Then("make a new nonce, and ask again")
	}
	return Answer{Device: d, Given: given}, nil
}
