package person

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"ullage/core/unit"
	"ullage/core/value"
)

// Preferences are how somebody wants things shown. They change nothing of what is
// stored, sent or written to a file.
type Preferences struct {
	Theme string         `yaml:"theme,omitempty" json:"theme,omitempty" enum:"system,light,dark" doc:"Colours of the console; as the system where not given"`
	Units unit.Preferred `yaml:"units,omitempty" json:"units,omitempty" doc:"Units in which values are shown, by dimension; those of the models where not given" example:"{\"temperature\":\"[degF]\"}"`
	Zone  string         `yaml:"zone,omitempty" json:"zone,omitempty" maxLength:"64" doc:"Time zone of what is shown: site for that of the site where something is about one, own for that of the browser, or a name of the IANA database; own where not given" example:"Europe/Berlin"`
	Week  string         `yaml:"week,omitempty" json:"week,omitempty" enum:"monday,saturday,sunday" doc:"First day of the week; monday where not given"`
}

// Themes and Weeks list what may be chosen.
var (
	Themes = []string{"system", "light", "dark"}
	Weeks  = []string{"monday", "saturday", "sunday"}
)

// Check says what is wrong with p; nothing is where p is nil.
func (p *Preferences) Check() error {
	switch {
	case p == nil:
		return nil
	case p.Theme != "" && !slices.Contains(Themes, p.Theme):
		return fmt.Errorf("%q is no theme; there are %s", value.Clip(p.Theme, 40), strings.Join(Themes, ", "))
	case p.Week != "" && !slices.Contains(Weeks, p.Week):
		return fmt.Errorf("%q is no first day of a week; there are %s", value.Clip(p.Week, 40), strings.Join(Weeks, ", "))
	case p.Zone != "" && p.Zone != "site" && p.Zone != "own":
		if _, err := time.LoadLocation(p.Zone); err != nil || p.Zone == "Local" {
			return fmt.Errorf("%q is no time zone that is known; write site, own, or a name of the IANA database, such as Europe/Berlin",
				value.Clip(p.Zone, 64))
		}
	}
	return p.Units.Check()
}
