package rule

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"ullage/core/expr"
	"ullage/core/value"
)

// Response is what Ullage does by itself about an alarm: while the condition holds it sets
// settings, or when it begins or ends it gives a command.
type Response struct {
	Set     map[string]any `yaml:"set,omitempty" json:"set,omitempty" maxProperties:"50" doc:"Settings and the values that they have while the condition holds"`
	Command string         `yaml:"command,omitempty" json:"command,omitempty" maxLength:"100" doc:"A command that is given instead" example:"test_buzzer"`
	Input   map[string]any `yaml:"input,omitempty" json:"input,omitempty" maxProperties:"50" doc:"Its input"`
	When    Moment         `yaml:"when,omitempty" json:"when,omitempty" enum:"raised,returned" doc:"When the command is given; raised where nothing is said"`
	Devices string         `yaml:"devices,omitempty" json:"devices,omitempty" maxLength:"2000" doc:"Selector of the devices; this.LABEL is a label of the device or group that the alarm is on. Without it, the device itself, or the members of the group" example:"label.site == this.site and device.model == \"cellar-air\""`
	Aside   Aside          `yaml:"aside,omitempty" json:"aside,omitempty" enum:"hold,release" doc:"What becomes of the settings while the alarm is suppressed or out of service, and when the rule is disabled or removed: they stay, which is the default, or they are released"`
	AtMost  int            `yaml:"at_most,omitempty" json:"at_most,omitempty" minimum:"1" maximum:"60" doc:"How often in an hour it acts on one device; 6 where nothing is said"`
}

// Moment is when a command is given.
type Moment string

// The moments.
const (
	WhenRaised   Moment = "raised"
	WhenReturned Moment = "returned"
)

// Aside is what becomes of a response whose alarm stands aside.
type Aside string

// What becomes of it.
const (
	Hold    Aside = "hold"
	Release Aside = "release"
)

// MostAnHour is how often a response acts on one device in an hour where its rule says nothing.
const MostAnHour = 6

// MostDevices is how many devices a response acts on at once.
const MostDevices = 1000

// MostResponses is how many responses a rule may have.
const MostResponses = 10

// Moment returns when its command is given.
func (r *Response) Moment() Moment {
	if r.When == "" {
		return WhenRaised
	}
	return r.When
}

// Most is how often it acts on one device in an hour.
func (r *Response) Most() int {
	if r.AtMost == 0 {
		return MostAnHour
	}
	return r.AtMost
}

// Releases reports whether what it has set goes while the alarm stands aside.
func (r *Response) Releases() bool { return r.Aside == Release }

// Does says what it does, such as: sets fan_mode to "on".
func (r *Response) Does() string {
	if r.Command != "" {
		return "gives the command " + r.Command
	}
	parts := make([]string, 0, len(r.Set))
	for _, name := range slices.Sorted(maps.Keys(r.Set)) {
		v := r.Set[name]
		if s, ok := v.(string); ok {
			v = fmt.Sprintf("%q", s)
		}
		parts = append(parts, fmt.Sprintf("%s to %v", name, v))
	}
	return "sets " + strings.Join(parts, ", ")
}

// Bound returns its selector for an alarm on a device or group that has some labels; empty
// for the device itself, or the members of the group. Missing is a label that the selector
// asks for and that is not there: nothing is chosen then, instead of all that lack it too.
func (r *Response) Bound(labels map[string]string) (src, missing string) {
	src = expr.Bind(r.Devices, "this", func(key string) string {
		if labels[key] == "" && missing == "" {
			missing = key
		}
		return labels[key]
	})
	return src, missing
}

// responses checks the form of what r does by itself.
func (r *Rule) responses(bad func(is bool, key, format string, args ...any)) {
	bad(len(r.Responses) > MostResponses, "responses", "%s has %d responses; %d are the most", r.Name, len(r.Responses), MostResponses)
	for i, x := range r.Responses {
		say := func(is bool, format string, args ...any) {
			bad(is, "responses", fmt.Sprintf("%s, responses: the %s ", r.Name, ordinal(i+1))+format, args...)
		}
		say((len(x.Set) > 0) == (x.Command != ""), "has to set settings or give a command, one of them; write set: {fan_mode: \"on\"}, or command: identify")
		say(len(x.Set) > 0 && (x.When != "" || x.Input != nil), "sets settings while the condition holds; when and input belong to a command")
		say(x.When != "" && x.When != WhenRaised && x.When != WhenReturned, "says when: %s; it is raised or returned", value.Clip(string(x.When), 40))
		say(x.Aside != "" && x.Aside != Hold && x.Aside != Release, "says aside: %s; it is hold or release", value.Clip(string(x.Aside), 40))
		say(x.AtMost < 0 || x.AtMost > 60, "says at_most: %d; it is 1 to 60 in an hour", x.AtMost)
		for _, name := range slices.Sorted(maps.Keys(x.Set)) {
			switch x.Set[name].(type) {
			case string, bool, float64, int, int64, uint64:
			default:
				say(true, "sets %s to nothing that a setting can be; give a number, a text, true or false", value.Clip(name, 60))
			}
		}
	}
}

func ordinal(n int) string {
	return []string{"first", "second", "third", "fourth", "fifth", "sixth", "seventh", "eighth", "ninth", "tenth"}[min(n, 10)-1]
}

// plain writes the numbers of responses as JSON has them, so that a rule from a file is the
// same as the one that it was written from.
func (r *Rule) plain() {
	for i := range r.Responses {
		r.Responses[i].Set = value.Plain(r.Responses[i].Set)
		r.Responses[i].Input = value.Plain(r.Responses[i].Input)
	}
}
