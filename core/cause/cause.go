// Package cause turns what is wrong with devices into a list of causes: a silent hub with
// the devices behind it is one line, and so is a setting that three devices refuse.
package cause

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"ullage/core/health"
	"ullage/core/rule"
	"ullage/core/value"
)

// Device is what there is to know of one device.
type Device struct {
	ID, Site, Hub, Model string
	Health               health.Health
	Reasons              []string // for its health, the weightiest first
	Silent               bool
	LastAt               time.Time
	Interval             time.Duration
	Alarms               []Alarm        // open, and calling
	Least                *health.Margin // with the least headspace; nil for none
	Differs              []Differs      // settings that are not as intended
	Firmware             string         // what it reports as that; empty where it does not
}

// Alarm is an open alarm of a device or a group.
type Alarm struct {
	ID, Rule, Message string
	Priority          rule.Priority
	Since             time.Time
	Acknowledged      bool
	By                string // who has acknowledged it
	Group             string // as in site=Kilnside, for one of a group
}

// Differs is a setting that a device does not have as it is intended.
type Differs struct {
	Setting string
	Reason  string // the device's, if it has refused it; empty for drift
	Since   time.Time
}

// Advice is what a rule says about its alarms.
type Advice struct{ Cause, Response string }

// Kind is what sort of cause it is.
type Kind string

// The kinds.
const (
	Hub       Kind = "hub"       // a silent hub, with the devices behind it
	Site      Kind = "site"      // every device of a site is silent
	Link      Kind = "link"      // devices that are silent by themselves
	Raised    Kind = "alarm"     // alarms of one rule at one site
	Refused   Kind = "refused"   // a setting that devices refuse for one reason
	Drift     Kind = "drift"     // a setting that devices have otherwise than they confirmed
	Headspace Kind = "headspace" // a device that is near a limit
	Firmware  Kind = "firmware"  // a firmware with which devices have less headspace than with others
	Clock     Kind = "clock"     // devices of a site whose clocks cannot be right
	Other     Kind = "other"     // what else speaks against a device's health
)

// Cause is one thing that needs somebody, with the devices that it shows on.
type Cause struct {
	// ID is the same as long as the cause is, whichever devices it shows on.
	ID       string
	Kind     Kind
	Priority rule.Priority // of its worst alarm; empty where nothing calls
	Title    string
	Why      string
	Do       string // what to do next
	Since    time.Time
	Devices  []string
	Alarm    string // the alarm to open, if there is one
	Rule     string
	Setting  string
	Site     string
	// Acknowledged says that somebody has every alarm of it, and By who they are.
	Acknowledged bool
	By           []string
}

// Find returns the causes, the most pressing first. Groups are the open alarms of groups,
// and advice is what a rule says.
func Find(devices []Device, groups []Alarm, advice func(rule string) Advice, now time.Time) []Cause {
	f := &finder{now: now, advice: advice, covered: map[string]bool{}}
	slices.SortFunc(devices, func(a, b Device) int { return strings.Compare(a.ID, b.ID) })
	f.silent(devices)
	f.alarms(devices, groups)
	f.settings(devices)
	f.margins(devices)
	f.firmware(devices)
	f.clocks(devices)
	f.others(devices)
	slices.SortStableFunc(f.out, func(a, b Cause) int {
		return cmp.Or(pressing(a)-pressing(b), len(b.Devices)-len(a.Devices), a.Since.Compare(b.Since), strings.Compare(a.ID, b.ID))
	})
	return f.out
}

// pressing ranks a cause: an alarm by its priority, silence after those that are high,
// what is to be watched after all alarms.
func pressing(c Cause) int {
	if c.Priority != "" {
		return 2 * c.Priority.Rank()
	}
	switch c.Kind {
	case Hub, Site, Link:
		return 2*rule.High.Rank() + 1
	}
	return 2*rule.Low.Rank() + 1
}

type finder struct {
	now     time.Time
	advice  func(string) Advice
	out     []Cause
	covered map[string]bool // devices whose silence is told
}

