package person

import (
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"ullage/core/expr"
	"ullage/core/value"
	"ullage/core/yamldoc"
)

// Grant is a role for some devices.
type Grant struct {
	Role   Role   `yaml:"role" json:"role" enum:"viewer,operator,engineer,owner" doc:"What they may do; each role may do what those before it may" example:"operator"`
	Access string `yaml:"access,omitempty" json:"access,omitempty" maxLength:"4000" doc:"For which devices: a condition over labels, device.id and device.model; for all where it is empty" example:"label.site == \"Fennimore\""`
}

// Grants are what somebody may do.
type Grants []Grant

// Words tells a grant in a sentence's part.
func (g Grant) Words() string {
	if g.Access == "" {
		return string(g.Role)
	}
	return string(g.Role) + " for " + g.Access
}

// Words tells them in a sentence's part.
func (gs Grants) Words() string {
	out := make([]string, len(gs))
	for i, g := range gs {
		out[i] = g.Words()
	}
	return strings.Join(out, ", ")
}

// MaxGrants is how many grants a person, a team or a key may have.
const MaxGrants = 50

// Check checks g.
func (g Grant) Check() error {
	if err := g.Role.check(); err != nil {
		return err
	}
	if strings.TrimSpace(g.Access) == "" {
		return nil
	}
	if g.Role == Owner {
		return errors.New("an owner has the service and all of its devices; give the role without an access")
	}
	_, err := NewAccess(g.Access)
	return err
}

func checkGrants(grants []Grant) error {
	if len(grants) > MaxGrants {
		return fmt.Errorf("there are %d grants; %d are the most", len(grants), MaxGrants)
	}
	for i, g := range grants {
		if err := g.Check(); err != nil {
			return fmt.Errorf("grant %d: %w", i+1, err)
		}
	}
	return nil
}

// Most returns the greatest of the roles; none where there are no grants.
func Most(grants []Grant) (most Role) {
	for _, g := range grants {
		if most == "" || g.Role.Does(most) {
			most = g.Role
		}
	}
	return most
}

func (r Role) check() error {
	if r.rank() >= 0 {
		return nil
	}
	words := make([]string, len(Roles))
	for i, r := range Roles {
		words[i] = string(r)
	}
	near := ""
	if n := value.Nearest(string(r), words); n != "" {
		near = "; did you mean " + n + "?"
	}
	return fmt.Errorf("%q is no role; there are %s%s", value.Clip(string(r), 40), strings.Join(words, ", "), near)
}

// Access is a compiled condition that says which devices somebody reaches. It is
// safe for use by several goroutines.
type Access struct {
	source string
	labels []string

	mu      sync.Mutex
	program *expr.Program
	state   *expr.State
	slots   []expr.Name
}

// NewAccess compiles a condition over labels, device.id and device.model. What a
// device says of itself, and what passes with time, is refused.
func NewAccess(src string) (*Access, error) {
	plan := expr.NewPlan(expr.NewSchema("devices", 0))
	p, found := plan.Compile(src, expr.ForAccess)
	if p == nil {
		return nil, fmt.Errorf("the access: %w", found.Errors())
	}
	a := &Access{source: p.Source, program: p, state: plan.NewState(time.Time{})}
	for _, i := range plan.Names() {
		a.slots = append(a.slots, i.Name)
		if i.Name.Scope == "label" {
			a.labels = append(a.labels, i.Name.Key)
		}
	}
	slices.Sort(a.labels)
	return a, nil
}

// Source returns the condition in its canonical form.
func (a *Access) Source() string { return a.source }

// Labels returns the keys of the labels that it looks at, by name.
func (a *Access) Labels() []string { return a.labels }

// Names returns what it looks at, such as label.site, each once.
func (a *Access) Names() []string {
	out := make([]string, len(a.slots))
	for i, n := range a.slots {
		out[i] = n.String()
	}
	return out
}

// Reaches reports whether a device is among those that are reached. One for which
// that is unknown, for want of a label, is not.
func (a *Access) Reaches(id, model string, labels map[string]string) bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	for slot, n := range a.slots {
		var v value.Value
		switch {
		case n.Scope == "device" && n.Key == "id":
			v = value.Value{Kind: value.Text, Text: id}
		case n.Scope == "device":
			v = value.Value{Kind: value.Text, Text: model}
		default:
			if x, has := labels[n.Key]; has && x != "" {
				v = value.Value{Kind: value.Text, Text: x}
			}
		}
		a.state.Set(slot, expr.Sample{Value: v})
	}
	return a.program.Truth(a.state) == expr.True
}

// Team is some people who share grants. It may be the people of one customer.
type Team struct {
	Name   string   `yaml:"team" json:"team" minLength:"1" maxLength:"63" doc:"Its name" example:"cellars"`
	Grants Grants   `yaml:"grants" json:"grants,omitempty" nullable:"false" doc:"What each of its people may do, beside their own grants"`
	People []string `yaml:"people,omitempty" json:"people,omitempty" nullable:"false" maxItems:"1000" doc:"Names of its people" example:"[\"night-duty\"]"`
	Start  *Start   `yaml:"start,omitempty" json:"start,omitempty" doc:"The page with which its people begin, unless they have one of their own"`
	Note   string   `yaml:"note,omitempty" json:"note,omitempty" maxLength:"500" doc:"What it is for, for other people"`
}

