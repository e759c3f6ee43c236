// Package join works out what a join key gives: the secret of each serial, and the id
// and the labels of the device that a serial becomes.
package join

import (
	"crypto/hkdf"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"ullage/core/value"
	"ullage/core/yamldoc"
)

// The bounds of a key.
const (
	MaxSerials = 20_000
	MaxCap     = 100_000
	MaxSerial  = 64
	MaxSource  = 2 << 20 // of its file, in bytes
)

// Key is a join key: a secret for a batch of devices with which each gets its own
// credential.
type Key struct {
	Name      string            `yaml:"join_key" json:"join_key" minLength:"1" maxLength:"40" doc:"Its name" example:"fennimore-pallet"`
	Model     string            `yaml:"model" json:"model" maxLength:"63" doc:"Model of its devices" example:"tank-probe"`
	Device    string            `yaml:"device,omitempty" json:"device,omitempty" maxLength:"100" doc:"Ids of its devices, with {serial}, {part1} … {part9}, {firstN} and {lastN} for the serial, its parts, and its first and last N characters; {serial} if left out" example:"tank-{part2}-{last2}"`
	Labels    map[string]string `yaml:"labels,omitempty" json:"labels,omitempty" nullable:"false" doc:"Labels of its devices, with the same placeholders" example:"{\"site\":\"Fennimore\"}"`
	Cap       int               `yaml:"cap" json:"cap" minimum:"1" maximum:"100000" doc:"How many devices it lets join" example:"40"`
	ExpiresAt *time.Time        `yaml:"expires_at" json:"expires_at" nullable:"false" doc:"Until when it lets devices join" example:"2026-06-01T00:00:00Z"`
	Approval  string            `yaml:"approval,omitempty" json:"approval,omitempty" enum:"person,none" doc:"person: somebody lets each device in; none: each comes in by itself; person if left out" example:"none"`
	Serials   []string          `yaml:"serials,omitempty" json:"serials,omitempty" nullable:"false" maxItems:"20000" doc:"The serials that may join; any if left out. Lists of keys leave them out" example:"[\"TP-fennimore-91\"]"`
	Note      string            `yaml:"note,omitempty" json:"note,omitempty" maxLength:"500" doc:"What it is for, for other people"`
	// What follows is the service's to say.
	Listed    int        `yaml:"-" json:"listed,omitempty" readOnly:"true" doc:"How many serials are listed"`
	Where     string     `yaml:"-" json:"where,omitempty" readOnly:"true" doc:"Condition that its devices meet, since whoever made it reaches no others"`
	Joined    int        `yaml:"-" json:"joined" readOnly:"true" doc:"How many devices have joined by it"`
	Waiting   int        `yaml:"-" json:"waiting" readOnly:"true" doc:"How many wait for a person"`
	MadeAt    *time.Time `yaml:"-" json:"made_at,omitempty" readOnly:"true" doc:"When it was made"`
	MadeBy    string     `yaml:"-" json:"made_by,omitempty" readOnly:"true" doc:"Who made it"`
	RevokedAt *time.Time `yaml:"-" json:"revoked_at,omitempty" readOnly:"true" doc:"When it was revoked"`
}

// The kinds of approval.
const (
	ByPerson = "person"
	ByNobody = "none"
)

var (
	keyName   = regexp.MustCompile(`^[a-z][a-z0-9-]{0,39}$`)
	serial    = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._:/+-]{0,63}$`)
	deviceID  = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}$`)
	labelName = regexp.MustCompile(`^[a-z][a-z0-9_]{0,62}$`)
	notInID   = regexp.MustCompile(`[^a-z0-9]+`)
	held      = regexp.MustCompile(`\{[^{}]*\}`)
)

// Parse reads one key from YAML and checks it.
func Parse(src []byte) (*Key, error) {
	k := &Key{}
	if err := yamldoc.Decode(src, k, "a join key", MaxSource); err != nil {
		return nil, err
	}
	return k, k.Check()
}

// YAML writes k as its file.
func (k *Key) YAML() []byte { return yamldoc.Encode(k) }

