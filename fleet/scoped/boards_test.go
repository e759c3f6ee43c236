package scoped_test

import (
	"testing"

	"ullage/core/board"
	"ullage/core/person"
	"ullage/fleet/access"
	"ullage/fleet/fault"
	"ullage/fleet/noun"
)

// A board of a team does not exist for others who see its devices, follows who is in the team,
// and is there for engineers for all devices and for what is no person.
func TestBoardsOfTeams(t *testing.T) {
	r, _ := bench(t)
	ctx := t.Context()
	whole := access.Whole("engineer")
	for name, role := range map[string]person.Role{"engineer": person.Owner, "cellar-master": person.Operator, "night-duty": person.Operator} {
		_, err := r.People.Add(ctx, name, "long-enough-1", role, "engineer")
		r.Must(err)
	}
	x, err := board.Parse([]byte("board: hall\nteams: [nights]\ninstruments: [{instrument: alarms, place: [0, 0, 3, 3]}]\n"))
	r.Must(err)
	if _, err := r.Fleet.PutBoard(ctx, whole, *x, noun.If{}); !fault.Is(err, fault.Invalid) {
		t.Errorf("a board of no team: %v", err)
	}
	_, err = r.People.Teams.Put(ctx, person.Team{Name: "nights", People: []string{"night-duty"}}, noun.If{}, "engineer")
	r.Must(err)
	_, err = r.Fleet.PutBoard(ctx, whole, *x, noun.If{})
	r.Must(err)
	seen := func(name string) bool {
		c := r.Access.Caller(name, "")
		_, err := r.Fleet.Board(c, "hall")
		if there := len(r.Fleet.Boards(c)) == 1; there != (err == nil) || err != nil && !fault.Is(err, fault.NotFound) {
			t.Errorf("%s: in the list %t, alone %v", name, there, err)
		}
		return err == nil
	}
	r.Access.Grant("key wall", person.Grants{{Role: person.Viewer}})
	is := func(want map[string]bool) {
		t.Helper()
		for name, w := range want {
			if seen(name) != w {
				t.Errorf("%s sees it: %t, want %t", name, !w, w)
			}
		}
	}
	is(map[string]bool{"cellar-master": false, "night-duty": true, "key wall": true})
	_, err = r.People.Teams.Put(ctx, person.Team{Name: "nights", People: []string{"cellar-master"}}, noun.If{}, "engineer")
	r.Must(err)
	is(map[string]bool{"cellar-master": true, "night-duty": false})
	if _, err := r.Fleet.Board(whole, "hall"); err != nil {
		t.Errorf("an engineer for all devices: %v", err)
	}
}
