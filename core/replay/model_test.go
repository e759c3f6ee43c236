package replay

import (
	"testing"

	"ullage/core/model"
	"ullage/examples/cellars"
)

// Scenario is a model of the scenario, for the tests beside this package too.
func Scenario(t testing.TB, name string) *model.Model {
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
