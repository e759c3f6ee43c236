package rollouts

import (
	"slices"
	"time"

	"ullage/core/waves"
)

// Shown is a rollout with how far each device is.
type Shown struct {
	*Rollout
	Devices    []ShownDevice
	Conditions []waves.Condition
}

// ShownDevice is a device of a rollout.
type ShownDevice struct {
	ID      string
	Wave    int    // from 0
	State   string // waiting, offered, confirmed, refused, off line, left out
	Reason  string
	Offered time.Time
}

// Show returns a rollout with how far each device is, of those that sees lets pass.
func (r *Rollouts) Show(id string, sees func(string) bool) (Shown, error) {
	x, err := r.Get(id)
	if err != nil {
		return Shown{}, err
	}
	out := Shown{Rollout: x}
	offers, _ := r.offers.Get(id)
	for i, wave := range x.Waves {
		for _, device := range wave {
			if sees != nil && !sees(device) {
				continue
			}
			out.Devices = append(out.Devices, r.shownDevice(x, i, device, offers[device]))
		}
	}
	if x.Run.State.Open() && x.Run.State != waves.Waiting {
		out.Conditions = r.conditions(x, r.members(x))
	}
	return out, nil
}

func (r *Rollouts) shownDevice(x *Rollout, wave int, id string, offered time.Time) ShownDevice {
	out := ShownDevice{ID: id, Wave: wave, State: "waiting", Offered: offered}
	d, ok := r.o.Present.Get(id)
	switch {
	case slices.Contains(x.LeftOut, id):
		out.State = "left out"
		return out
	case x.Run.State == waves.Undone || !ok:
		return out
	case x.Run.State == waves.Done && offered.IsZero():
		offered = x.Run.Began // its offers are not kept any more
		if s, _, err := r.o.Settings.Of(id); err == nil {
			offered = s.IntendedAt
		}
	}
	if offered.IsZero() {
		if away(d) {
			out.State = "off line"
		}
		return out
	}
	_, settled, applied, refused := r.fate(x, d, offered)
	switch {
	case refused:
		out.State = "refused"
		s, _, err := r.o.Settings.Of(id)
		for name := range x.To.Set {
			if err == nil && s.Refused[name] != "" {
				out.Reason = name + ": " + s.Refused[name]
			}
		}
	case applied:
		out.State = "confirmed"
	case settled:
		out.State, out.Reason = "refused", "it confirmed the revision and is otherwise all the same"
	case away(d):
		out.State = "off line"
	default:
		out.State = "offered"
	}
	return out
}