// Check checks k alone.
func (k *Key) Check() error {
	switch {
	case !keyName.MatchString(k.Name):
		return fmt.Errorf("%q is no name of a join key; use small letters, digits and hyphens, at most 40, the first a letter", value.Clip(k.Name, 50))
	case k.Model == "":
		return errors.New("the key names no model; say which one its devices have")
	case k.Cap < 1 || k.Cap > MaxCap:
		return fmt.Errorf("the cap is %d; say how many devices may join, from 1 to %d", k.Cap, MaxCap)
	case k.ExpiresAt == nil || k.ExpiresAt.IsZero():
		return errors.New("the key never expires; say until when devices may join, as in expires_at: 2026-06-01T00:00:00Z")
	case k.Approval != "" && k.Approval != ByPerson && k.Approval != ByNobody:
		return fmt.Errorf("%q is no approval; there are %s and %s", value.Clip(k.Approval, 40), ByPerson, ByNobody)
	case len(k.Serials) > MaxSerials:
		return fmt.Errorf("%d serials are listed; %d are the most", len(k.Serials), MaxSerials)
	case len(k.Labels) > 50:
		return fmt.Errorf("there are %d labels; 50 are the most", len(k.Labels))
	case value.Written(k.Note, 500) != "":
		return errors.New("the note " + value.Written(k.Note, 500))
	}
	seen := make(map[string]bool, len(k.Serials))
	for _, s := range k.Serials {
		if err := CheckSerial(s); err != nil {
			return err
		}
		if seen[s] {
			return fmt.Errorf("the serial %s is listed twice", s)
		}
		seen[s] = true
	}
	if err := checkTemplate(k.id()); err != nil {
		return fmt.Errorf("device: %w", err)
	}
	for _, name := range slices.Sorted(maps.Keys(k.Labels)) {
		if !labelName.MatchString(name) {
			return fmt.Errorf("%q is no name of a label; use small letters, digits and underscores, the first a letter", value.Clip(name, 50))
		}
		if err := checkTemplate(k.Labels[name]); err != nil {
			return fmt.Errorf("the label %s: %w", name, err)
		}
	}
	if !held.MatchString(k.id()) && k.Cap > 1 {
		return fmt.Errorf("all devices would be called %s; put a part of the serial into their ids, as in tank-{serial}", k.id())
	}
	return nil
}

// CheckSerial refuses what is no serial.
func CheckSerial(s string) error {
	if !serial.MatchString(s) {
		return fmt.Errorf("%q is no serial; it has letters, digits and . _ : / + -, at most %d, the first a letter or digit", value.Clip(s, 70), MaxSerial)
	}
	return nil
}

func (k *Key) id() string {
	if k.Device == "" {
		return "{serial}"
	}
	return k.Device
}

// Person reports whether somebody lets each device in.
func (k *Key) Person() bool { return k.Approval != ByNobody }

// Lists reports whether a serial may join.
func (k *Key) Lists(s string) bool { return len(k.Serials) == 0 || slices.Contains(k.Serials, s) }

// Becomes is the device that a serial becomes.
type Becomes struct {
	ID     string
	Labels map[string]string
	// Templated are the labels that the serial decides.
	Templated []string
}

// For returns what a serial becomes. It fails where the serial has not the parts that
// the key speaks of.
func (k *Key) For(s string) (Becomes, error) {
	id, err := expand(k.id(), s)
	if err != nil {
		return Becomes{}, fmt.Errorf("no device id comes of the serial %s: %w", s, err)
	}
	out := Becomes{ID: strings.Trim(notInID.ReplaceAllString(strings.ToLower(id), "-"), "-"), Labels: make(map[string]string, len(k.Labels))}
	if !deviceID.MatchString(out.ID) {
		return Becomes{}, fmt.Errorf("the serial %s gives the device id %q, which is none", s, value.Clip(out.ID, 70))
	}
	for _, name := range slices.Sorted(maps.Keys(k.Labels)) {
		v, err := expand(k.Labels[name], s)
		if err != nil {
			return Becomes{}, fmt.Errorf("the label %s cannot be made of the serial %s: %w", name, s, err)
		}
		out.Labels[name] = v
		if held.MatchString(k.Labels[name]) {
			out.Templated = append(out.Templated, name)
		}
	}
	return out, nil
}

func checkTemplate(t string) error {
	if len(t) > 200 {
		return errors.New("it has more than 200 characters")
	}
	for _, h := range held.FindAllString(t, -1) {
		if _, _, err := placeholder(h[1 : len(h)-1]); err != nil {
			return err
		}
	}
	if strings.ContainsAny(held.ReplaceAllString(t, ""), "{}") {
		return fmt.Errorf("%q has a brace that stands alone", value.Clip(t, 60))
	}
	return nil
}

// placeholder reads what stands between braces: a kind, and a number where it has one.
func placeholder(s string) (kind string, n int, err error) {
	kind = strings.TrimRight(s, "0123456789")
	digits := s[len(kind):]
	if len(digits) > 0 && len(digits) < 3 {
		fmt.Sscanf(digits, "%d", &n)
	}
	switch {
	case kind == "serial" && digits == "", kind == "part" && n >= 1 && n <= 9, (kind == "first" || kind == "last") && n >= 1 && n <= MaxSerial:
		return kind, n, nil
	}
	return "", 0, fmt.Errorf("{%s} is not known; there are {serial}, {part1} to {part9}, {first4} and {last4}, with numbers up to %d", value.Clip(s, 30), MaxSerial)
}

// expand puts a serial into a template.
func expand(t, s string) (string, error) {
	var wrong error
	out := held.ReplaceAllStringFunc(t, func(h string) string {
		kind, n, err := placeholder(h[1 : len(h)-1])
		if err != nil {
			wrong = err
			return ""
		}
		switch kind {
		case "part":
			parts := strings.FieldsFunc(s, func(r rune) bool { return strings.ContainsRune("._:/+-", r) })
			if n > len(parts) {
				wrong = fmt.Errorf("it has %d parts, and %s is asked for", len(parts), h)
				return ""
			}
			return parts[n-1]
		case "first":
			return s[:min(n, len(s))]
		case "last":
			return s[max(len(s)-n, 0):]
		}
		return s
	})
	return out, wrong
}

