package devices

import (
	"maps"
	"slices"
	"sync"

	"ullage/fleet/commit"
)

// places knows which devices stand at which site, by their label site: a change
// of one site reaches its devices, and no others are looked at. Retired devices
// are at no site.
type places struct {
	mu sync.RWMutex
	at map[string]map[string]bool
}

func siteOf(d Device) string {
	if d.Status == Retired {
		return ""
	}
	return d.Labels["site"]
}

// moved notes that a device is at another site, with the commit of tx; without
// one at once.
func (p *places) moved(tx *commit.Tx, old, d Device) {
	from, to := siteOf(old), siteOf(d)
	if from == to {
		return
	}
	do := func() {
		p.mu.Lock()
		defer p.mu.Unlock()
		if from != "" {
			if delete(p.at[from], d.ID); len(p.at[from]) == 0 {
				delete(p.at, from)
			}
		}
		if to != "" {
			if p.at[to] == nil {
				p.at[to] = map[string]bool{}
			}
			p.at[to][d.ID] = true
		}
	}
	if tx == nil {
		do()
		return
	}
	tx.After(do)
}

// AtSite lists the ids of the devices whose label site names a site; retired
// ones are not among them.
func (g *Registry) AtSite(site string) []string {
	g.places.mu.RLock()
	defer g.places.mu.RUnlock()
	return slices.Sorted(maps.Keys(g.places.at[site]))
}

// CountAtSite counts what AtSite lists.
func (g *Registry) CountAtSite(site string) int {
	g.places.mu.RLock()
	defer g.places.mu.RUnlock()
	return len(g.places.at[site])
}
