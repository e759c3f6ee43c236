package model

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"ullage/core/senml"
	"ullage/core/unit"
	"ullage/core/value"
)

// IsPack reports whether a message without a content type is a SenML pack: a
// list in CBOR whose first record has numbers for labels, or a list in JSON
// whose first record has one of SenML's labels for a name or a base, and no
// metric is called so.
func (m *Model) IsPack(body []byte) bool {
	if senml.IsCBOR(body) {
		return true
	}
	body = bytes.TrimLeft(body, " \t\r\n")
	if len(body) == 0 || body[0] != '[' {
		return false
	}
	d := json.NewDecoder(bytes.NewReader(body))
	if _, err := d.Token(); err != nil || !d.More() {
		return false
	}
	var first map[string]json.RawMessage
	if d.Decode(&first) != nil {
		return false
	}
	for _, label := range []string{"n", "bn", "bver", "bt", "bu", "bv", "bs"} {
		if _, has := first[label]; has {
			if _, named := m.byName[label]; !named {
				return true
			}
		}
	}
	return false
}

// Pack decodes a message of readings in SenML, JSON or CBOR (RFC 8428), and
// checks each record against the model. Names are those of the model, alone or behind the
// device's own id; numbers in another unit of the same dimension are converted.
func (m *Model) Pack(body []byte, device string, arrived time.Time) (Checked, error) {
	read := senml.FromJSON
	if senml.IsCBOR(body) {
		read = senml.FromCBOR
	}
	records, wrong, err := read(body, arrived)
	if err != nil {
		var bad *senml.Wrong
		if errors.As(err, &bad) {
			return Checked{},
				&Problem{Finding{fmt.Sprintf("/%d", bad.Record), "the SenML pack cannot be read: " + bad.Sentence}}
		}
		if senml.IsCBOR(body) {
			return Checked{}, &Problem{Finding{Sentence: err.Error()}}
		}
		return Checked{}, notJSON(body, err)
	}
	if len(records) > MaxReadings {
		return Checked{},
			&Problem{Finding{"", fmt.Sprintf("the message carries more than %d readings; send it in parts", MaxReadings)}}
	}
	if len(records)+len(wrong) == 0 {
		return Checked{},
			&Problem{Finding{"", `the pack has no record; a reading is sent like [{"n":"must_temp","u":"Cel","v":21.4}]`}}
	}
	out := m.Records(records, device, arrived)
	for _, w := range wrong {
		out.Refused = append(out.Refused, Finding{fmt.Sprintf("/%d", w.Record), w.Sentence})
	}
	return out, nil
}

// Records checks the records of a pack against the model; the pointers of what
// it finds begin with the number of the record, from 0.
func (m *Model) Records(records []senml.Record, device string, arrived time.Time) Checked {
	return m.records(records, device, arrived, Checked{})
}

// History is Records for readings of the past: their times are taken as they
// are, whatever the clock of the service says.
func (m *Model) History(records []senml.Record, device string, now time.Time) Checked {
	return m.records(records, device, now, Checked{history: true})
}

func (m *Model) records(records []senml.Record, device string, arrived time.Time, out Checked) Checked {
	for _, r := range records {
		at := fmt.Sprintf("/%d", r.Index)
		name := r.Name
		for _, sep := range []string{"/", ":", "-", "."} {
			if short, own := strings.CutPrefix(name, device+sep); own {
				name = short
				break
			}
		}
		when := r.At
		if when.IsZero() {
			when, out.Untimed = arrived, true
		}
		if out.history && (when.Before(firstTime) || when.After(lastTime)) {
			out.Refused = append(out.Refused, Finding{at, fmt.Sprintf("%s has the time %s; readings are kept of %d to %d",
				value.Clip(name, 40), when.UTC().Format(time.RFC3339), firstTime.Year(), lastTime.Year())})
			continue
		}
		like := out.believe(when, arrived, at)
		var x any
		switch {
		case r.Number != nil:
			x = *r.Number
		case r.Text != nil:
			x = *r.Text
		case r.Truth != nil:
			x = *r.Truth
		case r.Data != nil:
			x = *r.Data
		default:
			out.Refused = append(out.Refused, Finding{at,
				value.Clip(name, 40) + " has a sum and no value; sums are not stored"})
			continue
		}
		if p, ok := m.Property(name); ok && r.Number != nil && r.Unit != "" && r.Unit != p.Unit {
			converted, err := convert(*r.Number, r.Unit, p)
			if err != nil {
				out.Refused = append(out.Refused, Finding{at, value.Clip(name, 40) + " " + err.Error()})
				continue
			}
			x = converted
		}
		m.field(name, "n", x, at, like, &out)
	}
	return out
}

// convert turns a number in a unit that was sent into the unit of p.
func convert(x float64, from string, p *Property) (float64, error) {
	u, err := unit.Lookup(from)
	if err != nil {
		return 0, fmt.Errorf("is in %q, which is no unit that is known; the model wants %s", value.Clip(from, 40),
			p.kindWords())
	}
	to, err := unit.Lookup(p.Unit)
	if err != nil || p.Unit == "" {
		return 0, fmt.Errorf("is in %s; the model has no unit for it", u.Name())
	}
	v, err := u.Literal(x, to) // what was written in decimals comes out in decimals
	if err != nil {
		return 0, fmt.Errorf("is in %s; the model wants %s", u.Name(), p.kindWords())
	}
	return v, nil
}