// Secrets are made of the secret of a key, which has 256 random bits.

// secretBytes is how long a secret is.
const secretBytes = 32

// Shared returns the secret of the whole key, as it is shown.
func Shared(name string, secret []byte) string {
	return name + "." + base64.RawURLEncoding.EncodeToString(secret)
}

// info separates the secrets of serials from all else that is made of a key (RFC
// 5869, 3.2).
const info = "ullage join "

// Secret returns the secret of one serial: HKDF-SHA256 (RFC 5869) of the key's, without
// a salt, for "ullage join " and the serial. Whoever opens a device learns its own
// secret and nothing of another's.
func Secret(name string, secret []byte, serial string) string {
	b, err := hkdf.Key(sha256.New, secret, nil, info+serial, secretBytes)
	if err != nil { // never: the length is a constant that HKDF gives
		panic(err)
	}
	return Shared(name, b)
}

// Shows is what a device has shown.
type Shows string

// What a device may show.
const (
	Nothing Shows = ""
	Own     Shows = "own"    // the secret of its serial
	Common  Shows = "common" // that of the whole key
)

// Match says what a given secret is, in the same time whatever it is.
func Match(name string, secret []byte, serial, given string) Shows {
	own := subtle.ConstantTimeCompare([]byte(Secret(name, secret, serial)), []byte(given)) == 1
	common := subtle.ConstantTimeCompare([]byte(Shared(name, secret)), []byte(given)) == 1
	switch {
	case own:
		return Own
	case common:
		return Common
	}
	return Nothing
}

// KeyOf returns the name of the key that a secret is of, as it says.
func KeyOf(given string) (name string, ok bool) {
	name, rest, dotted := strings.Cut(given, ".")
	return name, dotted && rest != "" && len(given) <= 128 && keyName.MatchString(name)
}

// ParseNonce reads a nonce that a device has made: at least 16 random bytes and at most
// 64, in hexadecimal digits or Base64, with or without padding, of either alphabet.
func ParseNonce(s string) ([]byte, error) {
	wrong := func(why string) ([]byte, error) {
		return nil, fmt.Errorf("the nonce %s; make 16 random bytes for each join, and write them in hexadecimal digits or Base64", why)
	}
	if s == "" {
		return wrong("is missing")
	}
	if len(s) > 128 {
		return wrong(fmt.Sprintf("has %d characters; 128 are the most", len(s)))
	}
	b, err := hex.DecodeString(s)
	if err != nil {
		plain := strings.NewReplacer("-", "+", "_", "/").Replace(strings.TrimRight(s, "="))
		if b, err = base64.RawStdEncoding.DecodeString(plain); err != nil {
			return wrong("is neither hexadecimal digits nor Base64")
		}
	}
	if len(b) < 16 {
		return wrong(fmt.Sprintf("has %d bytes; 16 are the least", len(b)))
	}
	// A generator that was never started gives the same byte again and again.
	different := map[byte]bool{}
	for _, x := range b {
		different[x] = true
	}
	if len(different) < 4 {
		return wrong("is not random: it has hardly two bytes that differ")
	}
	return b, nil
}

// State is where a request to join is.
type State string

// The states.
const (
	Waiting  State = "waiting"  // for a person
	Admitted State = "admitted" // it gets its credential when it asks again
	Joined   State = "joined"
	Refused  State = "refused"
)

// Request is that a device asked to join, and what became of it.
type Request struct {
	ID         string            `json:"join_request" doc:"Of this attempt; another one of the same serial has another" example:"5f1c9a0e77d3"`
	Serial     string            `json:"serial" doc:"Its serial" example:"TP-fennimore-91"`
	Key        string            `json:"join_key" doc:"Join key that it came with"`
	Device     string            `json:"device" doc:"Device that it is, or would be"`
	Model      string            `json:"model" doc:"Model of that"`
	Labels     map[string]string `json:"labels,omitempty" doc:"Labels of that"`
	State      State             `json:"state" enum:"waiting,admitted,joined,refused" doc:"waiting for a person; admitted, and not come for its credential yet; joined; refused"`
	Again      bool              `json:"again,omitempty" doc:"There is a device of this serial or id already; it works on as it is until somebody lets this one in"`
	Reason     string            `json:"reason,omitempty" doc:"Why it waits, or was refused"`
	Credential string            `json:"credential" enum:"token,certificate" doc:"What it asks for"`
	From       string            `json:"from,omitempty" doc:"Address that it asked from last"`
	Over       string            `json:"over,omitempty" doc:"How it asked: over http or est, and the version of TLS" example:"http, TLS 1.3"`
	Asked      int               `json:"asked" doc:"How often it asked since the service started"`
	FirstAt    time.Time         `json:"first_at" doc:"When it asked first"`
	At         time.Time         `json:"at" doc:"When it asked last"`
	DecidedAt  *time.Time        `json:"decided_at,omitempty" doc:"When somebody let it in or refused it"`
	DecidedBy  string            `json:"decided_by,omitempty" doc:"Who did"`
}
