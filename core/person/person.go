// Package person says who may do what: people, their roles, and which passwords
// are good enough.
package person

import (
	_ "embed"
	"errors"
	"fmt"
	"regexp"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"ullage/core/value"
	"ullage/core/yamldoc"
)

// Role is what somebody may do. Each may do what those before it may.
type Role string

// The roles, the one that may least first.
const (
	Viewer   Role = "viewer"   // looks
	Operator Role = "operator" // acknowledges, gives commands, sets settings of devices
	Engineer Role = "engineer" // onboards devices, makes models, rules, layers and sites, deletes readings
	Owner    Role = "owner"    // lets people in, and backs the service up
)

// Roles lists them, the one that may least first.
var Roles = []Role{Viewer, Operator, Engineer, Owner}

func (r Role) rank() int {
	for i, x := range Roles {
		if x == r {
			return i
		}
	}
	return -1
}

// Does reports whether somebody with this role may do what needs another. No role
// does nothing, and what needs none that exists is done by nobody.
func (r Role) Does(needs Role) bool { return needs.rank() >= 0 && r.rank() >= needs.rank() }

// Person is somebody who may sign in.
type Person struct {
	Name string `yaml:"person" json:"person" minLength:"1" maxLength:"63" doc:"Name to sign in with" example:"night-duty"`
	// Grants are their own; those of their teams come to them.
	Grants Grants `yaml:"grants,omitempty" json:"grants,omitempty" nullable:"false" doc:"What they may do, for which devices; their teams add to it"`
	Note   string `yaml:"note,omitempty" json:"note,omitempty" maxLength:"500" doc:"Who they are, for other people"`
	Start  *Start `yaml:"start,omitempty" json:"start,omitempty" doc:"The page with which they begin"`
	// Preferences are theirs to choose; an owner may too.
	Preferences *Preferences `yaml:"preferences,omitempty" json:"preferences,omitempty" doc:"How they want things shown"`
	// What follows is the service's to say.
	Role         Role       `yaml:"-" json:"role,omitempty" readOnly:"true" doc:"The greatest role that they have, for some devices or for all"`
	Limited      bool       `yaml:"-" json:"limited,omitempty" readOnly:"true" doc:"They see some of the devices, and not all"`
	Teams        []string   `yaml:"-" json:"teams,omitempty" readOnly:"true" doc:"Teams that they are in"`
	Subject      string     `yaml:"-" json:"subject,omitempty" readOnly:"true" doc:"Who they are at the provider that vouches for them; they have no password then"`
	SecondFactor bool       `yaml:"-" json:"second_factor,omitempty" readOnly:"true" doc:"They show a code of their phone too"`
	Invited      bool       `yaml:"-" json:"invited,omitempty" readOnly:"true" doc:"They have not chosen a password yet"`
	JoinedAt     *time.Time `yaml:"-" json:"joined_at,omitempty" readOnly:"true" doc:"When they were let in"`
	Sessions     int        `yaml:"-" json:"sessions,omitempty" readOnly:"true" doc:"Sign-ins that hold"`
}

// MaxSource is the largest file of a person that is read, in bytes.
const MaxSource = 16 << 10

// Parse reads one person from YAML and checks it. Keys that do not exist are
// refused with their line.
func Parse(src []byte) (*Person, error) { return parse(src, &Person{}, "a person", (*Person).Check) }

func parse[T any](src []byte, into *T, what string, check func(*T) error) (*T, error) {
	if err := yamldoc.Decode(src, into, what, MaxSource); err != nil {
		return nil, err
	}
	return into, check(into)
}

// YAML writes p as its file.
func (p *Person) YAML() []byte { return yamldoc.Encode(p) }

var name = regexp.MustCompile(`^[a-z][a-z0-9._-]{0,62}$`)

// Check checks p.
func (p *Person) Check() error {
	if !name.MatchString(p.Name) {
		return fmt.Errorf("%q is no name to sign in with; use small letters, digits, dots and hyphens, at most 63, the first a letter",
			value.Clip(p.Name, 40))
	}
	if err := checkGrants(p.Grants); err != nil {
		return err
	}
	if err := p.Start.check(); err != nil {
		return err
	}
	if err := p.Preferences.Check(); err != nil {
		return err
	}
	return checkNote(p.Note)
}

func checkNote(note string) error {
	if wrong := value.Written(note, 500); wrong != "" {
		return errors.New("the note " + wrong)
	}
	return nil
}

// LeastPassword and MostPassword bound the length of a password, in characters.
const (
	LeastPassword = 10
	MostPassword  = 200
)

// common.txt holds those of ten characters and more among 49,000 common
// passwords, in small letters: the list of @zxcvbn-ts/language-common 4.1.3, whose
// licence stands beside it. Shorter ones are refused for their length.
//
//go:embed common.txt
var commonList string

var common = sync.OnceValue(func() map[string]bool {
	all := map[string]bool{}
	for line := range strings.Lines(commonList) {
		all[strings.TrimSpace(line)] = true
	}
	return all
})

// CheckPassword says why a password of somebody is not good enough. It looks at
// its length and at a list of common ones, and asks for no signs of any kind
// (NIST SP 800-63B, section 5.1.1.2).
func CheckPassword(password, of string) error {
	n := utf8.RuneCountInString(password)
	low := strings.ToLower(password)
	switch {
	case !utf8.ValidString(password):
		return errors.New("the password is no text")
	case n < LeastPassword:
		return fmt.Errorf("the password has %d characters; use at least %d", n, LeastPassword)
	case n > MostPassword:
		return fmt.Errorf("the password has %d characters; use at most %d", n, MostPassword)
	case common()[low]:
		return errors.New("the password is one that many people use, which is tried first; use another one")
	case of != "" && strings.Trim(strings.ReplaceAll(low, strings.ToLower(of), ""), "0123456789") == "":
		return errors.New("the password is little more than the name; use another one")
	case strings.Count(low, low[:1]) == len(low):
		return errors.New("the password is one sign again and again; use another one")
	}
	return nil
}
