package version_test

import (
	"testing"

	"ullage/core/version"
)

// The order is that of the example of Semantic Versioning 2.0.0, section 11.
func TestCompare(t *testing.T) {
	order := []string{"1.0.0-alpha", "1.0.0-alpha.1", "1.0.0-alpha.beta", "1.0.0-beta", "1.0.0-beta.2", "1.0.0-beta.11",
		"1.0.0-rc.1", "1.0.0", "1.0.1", "1.2", "1.10", "2"}
	for i, a := range order {
		for j, b := range order {
			want := 0
			if i < j {
				want = -1
			} else if i > j {
				want = 1
			}
			if got, ok := version.Compare(a, b); !ok || got != want {
				t.Errorf("%s against %s is %d, %t; want %d", a, b, got, ok, want)
			}
		}
	}
	if c, ok := version.Compare("1.2", "1.2.0"); !ok || c != 0 {
		t.Error("1.2 is not 1.2.0")
	}
	for _, bad := range []string{"", "x", "1.", "1..2", "1.x", "-1", "1-"} {
		if _, ok := version.Compare(bad, "1"); ok {
			t.Errorf("%q passes as a version", bad)
		}
	}
	if version.Is("1.") || !version.Is("v2.4.0-rc.1+build.7") {
		t.Error("what is a version is told wrong")
	}
}