func (f *finder) silent(devices []Device) {
	dark := func(d Device) bool { return d.Health == health.Dark }
	bySite := map[string][]Device{}
	behind := map[string][]Device{}
	for _, d := range devices {
		if d.Health == health.None || d.Health == health.Awaited {
			continue
		}
		if d.Site != "" {
			bySite[d.Site] = append(bySite[d.Site], d)
		}
		if d.Hub != "" {
			behind[d.Hub] = append(behind[d.Hub], d)
		}
	}
	for _, site := range sorted(bySite) {
		ds := bySite[site]
		if len(ds) < 3 || slices.ContainsFunc(ds, func(d Device) bool { return !dark(d) }) {
			continue
		}
		c := Cause{ID: "site " + site, Kind: Site, Site: site, Title: fmt.Sprintf("%s is silent: all %d devices", site, len(ds)),
			Do: "See whether the site has power and its way to the service"}
		f.tellSilent(c, ds)
	}
	for _, d := range devices {
		if !dark(d) || f.covered[d.ID] || len(behind[d.ID]) == 0 {
			continue
		}
		with := []Device{d}
		for _, o := range behind[d.ID] {
			if dark(o) && !f.covered[o.ID] {
				with = append(with, o)
			}
		}
		title := d.ID + " is silent"
		if n := len(with) - 1; n > 0 {
			title += fmt.Sprintf(", and with it %s behind it", plural(n))
		}
		f.tellSilent(Cause{ID: "hub " + d.ID, Kind: Hub, Site: d.Site, Title: title, Do: "See whether the hub has power and its uplink works"}, with)
	}
	for _, site := range sorted(bySite) {
		var alone []Device
		for _, d := range bySite[site] {
			if dark(d) && !f.covered[d.ID] {
				alone = append(alone, d)
			}
		}
		f.alone("link "+site, site, alone)
	}
	var nowhere []Device
	for _, d := range devices {
		if dark(d) && !f.covered[d.ID] {
			nowhere = append(nowhere, d)
		}
	}
	f.alone("link", "", nowhere)
}

func (f *finder) alone(id, site string, ds []Device) {
	if len(ds) == 0 {
		return
	}
	title := ds[0].ID + " is silent"
	if len(ds) > 1 {
		title = fmt.Sprintf("%s are silent", plural(len(ds)))
		if site != "" {
			title += " at " + site
		}
	}
	f.tellSilent(Cause{ID: id, Kind: Link, Site: site, Title: title, Do: "See the last messages of the device, its battery and its signal"}, ds)
}

// tellSilent tells of devices that are silent. Their alarms that came with the silence are
// part of it.
func (f *finder) tellSilent(c Cause, ds []Device) {
	acknowledged := true
	for _, d := range ds {
		f.covered[d.ID] = true
		c.Devices = append(c.Devices, d.ID)
		if c.Since.IsZero() || d.LastAt.Before(c.Since) {
			c.Since = d.LastAt
		}
		for _, a := range d.Alarms {
			if a.Since.Before(d.LastAt) {
				continue
			}
			f.worst(&c, a)
			acknowledged = acknowledged && a.Acknowledged
		}
	}
	c.Why = fmt.Sprintf("nothing heard for %s", health.Ago(f.now.Sub(c.Since)))
	if d := ds[0]; d.Interval > 0 {
		c.Why += fmt.Sprintf(", expected every %s", value.Duration(d.Interval))
	}
	c.Acknowledged = c.Alarm != "" && acknowledged
	f.out = append(f.out, c)
}

// worst notes an alarm where it is the worst of a cause so far, with what its rule says.
func (f *finder) worst(c *Cause, a Alarm) {
	if a.Acknowledged && a.By != "" && !slices.Contains(c.By, a.By) {
		c.By = append(c.By, a.By)
	}
	if c.Priority != "" && c.Priority.Rank() <= a.Priority.Rank() {
		return
	}
	c.Priority, c.Alarm, c.Rule = a.Priority, a.ID, a.Rule
	if do := f.advice(a.Rule).Response; do != "" {
		c.Do = do
	}
}

