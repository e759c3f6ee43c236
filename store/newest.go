package store

import (
	"errors"
	"math"

	"gorm.io/gorm"

	"ullage/fleet/commit"
)

// subject is what one line of validity is about.
type subject struct {
	kind commit.ValidityKind
	id   string
	key  string
}

// newest knows since when the newest validity of subjects is, so that what comes
// later stands later also where a clock has not gone on. It remembers the
// subjects that changed last; of the others it knows that nothing of them is
// after floor.
type newest struct {
	young, old map[subject]int64
	floor      int64
}

// remembered is how many subjects a generation holds.
const remembered = 20_000

// since returns since when the newest validity of a subject is, if it is from a
// time on; known is false where that must be read.
func (n *newest) since(s subject, from int64) (at int64, known bool) {
	if at, ok := n.young[s]; ok {
		return at, true
	}
	if at, ok := n.old[s]; ok {
		return at, true
	}
	return math.MinInt64, from > n.floor
}

// note takes over what was committed.
func (n *newest) note(written map[subject]int64) {
	if n.young == nil {
		n.young = make(map[subject]int64)
	}
	for s, at := range written {
		n.young[s] = at
	}
	if len(n.young) < remembered {
		return
	}
	for s, at := range n.old {
		if _, again := n.young[s]; !again {
			n.floor = max(n.floor, at)
		}
	}
	n.old, n.young = n.young, make(map[subject]int64)
}

// after returns the time from which v holds: its own, or a millisecond behind
// what held before. Written is what this commit has written so far.
func (n *newest) after(tx *gorm.DB, written map[subject]int64, v commit.Validity) (int64, error) {
	s, from := subject{v.Kind, v.Subject, v.Key}, ms(v.From)
	last, known := written[s]
	if !known {
		last, known = n.since(s, from)
	}
	if !known {
		var row validityRow
		err := tx.Select("since").Where("kind = ? AND subject = ? AND key = ?", string(s.kind), s.id, s.key).
			Order("since DESC").Take(&row).Error
		if err != nil && !errors.Is(err, gorm.ErrRecordNotFound) {
			return 0, err
		}
		if last = math.MinInt64; err == nil {
			last = row.From
		}
	}
	if from <= last {
		from = last + 1
	}
	written[s] = from
	return from, nil
}
