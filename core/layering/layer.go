package layering

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"ullage/core/expr"
	"ullage/core/value"
	"ullage/core/yamldoc"
)

// MaxSource is the largest file of a layer that is read, in bytes.
const MaxSource = 64 << 10

// MostSettings is how many settings a layer may give.
const MostSettings = 500

// Layer is a named set of settings with a target. Layers stand in one ordered list, later
// over earlier; a device's intended settings are its matching layers merged, then what
// responses set, then its own override.
type Layer struct {
	Name   string         `yaml:"layer" json:"layer" pattern:"^[a-z][a-z0-9-]{0,62}$" doc:"Name" example:"white-must"`
	Target string         `yaml:"target,omitempty" json:"target,omitempty" maxLength:"4000" doc:"Selector of the devices; all where it is left out. Beside labels it may use attr., raised(rule) and during(…)" example:"label.must == \"white\""`
	Set    map[string]any `yaml:"set" json:"set" maxProperties:"500" doc:"Values by setting; null takes off what earlier layers give, so that the model's default is there again" example:"{\"max_temp\": 28}"`
	Why    string         `yaml:"why,omitempty" json:"why,omitempty" maxLength:"400" doc:"What it is for"`
	// What follows is the service's to say.
	Author string `yaml:"-" json:"author,omitempty" readOnly:"true" doc:"Who made it, if they are engineer for some devices only"`
	Access string `yaml:"-" json:"access,omitempty" readOnly:"true" doc:"What its author reaches, which is and-ed to the target and follows when that changes"`
}

// For is l as made for another: with the author and the access of who, and all else its own.
func (l Layer) For(who Layer) Layer {
	l.Author, l.Access = who.Author, who.Access
	return l
}

var layerName = regexp.MustCompile(`^[a-z][a-z0-9-]{0,62}$`)

// ParseLayer reads a layer from YAML and checks what can be checked without models.
func ParseLayer(src []byte) (*Layer, error) {
	l := &Layer{}
	if err := yamldoc.Decode(src, l, "a layer", MaxSource); err != nil {
		return nil, err
	}
	l.Set = value.Plain(l.Set)
	return l, l.Check()
}

// YAML writes l as its file.
func (l *Layer) YAML() []byte { return yamldoc.Encode(l) }

// Shown is l for whoever only looks: secrets say that they are.
func (l *Layer) Shown() *Layer {
	out := *l
	out.Set = make(map[string]any, len(l.Set))
	for name, x := range l.Set {
		out.Set[name] = x
		if v, err := value.FromAny(x); err == nil && v.Sealed() {
			out.Set[name] = value.Hidden
		}
	}
	return &out
}

// Check checks l alone.
func (l *Layer) Check() error {
	switch {
	case !layerName.MatchString(l.Name):
		return fmt.Errorf("a layer is named in small letters, digits and hyphens, like white-must; this one is %q", value.Clip(l.Name, 60))
	case len(l.Set) == 0:
		return fmt.Errorf("%s sets nothing; write set: {max_temp: 28}", l.Name)
	case len(l.Set) > MostSettings:
		return fmt.Errorf("%s sets %d settings; %d are the most", l.Name, len(l.Set), MostSettings)
	case value.Written(l.Why, 400) != "":
		return fmt.Errorf("why of %s %s", l.Name, value.Written(l.Why, 400))
	}
	for _, name := range slices.Sorted(maps.Keys(l.Set)) {
		switch l.Set[name].(type) {
		case nil, string, bool, float64:
		default:
			return fmt.Errorf("%s sets %s to what no setting can be; give a number, a text, true, false, or null to take it off", l.Name, value.Clip(name, 60))
		}
	}
	if strings.TrimSpace(l.Target) == "" {
		return nil
	}
	if _, found := expr.Parse(l.Target); len(found.Errors()) > 0 {
		return fmt.Errorf("target of %s: %w", l.Name, found.Errors())
	}
	return nil
}

// Asks returns the rules whose alarms choose its devices, through raised(…).
func (l *Layer) Asks() []string {
	var out []string
	tree, _ := expr.Parse(l.Target)
	tree.Calls("raised", func(rule string) {
		if !slices.Contains(out, rule) {
			out = append(out, rule)
		}
	})
	return out
}

// Removes returns the settings that l takes off, in order.
func (l *Layer) Removes() []string {
	var out []string
	for name, v := range l.Set {
		if v == nil {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return out
}

// Order is the order in which layers stand, the lowest first.
type Order struct {
	Order []string `yaml:"order" json:"order"`
}

// ParseOrder reads an order from YAML. No layer stands in it twice.
func ParseOrder(src []byte) (*Order, error) {
	o := &Order{}
	if err := yamldoc.Decode(src, o, "an order of layers", MaxSource); err != nil {
		return nil, err
	}
	for i, name := range o.Order {
		if !layerName.MatchString(name) {
			return nil, fmt.Errorf("%q is no name of a layer", value.Clip(name, 60))
		}
		if slices.Contains(o.Order[:i], name) {
			return nil, fmt.Errorf("%s stands twice in the order; name each layer once", name)
		}
	}
	return o, nil
}

// YAML writes o as its file.
func (o *Order) YAML() []byte { return yamldoc.Encode(o) }