func (f *finder) alarms(devices []Device, groups []Alarm) {
	type of struct {
		device Device
		alarm  Alarm
	}
	by := map[string][]of{}
	for _, d := range devices {
		for _, a := range d.Alarms {
			if f.covered[d.ID] && !a.Since.Before(d.LastAt) {
				continue
			}
			by[a.Rule+" "+d.Site] = append(by[a.Rule+" "+d.Site], of{d, a})
		}
	}
	for _, key := range sorted(by) {
		all := by[key]
		c := Cause{ID: "alarm " + key, Kind: Raised, Site: all[0].device.Site, Acknowledged: true}
		for _, x := range all {
			c.Devices = append(c.Devices, x.device.ID)
			if c.Since.IsZero() || x.alarm.Since.Before(c.Since) {
				c.Since = x.alarm.Since
			}
			c.Acknowledged = c.Acknowledged && x.alarm.Acknowledged
			f.worst(&c, x.alarm)
		}
		c.Why = f.advice(c.Rule).Cause
		if len(all) == 1 {
			c.Title = cmp.Or(all[0].alarm.Message, c.Rule+" on "+all[0].device.ID)
		} else {
			c.Title = fmt.Sprintf("%s on %s", strings.ReplaceAll(c.Rule, "_", " "), plural(len(all)))
			if c.Site != "" {
				c.Title += " at " + c.Site
			}
		}
		f.out = append(f.out, c)
	}
	for _, a := range groups {
		_, group, _ := strings.Cut(a.Group, "=")
		// The silence of a site or of its hub is told already; the alarm is part of that.
		if i := slices.IndexFunc(f.out, func(c Cause) bool {
			return (c.Kind == Site || c.Kind == Hub) && c.Site == group && !a.Since.Before(c.Since)
		}); i >= 0 {
			f.worst(&f.out[i], a)
			continue
		}
		c := Cause{ID: "alarm " + a.Rule + " of " + a.Group, Kind: Raised, Site: group, Title: cmp.Or(a.Message, a.Rule+" of "+group), Since: a.Since,
			Acknowledged: a.Acknowledged, Devices: []string{}}
		f.worst(&c, a)
		c.Why = f.advice(a.Rule).Cause
		f.out = append(f.out, c)
	}
}

func (f *finder) settings(devices []Device) {
	by := map[string]*Cause{}
	for _, d := range devices {
		for _, x := range d.Differs {
			if x.Reason == "" && f.now.Sub(x.Since) < health.DriftGrace {
				continue
			}
			key := "drift " + x.Setting
			if x.Reason != "" {
				key = "refused " + x.Setting + " " + x.Reason
			}
			c := by[key]
			if c == nil {
				c = &Cause{ID: key, Kind: Drift, Setting: x.Setting, Since: x.Since, Do: "Compare what the device has with what is intended, and send it again"}
				if c.Why = "they confirmed it and have it otherwise since"; x.Reason != "" {
					c.Kind, c.Why, c.Do = Refused, "they say: "+x.Reason, "See which layer gives it, and leave these devices out or give another value"
				}
				by[key] = c
			}
			c.Devices = append(c.Devices, d.ID)
			if x.Since.Before(c.Since) {
				c.Since = x.Since
			}
		}
	}
	for _, key := range sorted(by) {
		c := by[key]
		verb, drifted := "refuse", "have drifted from"
		if len(c.Devices) == 1 {
			verb, drifted = "refuses", "has drifted from"
			c.Why = strings.NewReplacer("they say", "it says", "they confirmed it and have", "it confirmed it and has").Replace(c.Why)
		}
		who := c.Devices[0]
		if len(c.Devices) > 1 {
			who = plural(len(c.Devices))
		}
		if c.Kind == Refused {
			c.Title = fmt.Sprintf("%s %s the setting %s", who, verb, c.Setting)
		} else {
			c.Title = fmt.Sprintf("%s %s the setting %s", who, drifted, c.Setting)
		}
		f.out = append(f.out, *c)
	}
}

// margins tells of devices that are near a limit and have no alarm for it yet.
func (f *finder) margins(devices []Device) {
	for _, d := range devices {
		m := d.Least
		if m == nil || !m.Known || m.Headspace >= health.LowHeadspace || f.covered[d.ID] ||
			slices.ContainsFunc(d.Alarms, func(a Alarm) bool { return a.Rule == m.Rule }) {
			continue
		}
		c := Cause{ID: "headspace " + d.ID + " " + m.Rule, Kind: Headspace, Site: d.Site, Rule: m.Rule, Devices: []string{d.ID}, Since: f.now,
			Title: fmt.Sprintf("%s has %.0f %% headspace on %s", d.ID, 100*m.Headspace, m.Metric), Do: f.advice(m.Rule).Response}
		if m.ToLimit.Likely.After(f.now) {
			c.Why = fmt.Sprintf("it gets to the limit of %s in about %s", m.Rule, health.Ago(m.ToLimit.Likely.Sub(f.now)))
		} else {
			c.Why = fmt.Sprintf("near the limit of %s", m.Rule)
		}
		f.out = append(f.out, c)
	}
}

// What a firmware must come to before it is told: so many devices with it and with others,
// and so much less headspace in the median.
const (
	leastOfFirmware = 3
	lessHeadspace   = 0.2
)

