package person_test

import (
	"bytes"
	"strings"
	"testing"

	"ullage/core/person"
)

func TestRolesDo(t *testing.T) {
	for i, has := range person.Roles {
		for k, needs := range person.Roles {
			if got := has.Does(needs); got != (i >= k) {
				t.Errorf("%s does what needs %s: %v", has, needs, got)
			}
		}
		if has.Does("") || has.Does("admin") {
			t.Errorf("%s does what no role does", has)
		}
	}
	if person.Role("").Does(person.Viewer) || person.Role("Owner").Does(person.Viewer) {
		t.Error("somebody without a role does something")
	}
}

func TestParse(t *testing.T) {
	p, err := person.Parse([]byte("person: night-duty\ngrants:\n  - role: operator\nnote: looks after everything at night\n"))
	if err != nil || p.Name != "night-duty" || person.Most(p.Grants) != person.Operator {
		t.Fatalf("%+v, %v", p, err)
	}
	again, err := person.Parse(p.YAML())
	if err != nil || !bytes.Equal(again.YAML(), p.YAML()) {
		t.Errorf("%+v comes back as %+v, %v", p, again, err)
	}
	for src, says := range map[string]string{
		"person: Night": "small letters",
		"person: night-duty\ngrants: [{role: operater}]": "did you mean operator?",
		"person: night-duty\ngrants: [{}]":               `"" is no role; there are viewer, operator, engineer, owner`,
		"person: a\nhash: x":                             `has no "hash"`,
		"person: a\ninvited: y":                          `has no "invited"`,
		"person: a\nnote: " + strings.Repeat("x", 501):   "501 characters",
		"- a":                                   "",
		strings.Repeat("#", person.MaxSource+1): "may have",
	} {
		if p, err := person.Parse([]byte(src)); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%.60q gives %+v, %v; want an error that says %q", src, p, err, says)
		}
	}
}

func TestCheckPassword(t *testing.T) {
	for _, c := range []struct{ password, of, says string }{
		{"correct-horse-cellar", "engineer", ""},
		{"neun Fässer", "engineer", ""},
		{"short", "engineer", "has 5 characters; use at least 10"},
		{"neunneunä", "engineer", "has 9 characters"},
		{strings.Repeat("ab", 101), "engineer", "at most 200"},
		{"Password123", "engineer", "many people use"},
		{"qwertyuiop", "engineer", "many people use"},
		{"engineer2026", "engineer", "little more than the name"},
		{"EngineerEngineer", "engineer", "little more than the name"},
		{"zzzzzzzzzzzz", "engineer", "again and again"},
		{"\xff\xfe\xfd\xfc\xfb\xfa\xf9\xf8\xf7\xf6", "engineer", "no text"},
	} {
		err := person.CheckPassword(c.password, c.of)
		if (err == nil) != (c.says == "") || err != nil && !strings.Contains(err.Error(), c.says) {
			t.Errorf("%q gives %v, want %q", c.password, err, c.says)
		}
		if err != nil && strings.Contains(err.Error(), c.password) {
			t.Errorf("the sentence repeats the password: %v", err)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte("person: night-duty\ngrants:\n  - role: operator\n    access: label.site == \"Fennimore\"\n"))
	f.Add([]byte("person: !!binary x\nrole: [1]\n"))
	f.Fuzz(func(t *testing.T, src []byte) {
		p, err := person.Parse(src)
		if err != nil {
			return
		}
		again, err := person.Parse(p.YAML())
		if err != nil || !bytes.Equal(again.YAML(), p.YAML()) {
			t.Fatalf("%q comes back as %+v, %v", src, again, err)
		}
	})
}
