package scoped

import (
	"ullage/core/person"
	"ullage/fleet/access"
	"ullage/fleet/contact"
	"ullage/fleet/traffic"
)

// Contact gathers what the way of a device in is told from. What came from nobody
// known is for whoever sees all devices.
func (f *Fleet) Contact(c access.Caller, id string) (contact.Facts, error) {
	d, err := f.Device(c, id)
	if err != nil {
		return contact.Facts{}, err
	}
	out := contact.Facts{Device: d, Credentials: f.o.Devices.Credentials(id), Messages: f.o.Traffic.Recent(traffic.Filter{Device: id, Limit: 1000})}
	for _, x := range out.Credentials {
		if u := f.o.Devices.UseOf(x.ID); u.Credential != "" && x.RevokedAt.IsZero() {
			out.Uses = append(out.Uses, u)
		}
	}
	if _, m, err := f.Registered(c, id); err == nil {
		out.Model = m
	}
	if st, _, err := f.Settings(c, id); err == nil {
		out.Settings = st
	}
	if c.MayAll(person.Viewer) {
		out.Strangers = f.o.Traffic.Recent(traffic.Filter{Refused: true, Limit: 200})
	}
	return out, nil
}
