package expr

import (
	"encoding/json"
	"errors"

	"ullage/core/value"
)

// saved is the form in which a State is stored: what cannot be worked out from
// the rest. Sums are made anew when it is read.
type saved struct {
	Now, Activated int64
	Names          []Sample
	Previous       []Sample     `json:",omitempty"`
	Rings          [][]stamped  `json:",omitempty"`
	Panes          []savedPanes `json:",omitempty"`
	Conds          []savedCond  `json:",omitempty"`
	Late           bool         `json:",omitempty"`
}

type stamped struct {
	T int64
	V float64
}

type savedPanes struct {
	Shift  float64
	Begin  int64 `json:",omitempty"`
	Newest stamped
	Panes  []savedPane
}

type savedPane struct {
	K, N, Cover        int64
	Sum, Squares, Area [2]float64
	Low, High          float64
	First, Last        stamped
}

type savedCond struct {
	Changes []savedChange
	Asked   int64
	Until   int64
	Ever    bool
}

type savedChange struct {
	At    int64
	Truth Truth
}

// MarshalBinary writes s for the same Plan to read back.
func (s *State) MarshalBinary() ([]byte, error) {
	out := saved{Now: s.now, Activated: s.activated, Names: s.names, Previous: s.previous, Late: s.late}
	for i := range s.series {
		r := &s.series[i]
		list := make([]stamped, 0, r.n)
		for k := r.base; k != r.end(); k++ {
			list = append(list, stamped{r.at(k).t, r.at(k).v})
		}
		out.Rings = append(out.Rings, list)
	}
	for i := range s.panes {
		p := &s.panes[i]
		x := savedPanes{Shift: p.shift, Begin: p.begin, Newest: stamped{p.newest.t, p.newest.v}}
		for _, y := range p.buf {
			if y.n == 0 && y.cover == 0 {
				continue
			}
			z := savedPane{K: y.k, N: y.n, Cover: y.cover, Sum: pair(y.sum), Squares: pair(y.squares), Area: pair(y.area),
				First: stamped{y.first.t, y.first.v}, Last: stamped{y.last.t, y.last.v}}
			if y.n > 0 {
				z.Low, z.High = y.low, y.high
			}
			x.Panes = append(x.Panes, z)
		}
		out.Panes = append(out.Panes, x)
	}
	for i := range s.conds {
		c := &s.conds[i]
		x := savedCond{Asked: c.asked, Until: c.until, Ever: c.everAnswered}
		for _, y := range c.changes[c.head:] {
			x.Changes = append(x.Changes, savedChange{y.at, y.truth})
		}
		out.Conds = append(out.Conds, x)
	}
	return json.Marshal(out)
}

func pair(t total) [2]float64 { return [2]float64{t.high, t.low} }

var errOtherPlan = errors.New("the state was saved for other expressions; fill it from the stored readings")

// UnmarshalBinary reads what MarshalBinary wrote for the same Plan.
func (s *State) UnmarshalBinary(data []byte) error {
	var in saved
	if err := json.Unmarshal(data, &in); err != nil {
		return err
	}
	if len(in.Names) != len(s.names) || len(in.Previous) != len(s.previous) || len(in.Rings) != len(s.series) ||
		len(in.Panes) != len(s.panes) || len(in.Conds) != len(s.conds) {
		return errOtherPlan
	}
	fresh := s.plan.NewState(value.FromMillis(in.Activated))
	fresh.zone, fresh.usual, fresh.members = s.zone, s.usual, s.members
	copy(fresh.names, in.Names)
	copy(fresh.previous, in.Previous)
	fresh.now, fresh.late = in.Now, in.Late
	for i, list := range in.Rings {
		r := &fresh.series[i]
		for _, x := range list {
			if int(r.n) == len(r.buf) {
				r.grow()
			}
			*r.at(r.end()) = reading{x.T, x.V}
			r.n++
		}
		if r.n > 0 {
			fresh.rebuild(i)
		}
	}
	for i, x := range in.Panes {
		if len(x.Panes) == 0 {
			continue
		}
		p := &fresh.panes[i]
		p.start(&s.plan.panes[i])
		p.shift, p.begin, p.newest, p.any = x.Shift, x.Begin, reading{x.Newest.T, x.Newest.V}, true
		for _, z := range x.Panes {
			y := p.at(z.K)
			y.n, y.cover = z.N, z.Cover
			y.sum, y.squares, y.area = total{z.Sum[0], z.Sum[1]}, total{z.Squares[0], z.Squares[1]}, total{z.Area[0], z.Area[1]}
			y.first, y.last = reading{z.First.T, z.First.V}, reading{z.Last.T, z.Last.V}
			if z.N > 0 {
				y.low, y.high = z.Low, z.High
			}
		}
	}
	for i, x := range in.Conds {
		c := &fresh.conds[i]
		c.asked, c.until, c.everAnswered = x.Asked, x.Until, x.Ever
		for _, y := range x.Changes {
			c.changes = append(c.changes, change{y.At, y.Truth})
			if n := len(c.changes); n > 1 {
				c.close(n-2, 1)
			}
		}
	}
	*s = *fresh
	return nil
}
