package scoped

import (
	"context"
	"maps"
	"regexp"
	"slices"
	"strings"

	"ullage/core/board"
	"ullage/core/model"
	"ullage/core/person"
	"ullage/fleet/access"
	"ullage/fleet/boards"
	"ullage/fleet/fault"
	"ullage/fleet/noun"
)

// Boards returns the boards that people have made, as far as they are about devices that
// the caller sees. What their instruments show is what the caller sees, whatever they ask for.
func (f *Fleet) Boards(c access.Caller) []board.Board {
	part := f.partOf(c)
	out := []board.Board{}
	for _, b := range f.o.Boards.List() {
		if x, ok := f.boardFor(c, part, b); ok {
			out = append(out, x)
		}
	}
	return out
}

// Board returns one of those.
func (f *Fleet) Board(c access.Caller, name string) (board.Board, error) {
	b, err := f.o.Boards.Get(name)
	if err != nil {
		return b, err
	}
	x, ok := f.boardFor(c, f.partOf(c), b)
	if !ok {
		return board.Board{}, f.o.Boards.Unknown(name)
	}
	return x, nil
}

// BoardVersions returns the versions of a board, the newest first. It needs a viewer of all
// devices, as a version may speak of any of them.
func (f *Fleet) BoardVersions(ctx context.Context, c access.Caller, name string) ([]boards.Version, error) {
	if err := f.everywhere(c, person.Viewer); err != nil {
		return nil, err
	}
	return f.o.Boards.Versions(ctx, name)
}

// part is what somebody who does not see everything knows of the fleet.
type part struct {
	sees    func(string) bool
	models  []*model.Model
	labels  map[string]bool // keys that devices of theirs have
	foreign map[string]bool // ids, and values of labels, that only other devices have
}

// partOf returns the caller's part of the fleet; nil for the whole.
func (f *Fleet) partOf(c access.Caller) *part {
	sees := seeing(c)
	if sees == nil {
		return nil
	}
	p := &part{sees: sees, labels: map[string]bool{}, foreign: map[string]bool{}}
	own := map[string]bool{}
	versions := map[*model.Model]bool{}
	for _, d := range f.o.Devices.List() {
		if !sees(d.ID) {
			p.foreign[d.ID], p.foreign[d.Model] = true, true
			for _, v := range d.Labels {
				p.foreign[v] = true
			}
			continue
		}
		own[d.Model] = true
		for k, v := range d.Labels {
			p.labels[k], own[v] = true, true
		}
		if m, err := f.o.Models.Of(d.Model, d.Version); err == nil {
			versions[m] = true
		}
	}
	for v := range own {
		delete(p.foreign, v)
	}
	p.models = slices.Collect(maps.Keys(versions))
	return p
}

// boardFor returns a board as the caller may see it: without instruments of what they do
// not see. It is false for a board that is about none of their devices.
func (f *Fleet) boardFor(c access.Caller, p *part, b board.Board) (board.Board, bool) {
	if !f.opens(c, b) {
		return b, false
	}
	if p == nil {
		return b, true
	}
	b.Teams = nil
	if len(p.models) == 0 || !f.ownSelector(c, p, b.Devices, true) {
		return b, false
	}
	lacks := board.Unfit(&b, p.models)
	kept := []board.Instrument{}
	for i, x := range b.Instruments {
		if slices.ContainsFunc(lacks, func(l board.Lack) bool { return l.Instrument == i }) || p.foreign[x.Site] ||
			!f.ownSelector(c, p, x.Devices, false) || x.GroupBy != "" && x.GroupBy != "model" && !p.labels[x.GroupBy] || !f.ownCount(c, p, x.Count) {
			continue
		}
		x.At = maps.Clone(x.At)
		maps.DeleteFunc(x.At, func(key string, _ []float64) bool { id, _ := board.Placed(key); return !p.sees(id) })
		x.Columns = slices.DeleteFunc(slices.Clone(x.Columns), func(col string) bool { return !p.knowsColumn(col) })
		kept = append(kept, x)
	}
	b.Instruments = kept
	b.Parameters = slices.DeleteFunc(slices.Clone(b.Parameters), func(k string) bool { return k != "device" && k != "model" && !p.labels[k] })
	return b, true
}