// ParseTeam reads one team from YAML and checks it.
func ParseTeam(src []byte) (*Team, error) { return parse(src, &Team{}, "a team", (*Team).Check) }

// YAML writes t as its file.
func (t *Team) YAML() []byte { return yamldoc.Encode(t) }

// Check checks t.
func (t *Team) Check() error {
	if !name.MatchString(t.Name) {
		return fmt.Errorf("%q is no name of a team; use small letters, digits, dots and hyphens, at most 63, the first a letter",
			value.Clip(t.Name, 40))
	}
	if len(t.People) > 1000 {
		return fmt.Errorf("the team has %d people; 1000 are the most", len(t.People))
	}
	for _, p := range t.People {
		if !name.MatchString(p) {
			return fmt.Errorf("%q is no name of a person", value.Clip(p, 40))
		}
	}
	if err := checkGrants(t.Grants); err != nil {
		return err
	}
	if err := t.Start.check(); err != nil {
		return err
	}
	return checkNote(t.Note)
}

// Key is a credential for programs that call the API. Its secret is shown once.
type Key struct {
	Name      string `yaml:"key" json:"key" minLength:"1" maxLength:"63" doc:"Its name" example:"press-hall-screen"`
	Grant     `yaml:",inline"`
	ExpiresAt *time.Time `yaml:"expires_at,omitempty" json:"expires_at,omitempty" doc:"Until when it may be used; always if left out"`
	Note      string     `yaml:"note,omitempty" json:"note,omitempty" maxLength:"500" doc:"What it is for, for other people"`
	Page      string     `yaml:"page,omitempty" json:"page,omitempty" maxLength:"500" doc:"The one page of the console that it is for: it lets in screens then, by codes, and has no secret" example:"/devices/air-kilnside-2"`
	// What follows is the service's to say.
	Screens  int        `yaml:"-" json:"screens,omitempty" readOnly:"true" doc:"Screens that are let in with it"`
	MadeAt   *time.Time `yaml:"-" json:"made_at,omitempty" readOnly:"true" doc:"When it was made"`
	MadeBy   string     `yaml:"-" json:"made_by,omitempty" readOnly:"true" doc:"Who made it"`
	UsedAt   *time.Time `yaml:"-" json:"used_at,omitempty" readOnly:"true" doc:"When it was last used, to some minutes"`
	UsedFrom string     `yaml:"-" json:"used_from,omitempty" readOnly:"true" doc:"Address that it was last used from"`
}

// ParseKey reads one key from YAML and checks it.
func ParseKey(src []byte) (*Key, error) { return parse(src, &Key{}, "a key", (*Key).Check) }

// YAML writes k as its file.
func (k *Key) YAML() []byte { return yamldoc.Encode(k) }

// Check checks k. A key is no owner: it lets nobody in.
func (k *Key) Check() error {
	switch {
	case !name.MatchString(k.Name):
		return fmt.Errorf("%q is no name of a key; use small letters, digits, dots and hyphens, at most 63, the first a letter",
			value.Clip(k.Name, 40))
	case k.Role == Owner:
		return errors.New("a key cannot be an owner: programs let nobody in; give it the role engineer at most")
	}
	if k.Page != "" {
		if k.Role != Viewer {
			return fmt.Errorf("a key with a page is for screens, which only look: give it the role %s", Viewer)
		}
		if _, err := ParseShown(k.Page); err != nil {
			return err
		}
	}
	if err := k.Grant.Check(); err != nil {
		return err
	}
	return checkNote(k.Note)
}

// Start is the page of the console with which somebody begins.
type Start struct {
	Page string `yaml:"page" json:"page" maxLength:"500" doc:"Its path, with what stands behind the ?" example:"/devices/tank-fennimore-07"`
	Only bool   `yaml:"only,omitempty" json:"only,omitempty" doc:"Nothing but this page, over the full screen and without the way to others"`
}

// Words tells it in a sentence's part.
func (s *Start) Words() string {
	switch {
	case s == nil:
		return ""
	case s.Only:
		return s.Page + " and nothing else"
	}
	return s.Page
}

func (s *Start) check() error {
	if s == nil {
		return nil
	}
	u, err := url.Parse(s.Page)
	switch {
	case err != nil, !strings.HasPrefix(s.Page, "/"), strings.HasPrefix(s.Page, "//"), strings.ContainsAny(s.Page, "\\\n\r\t"),
		u != nil && (u.Host != "" || u.Fragment != ""):
		return fmt.Errorf("%q is no page of the console; write its path, such as /devices/tank-fennimore-07 or /?by=site", value.Clip(s.Page, 60))
	case len(s.Page) > 500:
		return fmt.Errorf("the address of the page has %d characters; 500 are the most", len(s.Page))
	}
	return nil
}
