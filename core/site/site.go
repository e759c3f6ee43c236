// Package site reads the places of a fleet from their files, and checks them.
package site

import (
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"ullage/core/value"
	"ullage/core/yamldoc"
)

// MaxSource is the largest file of a site that is read, in bytes.
const MaxSource = 64 << 10

// Site is a place where devices are. A device belongs to the site that its label
// site names.
type Site struct {
	Name      string   `yaml:"site" json:"site" minLength:"1" maxLength:"100" doc:"Name, as in label.site" example:"High Orchard"`
	Zone      string   `yaml:"zone,omitempty" json:"zone,omitempty" maxLength:"64" doc:"Time zone by its IANA name; that of the service if empty" example:"Europe/Berlin"`
	Latitude  *float64 `yaml:"latitude,omitempty" json:"latitude,omitempty" minimum:"-90" maximum:"90" doc:"Degrees north (WGS 84)" example:"47.701"`
	Longitude *float64 `yaml:"longitude,omitempty" json:"longitude,omitempty" minimum:"-180" maximum:"180" doc:"Degrees east (WGS 84)" example:"8.198"`
	Address   string   `yaml:"address,omitempty" json:"address,omitempty" maxLength:"500" doc:"Where to drive to"`
	Note      string   `yaml:"note,omitempty" json:"note,omitempty" maxLength:"4000" doc:"What whoever goes there should know"`
	// Plan is the name of a picture beside the file; in the service it is kept
	// apart, and only its type is known here.
	Plan string `yaml:"plan,omitempty" json:"plan,omitempty" readOnly:"true" maxLength:"200" doc:"In a file the name of the plan picture beside it; in the service its media type. The picture itself is at …/plan" example:"image/svg+xml"`
	// At is where devices stand on the plan, and Call who is called about the place, the first
	// one first.
	At   map[string][]float64 `yaml:"at,omitempty,flow" json:"at,omitempty" doc:"Where devices stand on the plan, in percent from the left and from the top" example:"{\"tank-fennimore-07\":[30,40]}"`
	Call []OnCall             `yaml:"call,omitempty" json:"call,omitempty" maxItems:"20" doc:"Who is called about it, the first one first"`
	// Devices is filled in by the service.
	Devices int `yaml:"-" json:"devices,omitempty" readOnly:"true" minimum:"0" doc:"How many devices are there; the service counts them"`
}

// OnCall is somebody who is called about a site. They need not be a person of Ullage.
type OnCall struct {
	Who   string `yaml:"who" json:"who" minLength:"1" maxLength:"100" doc:"Name, or what they are there" example:"cellar-master"`
	Phone string `yaml:"phone,omitempty" json:"phone,omitempty" maxLength:"40" example:"+49 30 23125 014"`
	Mail  string `yaml:"mail,omitempty" json:"mail,omitempty" maxLength:"254" example:"cellar-master@example.org"`
	When  string `yaml:"when,omitempty" json:"when,omitempty" maxLength:"200" doc:"When, and what for" example:"by day"`
}

// The bounds of a site.
const (
	MostPlaced = 1000 // devices on a plan
	MostOnCall = 20
)

// phone is a number as people write it down.
var phone = regexp.MustCompile(`^\+?[0-9][0-9 ()/.-]{2,38}$`)

// Parse reads one site from YAML and checks it.
func Parse(src []byte) (*Site, error) {
	s, err := Read(src)
	if err != nil {
		return nil, err
	}
	return s, s.Check()
}

// Read reads one site from YAML and checks nothing but its form. Keys that do
// not exist are refused with their line.
func Read(src []byte) (*Site, error) {
	s := &Site{}
	return s, yamldoc.Decode(src, s, "a site", MaxSource)
}

// YAML writes s as its file.
func (s *Site) YAML() []byte { return yamldoc.Encode(s) }

// Error is one thing wrong with a site.
type Error struct {
	Key      string // of the file; empty for the whole
	Sentence string
}

// Error returns the sentence.
func (e *Error) Error() string { return e.Sentence }

// picture is what a file may name as its plan, and what the service may call it.
var picture = regexp.MustCompile(`^([A-Za-z0-9][A-Za-z0-9._ -]*\.(svg|png|jpg|jpeg)|image/(svg\+xml|png|jpeg))$`)

