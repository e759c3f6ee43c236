// Package rule reads alarm rules from their files and checks them, alone and
// against the models they name.
package rule

import (
	"errors"
	"fmt"
	"regexp"
	"strings"
	"time"

	"github.com/goccy/go-yaml"

	"ullage/core/expr"
	"ullage/core/model"
	"ullage/core/unit"
	"ullage/core/value"
)

// MaxSource is the largest rule file that is read, in bytes.
const MaxSource = 64 << 10

// Priority is how soon somebody must act.
type Priority string

// The priorities, the most pressing first.
const (
	Urgent Priority = "urgent"
	High   Priority = "high"
	Medium Priority = "medium"
	Low    Priority = "low"
)

// Priorities lists them in order.
var Priorities = []Priority{Urgent, High, Medium, Low}

// Rank returns 1 for urgent to 4 for low, and 5 for anything else.
func (p Priority) Rank() int {
	for i, x := range Priorities {
		if x == p {
			return i + 1
		}
	}
	return len(Priorities) + 1
}

// Rule says when an alarm is raised and when it returns. The YAML keys are the
// JSON names.
type Rule struct {
	Name     string         `yaml:"rule" json:"rule" pattern:"^[a-z][a-z0-9_]{0,62}$" doc:"Name of the rule" example:"must_too_warm"`
	Models   []string       `yaml:"models" json:"models" minItems:"1" doc:"Models whose devices it watches" example:"[\"tank-probe\"]"`
	Devices  string         `yaml:"devices,omitempty" json:"devices,omitempty" doc:"Selector that narrows the devices further" example:"label.stage == \"fermenting\""`
	Raise    string         `yaml:"raise" json:"raise" doc:"The comparison that raises the alarm" example:"must_temp > set.max_temp"`
	OnDelay  value.Duration `yaml:"on_delay,omitempty" json:"on_delay,omitempty" doc:"How long the comparison must hold before the alarm is raised (ISA-18.2)" example:"10min"`
	Deadband float64        `yaml:"deadband,omitempty" json:"deadband,omitempty" minimum:"0" doc:"How far back inside the limit the value must come before the alarm returns, in the unit of the telemetry" example:"1.5"`
	OffDelay value.Duration `yaml:"off_delay,omitempty" json:"off_delay,omitempty" doc:"How long the value must stay back before the alarm returns (ISA-18.2)" example:"5min"`
	Priority Priority       `yaml:"priority" json:"priority" enum:"urgent,high,medium,low" doc:"How soon somebody must act"`
	Message  string         `yaml:"message" json:"message" doc:"What the alarm says; names in braces are filled in" example:"{label.tank}: must at {must_temp}, limit {set.max_temp}"`
	Cause    string         `yaml:"cause,omitempty" json:"cause,omitempty" doc:"What most likely lies behind it"`
	Response string         `yaml:"response,omitempty" json:"response,omitempty" doc:"What to do about it"`

	when   *expr.Comparison
	within *expr.Comparison
}

// Parse reads one rule from YAML and checks it alone. Keys that do not exist
// are refused with their line.
func Parse(src []byte) (r *Rule, err error) {
	if len(src) > MaxSource {
		return nil, fmt.Errorf("the file has %d bytes; a rule may have %d", len(src), MaxSource)
	}
	// The YAML decoder panics on some tags that nobody writes on purpose.
	defer func() {
		if recover() != nil {
			r, err = nil, errors.New("the file is not YAML that can be read; look for tags (!…) that do not belong there")
		}
	}()
	r = &Rule{}
	if err := yaml.UnmarshalWithOptions(src, r, yaml.DisallowUnknownField()); err != nil {
		return nil, errors.New(yaml.FormatError(err, false, false))
	}
	return r, r.Compile()
}

var ruleName = regexp.MustCompile(`^[a-z][a-z0-9_]{0,62}$`)