// firmware tells of a firmware with which the devices of a model have less headspace than
// those with another one: in the median, and three in four of them less than the median of
// the others. What a device is near to for reasons of its own moves neither.
func (f *finder) firmware(devices []Device) {
	type key struct{ model, firmware string }
	by, of := map[key][]Device{}, map[string][]string{}
	for _, d := range devices {
		if d.Firmware == "" || d.Least == nil || !d.Least.Known {
			continue
		}
		k := key{d.Model, d.Firmware}
		if len(by[k]) == 0 {
			of[d.Model] = append(of[d.Model], d.Firmware)
		}
		by[k] = append(by[k], d)
	}
	for _, name := range sorted(of) {
		if len(of[name]) < 2 {
			continue
		}
		slices.Sort(of[name])
		for _, version := range of[name] {
			mine := by[key{name, version}]
			var others []float64
			for _, other := range of[name] {
				if other != version {
					others = append(others, headspaces(by[key{name, other}])...)
				}
			}
			if len(mine) < leastOfFirmware || len(others) < leastOfFirmware {
				continue
			}
			slices.Sort(others)
			with, without := among(headspaces(mine), 0.5), among(others, 0.5)
			if without-with < lessHeadspace || among(headspaces(mine), 0.75) >= without {
				continue
			}
			c := Cause{ID: "firmware " + name + " " + version, Kind: Firmware, Since: f.now,
				Title: fmt.Sprintf("%s with firmware %s have %.0f %% headspace, others %.0f %%", name, version, 100*with, 100*without),
				Why:   fmt.Sprintf("in the median over %s and %d with another one", plural(len(mine)), len(others)),
				Do:    "Compare one of them with what it was before, and bring no more devices to this firmware"}
			for _, d := range mine {
				c.Devices = append(c.Devices, d.ID)
			}
			f.out = append(f.out, c)
		}
	}
}

func headspaces(ds []Device) (out []float64) {
	for _, d := range ds {
		out = append(out, d.Least.Headspace)
	}
	slices.Sort(out)
	return out
}

// among returns the value that a share of some sorted values does not exceed.
func among(sorted []float64, share float64) float64 {
	return sorted[max(0, int(math.Ceil(share*float64(len(sorted))))-1)]
}

// clocks tells of devices whose clocks cannot be right, of each site in one line: they may
// have the time from one place.
func (f *finder) clocks(devices []Device) {
	for _, wrong := range []string{health.ClockNotSet, health.ClockAhead} {
		by := map[string][]string{}
		for _, d := range devices {
			if slices.Contains(d.Reasons, wrong) {
				by[d.Site] = append(by[d.Site], d.ID)
			}
		}
		how := strings.TrimPrefix(wrong, "its clock is ")
		for _, site := range sorted(by) {
			ids := by[site]
			c := Cause{ID: "clock " + how + " " + site, Kind: Clock, Site: site, Devices: ids, Since: f.now, Title: fmt.Sprintf("The clock of %s is %s", ids[0], how),
				Why: "its readings are kept under the time at which they arrive", Do: "Let it ask for the time when it starts, before it measures"}
			if len(ids) > 1 {
				c.Title, c.Why = fmt.Sprintf("The clocks of %s are %s", plural(len(ids)), how), "their readings are kept under the time at which they arrive"
				if site != "" {
					c.Title = fmt.Sprintf("The clocks of %s at %s are %s", plural(len(ids)), site, how)
				}
			}
			f.out = append(f.out, c)
		}
	}
}

// others tells what else speaks against the health of devices: the reasons that none of the
// above is about.
func (f *finder) others(devices []Device) {
	for _, d := range devices {
		for _, r := range d.Reasons {
			told := strings.HasPrefix(r, "silent for") || strings.Contains(r, " alarm ") || strings.HasPrefix(r, "headspace ") ||
				strings.Contains(r, " has drifted for ") || r == health.ClockNotSet || r == health.ClockAhead || d.Health == health.None || d.Health == health.Awaited
			if told {
				continue
			}
			f.out = append(f.out, Cause{ID: "other " + d.ID + " " + strings.Map(letters, r), Kind: Other, Site: d.Site, Title: d.ID + ": " + r,
				Why: "it is on watch for that", Do: "Its page says more", Devices: []string{d.ID}, Since: f.now})
		}
	}
}

// letters leaves the numbers out of a reason, which change while it is the same.
func letters(r rune) rune {
	if r >= '0' && r <= '9' {
		return -1
	}
	return r
}

func plural(n int) string {
	if n == 1 {
		return "1 device"
	}
	return fmt.Sprintf("%d devices", n)
}

func sorted[V any](m map[string]V) []string {
	var out []string
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}
