package model_test

import (
	"strings"
	"testing"

	"ullage/core/model"
)

// Deep nesting ends in a finding, in both forms, and soon.
func TestDeepNesting(t *testing.T) {
	var keys strings.Builder
	for i := range 50_000 {
		keys.WriteString("\"k")
		keys.WriteString(strings.Repeat("x", i%7))
		keys.WriteString(strings.Repeat("y", i/7%9))
		keys.WriteString("\": 1,\n")
	}
	for name, src := range map[string]string{
		"side by side": "{" + keys.String() + "\"z\":1}",
		"lists":        strings.Repeat("[", 500_000),
		"closed":       strings.Repeat("[", 200_000) + strings.Repeat("]", 200_000),
		"objects":      strings.Repeat(`{a: `, 200_000),
		"sequence":     strings.Repeat("- ", 200_000),
		"questions":    strings.Repeat("? ", 200_000),
	} {
		if _, err := model.FromYAML([]byte(src)); err == nil {
			t.Errorf("%s in YAML were read", name)
		}
		if _, err := model.Parse([]byte(src)); err == nil {
			t.Errorf("%s in JSON were read", name)
		}
	}
}