// Compile checks r alone and makes it ready for use. A Rule that was not made
// by Parse must be compiled first.
func (r *Rule) Compile() error {
	switch {
	case !ruleName.MatchString(r.Name):
		return fmt.Errorf("a rule is named in small letters, digits and underscores, like must_too_warm; this one is %q", r.Name)
	case len(r.Models) == 0:
		return fmt.Errorf("%s names no models; write models: [tank-probe]", r.Name)
	case r.Priority.Rank() > len(Priorities):
		return fmt.Errorf("%s has priority %q; it is urgent, high, medium or low", r.Name, r.Priority)
	case r.Message == "":
		return fmt.Errorf("%s has no message; write what the operator should read", r.Name)
	case r.Deadband < 0:
		return fmt.Errorf("%s has a negative deadband; it is a distance", r.Name)
	}
	var err error
	if r.when, err = expr.Parse(r.Raise); err != nil {
		return fmt.Errorf("%s, raise: %w", r.Name, err)
	}
	if r.when.Left.Scope != "" {
		return fmt.Errorf("%s, raise: %s is no telemetry; the left side is what the device measures", r.Name, r.when.Left)
	}
	if right := r.when.Right; right.IsName() && right.Name.Scope != "set" {
		return fmt.Errorf("%s, raise: the limit is a number or a setting, like set.max_temp; this is %s", r.Name, right.Name)
	}
	if r.Deadband > 0 && !r.when.Op.Ordered() {
		return fmt.Errorf("%s: a deadband needs <, <=, > or >=; this rule compares with %s", r.Name, r.when.Op)
	}
	r.within = nil
	if r.Devices != "" {
		if r.within, err = expr.Parse(r.Devices); err != nil {
			return fmt.Errorf("%s, devices: %w", r.Name, err)
		}
		if s := r.within.Left.Scope; s != "label" && s != "device" {
			return fmt.Errorf("%s, devices: a rule picks its devices by label. or device., not by %s", r.Name, r.within.Left)
		}
	}
	for _, n := range placeholders(r.Message) {
		if _, err := expr.Parse(n + " == 1"); err != nil {
			return fmt.Errorf("%s, message: {%s} is no name", r.Name, n)
		}
	}
	return nil
}

// CheckAgainst checks r against one of the models it names.
func (r *Rule) CheckAgainst(m *model.Model) error {
	left, ok := m.Property(r.Metric())
	if !ok || left.Role != model.Telemetry {
		hint := ""
		if near := m.Nearest(r.Metric(), model.Telemetry); near != "" {
			hint = "; did you mean " + near + "?"
		}
		return fmt.Errorf("%s: no telemetry %s in %s%s", r.Name, r.Metric(), m, hint)
	}
	if r.when.Op.Ordered() && left.Kind != value.Number {
		return fmt.Errorf("%s: %s is %s in %s; %s compares numbers", r.Name, left.Name, left.Kind, m, r.when.Op)
	}
	right := r.when.Right
	if !right.IsName() {
		if right.Literal.Kind != left.Kind {
			return fmt.Errorf("%s: %s is %s in %s, and the limit is %s", r.Name, left.Name, left.Kind, m, right.Literal.Kind)
		}
		if right.Unit != "" {
			if _, err := unit.Convert(0, right.Unit, left.Unit); err != nil {
				return fmt.Errorf("%s: the limit %w", r.Name, err)
			}
		}
		return nil
	}
	limit, ok := m.Property(right.Name.Key)
	if !ok || limit.Role != model.Setting {
		hint := ""
		if near := m.Nearest(right.Name.Key, model.Setting); near != "" {
			hint = "; did you mean set." + near + "?"
		}
		return fmt.Errorf("%s: no setting %s in %s%s", r.Name, right.Name.Key, m, hint)
	}
	if limit.Kind != left.Kind {
		return fmt.Errorf("%s: %s is %s and %s is %s", r.Name, left.Name, left.Kind, right.Name, limit.Kind)
	}
	if _, err := unit.Convert(0, limit.Unit, left.Unit); err != nil {
		return fmt.Errorf("%s: %s %w", r.Name, right.Name, err)
	}
	return nil
}

