package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ullage/client"
	"ullage/core/rule"
	"ullage/core/yamldoc"
)

var ruleThings = things[client.Rule]{
	group: groupAlarm, word: "rule", words: "rules", short: "Load and read alarm rules",
	of: (*client.Client).Rules, name: func(r client.Rule) string { return r.Name },
	columns: []column[client.Rule]{
		{"rule", func(r client.Rule) string { return r.Name }},
		{"priority", func(r client.Rule) string { return string(r.Priority) }},
		{"on", func(r client.Rule) string { return yesNo(!r.Disabled) }},
		{"raise", func(r client.Rule) string { return r.Raise }},
		{"on delay", func(r client.Rule) string { return r.OnDelay.String() }},
		{"deadband", func(r client.Rule) string { return num(r.Deadband, -1) }},
		{"models", func(r client.Rule) string { return strings.Join(r.Models, " ") }},
		{"devices", func(r client.Rule) string { return r.Devices }},
	},
	none:    "There is no rule yet. Load one with: ullage rule load FILE",
	read:    rule.Parse,
	yaml:    func(r client.Rule) []byte { return yamldoc.Encode(r) },
	removed: "its open alarms close", example: "must_too_warm", folder: "examples/cellars/rules", set: "disabled=true",
	together: "rules",
	asks: func(c *cobra.Command, cl *client.Client, r client.Rule) (string, error) {
		at, err := cl.RuleAtOnce(c.Context(), r)
		if err != nil || !at.Many {
			return "", nil // what is wrong with the rule is said when it is put in force
		}
		some, more := at.Devices, ""
		if len(some) > 8 {
			some, more = some[:8], fmt.Sprintf(" and %d more", len(some)-8)
		}
		return fmt.Sprintf("%s would be raised at once on %d of %s: %s%s", r.Name, len(at.Devices), plural(at.Asked, "device"),
			strings.Join(some, ", "), more), nil
	},
}

func yesNo(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}
