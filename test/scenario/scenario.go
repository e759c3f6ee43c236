// Package scenario gives tests what the examples hold.
package scenario

import (
	"testing"

	"ullage/core/model"
	"ullage/examples/cellars"
)

// Model is a model of the scenario by its name, such as tank-probe.
func Model(t testing.TB, name string) *model.Model {
	t.Helper()
	src, err := cellars.Files.ReadFile("models/" + name + ".tm.json")
	if err != nil {
		t.Fatal(err)
	}
	m, err := model.Parse(src)
	if err != nil {
		t.Fatal(err)
	}
	return m
}