// Metric returns the telemetry that r watches.
func (r *Rule) Metric() string { return r.when.Left.Key }

// LimitSetting returns the setting that holds the limit, or "".
func (r *Rule) LimitSetting() string { return r.when.Right.Name.Key }

// Op returns the comparison.
func (r *Rule) Op() expr.Op { return r.when.Op }

// Lookup finds what a name stands for on one device; the zero Value where it
// is unknown.
type Lookup func(expr.Name) value.Value

// Watches reports whether r applies to the device that get describes.
func (r *Rule) Watches(modelName string, get Lookup) bool {
	named := false
	for _, m := range r.Models {
		named = named || m == modelName
	}
	if !named || r.within == nil {
		return named
	}
	right := r.within.Right.Literal
	if r.within.Right.IsName() {
		right = get(r.within.Right.Name)
	}
	left := get(r.within.Left)
	if !left.Known() && r.within.Left.Scope == "label" {
		left = value.OfText("")
	}
	return expr.Compare(left, r.within.Op, right) == expr.True
}

// Limit returns the limit in the unit of the telemetry, unknown where the
// setting was never seen or does not convert.
func (r *Rule) Limit(m *model.Model, get Lookup) value.Value {
	right := r.when.Right
	v, from := right.Literal, right.Unit
	if right.IsName() {
		v = get(right.Name)
		if p, ok := m.Property(right.Name.Key); ok {
			from = p.Unit
		}
	}
	left, ok := m.Property(r.Metric())
	if v.Kind != value.Number || from == "" || !ok {
		return v
	}
	f, err := unit.Convert(v.Num, from, left.Unit)
	if err != nil {
		return value.Value{}
	}
	return value.OfNumber(f)
}

// Judge says whether v is over the limit, and whether it is back far enough,
// deadband included, for the alarm to return.
func (r *Rule) Judge(v, limit value.Value) (raise, clear expr.Truth) {
	op := r.when.Op
	raise = expr.Compare(v, op, limit)
	back := limit
	if op.Upward() {
		back.Num -= r.Deadband
	} else if op.Ordered() {
		back.Num += r.Deadband
	}
	switch expr.Compare(v, op, back) {
	case expr.True:
		clear = expr.False
	case expr.False:
		clear = expr.True
	}
	return raise, clear
}

// Delays returns the on-delay and the off-delay.
func (r *Rule) Delays() (on, off time.Duration) { return r.OnDelay.Std(), r.OffDelay.Std() }

// Say fills in the message for one device.
func (r *Rule) Say(m *model.Model, get Lookup) string {
	return braces.ReplaceAllStringFunc(r.Message, func(s string) string {
		scope, key, dotted := strings.Cut(s[1:len(s)-1], ".")
		n := expr.Name{Scope: scope, Key: key}
		if !dotted {
			n = expr.Name{Key: scope}
		}
		v := get(n)
		if n.Scope == "" || n.Scope == "set" || n.Scope == "intended" || n.Scope == "attr" {
			if p, ok := m.Property(n.Key); ok && v.Known() {
				return p.Say(v)
			}
		}
		return v.String()
	})
}

var braces = regexp.MustCompile(`\{[^{}]*\}`)

func placeholders(s string) []string {
	var out []string
	for _, b := range braces.FindAllString(s, -1) {
		out = append(out, b[1:len(b)-1])
	}
	return out
}

// With returns a Lookup that knows v as the telemetry called metric and asks
// get for everything else.
func With(get Lookup, metric string, v value.Value) Lookup {
	return func(n expr.Name) value.Value {
		if n.Scope == "" && n.Key == metric {
			return v
		}
		return get(n)
	}
}