// Check checks s. The error is of type *Error.
func (s *Site) Check() error {
	wrong := func(key, format string, args ...any) error { return &Error{key, fmt.Sprintf(format, args...)} }
	if s.Name == "" || s.Name != strings.TrimSpace(s.Name) || strings.ContainsFunc(s.Name, unprintable) ||
		utf8.RuneCountInString(s.Name) > 100 || s.Name == "." || s.Name == ".." {
		return wrong("site", "a site has a name of one line and at most 100 characters, without space at its ends; this one is %q", value.Clip(s.Name, 60))
	}
	if _, err := s.Location(); err != nil {
		return wrong("zone", "%s: %q is no time zone that is known; write a name of the IANA database, such as UTC or Europe/Berlin", s.Name, value.Clip(s.Zone, 60))
	}
	if (s.Latitude == nil) != (s.Longitude == nil) {
		return wrong("latitude", "%s: a position has a latitude and a longitude; write both or none", s.Name)
	}
	if s.Latitude != nil && !(*s.Latitude >= -90 && *s.Latitude <= 90) {
		return wrong("latitude", "%s: the latitude is %g; it is from -90 to 90 degrees, north is positive", s.Name,
			*s.Latitude)
	}
	if s.Longitude != nil && !(*s.Longitude >= -180 && *s.Longitude <= 180) {
		return wrong("longitude", "%s: the longitude is %g; it is from -180 to 180 degrees, east is positive", s.Name,
			*s.Longitude)
	}
	for key, text := range map[string]string{"address": s.Address, "note": s.Note} {
		if bad := value.Written(text, map[string]int{"address": 500, "note": 4000}[key]); bad != "" {
			return wrong(key, "%s: the %s %s", s.Name, key, bad)
		}
	}
	if len(s.At) > MostPlaced {
		return wrong("at", "%s: %d devices stand on its plan; %d are the most", s.Name, len(s.At), MostPlaced)
	}
	for _, id := range slices.Sorted(maps.Keys(s.At)) {
		if p := s.At[id]; len(id) > 63 || len(p) != 2 || !(p[0] >= 0 && p[0] <= 100 && p[1] >= 0 && p[1] <= 100) {
			return wrong("at", "%s: %s stands nowhere on the plan; write percent from the left and from the top, like [30, 40]", s.Name, value.Clip(id, 63))
		}
	}
	if len(s.Call) > MostOnCall {
		return wrong("call", "%s: %d people are to be called; %d are the most", s.Name, len(s.Call), MostOnCall)
	}
	for i, c := range s.Call {
		if err := c.check(); err != nil {
			return wrong("call", "%s: number %d of those to call: %s", s.Name, i+1, err)
		}
	}
	if s.Plan != "" && !picture.MatchString(s.Plan) {
		return wrong("plan", "%s: the plan is %q; name a picture beside the file that ends in .svg, .png or .jpg",
			s.Name, value.Clip(s.Plan, 60))
	}
	return nil
}

func (c *OnCall) check() error {
	for _, f := range []struct {
		what, text string
		most       int
	}{{"name", c.Who, 100}, {"mail address", c.Mail, 254}, {"when", c.When, 200}} {
		if utf8.RuneCountInString(f.text) > f.most || !utf8.ValidString(f.text) || strings.ContainsFunc(f.text, unicode.IsControl) {
			return fmt.Errorf("the %s is one line of at most %d characters", f.what, f.most)
		}
	}
	switch {
	case strings.TrimSpace(c.Who) == "":
		return errors.New("say who it is")
	case c.Phone != "" && !phone.MatchString(c.Phone):
		return fmt.Errorf("%q is no number; write it like +49 30 23125 014", value.Clip(c.Phone, 40))
	case c.Mail != "" && (strings.Count(c.Mail, "@") != 1 || strings.ContainsAny(c.Mail, " <>\"?&") || strings.HasPrefix(c.Mail, "@") || strings.HasSuffix(c.Mail, "@")):
		return fmt.Errorf("%q is no mail address", value.Clip(c.Mail, 60))
	}
	return nil
}

func unprintable(r rune) bool { return r == utf8.RuneError || !unicode.IsPrint(r) || r == '/' }

// Location returns the zone; nil if the site does not say one.
func (s *Site) Location() (*time.Location, error) {
	if s.Zone == "" {
		return nil, nil
	}
	if s.Zone == "Local" { // would be that of the machine
		return nil, errors.New("no zone of the database")
	}
	return time.LoadLocation(s.Zone)
}