func (p *part) knowsColumn(col string) bool {
	if key, ok := strings.CutPrefix(col, "label."); ok {
		return p.labels[key]
	}
	return slices.Contains(board.OfDevices, col) || slices.ContainsFunc(p.models, func(m *model.Model) bool { _, ok := m.Property(col); return ok })
}

func (f *Fleet) ownCount(c access.Caller, p *part, count string) bool {
	switch count {
	case "", "health", "link", "model", "version":
		return true
	}
	if key, ok := strings.CutPrefix(count, "label."); ok && !strings.ContainsAny(key, " =<>!") {
		return p.labels[key]
	}
	return f.ownSelector(c, p, count, false)
}

// quotedText is a text within an expression.
var quotedText = regexp.MustCompile(`"([^"\\]*)"`)

// ownSelector reports whether a selector speaks of the caller's part of the fleet alone, and
// chooses some of it where it must.
func (f *Fleet) ownSelector(c access.Caller, p *part, source string, some bool) bool {
	if strings.TrimSpace(source) == "" {
		return true
	}
	for _, m := range quotedText.FindAllStringSubmatch(source, -1) {
		if p.foreign[m[1]] {
			return false
		}
	}
	among, _, err := f.Among(c, source)
	return err == nil && (!some || len(among) > 0)
}

// opens reports whether a board is for the caller: for the people of its teams, and for
// engineers for all devices. A program with a key, and so a screen, is in no team: it was given
// its page by an owner.
func (f *Fleet) opens(c access.Caller, b board.Board) bool {
	if len(b.Teams) == 0 || c.MayAll(person.Engineer) {
		return true
	}
	teams, person := f.o.Teams.Of(c.Name)
	return !person || slices.ContainsFunc(teams, func(t string) bool { return slices.Contains(b.Teams, t) })
}

// PutBoard makes a board, or changes the one of its name. Boards are for everybody, so they
// need an engineer for all devices.
func (f *Fleet) PutBoard(ctx context.Context, c access.Caller, x board.Board, cond noun.If) (noun.Saved[board.Board], error) {
	if err := f.everywhere(c, person.Engineer); err != nil {
		return noun.Saved[board.Board]{}, err
	}
	for _, t := range x.Teams {
		if !f.o.Teams.Known(t) {
			return noun.Saved[board.Board]{}, fault.New(fault.Invalid, "there is no team %s, so nobody of it could open the board", t).
				Then("name one that there is, or leave teams out for everybody").On("board")
		}
	}
	selectors := []string{x.Devices}
	for _, i := range x.Instruments {
		selectors = append(selectors, i.Devices)
	}
	for _, source := range selectors {
		if source == "" {
			continue
		}
		if _, err := f.Expressions(c).Where(source); err != nil {
			return noun.Saved[board.Board]{}, err
		}
	}
	return f.o.Boards.Put(ctx, x, cond, c.Name)
}

// RemoveBoard takes a board away.
func (f *Fleet) RemoveBoard(ctx context.Context, c access.Caller, name string, cond noun.If) error {
	if err := f.everywhere(c, person.Engineer); err != nil {
		return err
	}
	return f.o.Boards.Remove(ctx, name, cond, c.Name)
}

// BoardLacks says what of a board no model has.
func (f *Fleet) BoardLacks(x board.Board) []board.Lack { return f.o.Boards.Unfit(&x) }

// MadeBoard makes the board of a device, a model, a site, or the fleet.
func (f *Fleet) MadeBoard(c access.Caller, kind, of string) (*board.Board, error) {
	switch kind {
	case "device":
		if err := f.reach(c, person.Viewer, of); err != nil {
			return nil, err
		}
		return f.o.Boards.Device(of)
	case "model":
		if _, err := f.Model(c, of); err != nil {
			return nil, err
		}
		return f.o.Boards.Model(of)
	case "site":
		return f.o.Boards.Site(of, seeing(c))
	case "fleet":
		return f.o.Boards.Fleet(seeing(c)), nil
	}
	return nil, fault.New(fault.Invalid, "no board is made of a %q", kind).Then("there are those of a device, a model, a site and the fleet")
}
