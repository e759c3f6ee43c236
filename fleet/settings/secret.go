package settings

import (
	"maps"
	"regexp"
	"strings"

	"ullage/core/layering"
	"ullage/core/model"
	"ullage/core/secret"
	"ullage/core/value"
	"ullage/fleet/fault"
)

// A secret is kept sealed wherever it stands: in overrides, layers, documents, versions and
// facts. It is open in three places only: in what a person gives, in the document that goes
// to the device, and in what the device says that it applied.

// sealed returns values with every secret sealed; what has not changed from before stays.
// Nobody may give what is sealed already: it would let them move a secret that they cannot
// read to a device that tells it.
func (b *Settings) sealed(m *model.Model, before layering.Settings, values map[string]value.Value) (map[string]value.Value, error) {
	out := make(map[string]value.Value, len(values))
	for name, v := range values {
		if p, ok := m.Property(name); ok && p.Secret {
			var err error
			if v, err = b.secrets.Renew(name, before[name], v); err != nil {
				return nil, fault.New(fault.Invalid, "%s was not set: %s", name, err).On("settings")
			}
		}
		out[name] = v
	}
	return out, nil
}

// sealedForMany is sealed for a change of devices of several models, before it is known
// which.
func (b *Settings) sealedForMany(models map[*model.Model]bool, set map[string]any) (map[string]any, error) {
	out := make(map[string]any, len(set))
	for name, x := range set {
		out[name] = x
		yes, no := parted(models, name)
		switch {
		case yes == nil:
		case no != nil:
			return nil, fault.New(fault.Invalid, "%s is a secret of %s and none of %s, so nothing was changed", name, yes, no).
				Then("choose devices of one of them").On("settings")
		default:
			p, _ := yes.Property(name)
			v, err := p.Check(x)
			if err == nil {
				v, err = b.secrets.Renew(name, value.Value{}, v)
			}
			if err != nil {
				return nil, fault.New(fault.Invalid, "%s was not set: %s", name, err).On("settings")
			}
			out[name] = v.Any()
		}
	}
	return out, nil
}

// parted are a model of which a setting is a secret, and one of which it is none.
func parted(models map[*model.Model]bool, name string) (yes, no *model.Model) {
	for m := range models {
		switch p, ok := m.Property(name); {
		case !ok || p.Role != model.Setting:
		case p.Secret:
			yes = m
		default:
			no = m
		}
	}
	return yes, no
}

// giving refuses what is sealed already.
func giving(values map[string]value.Value) (wrong []model.Finding) {
	for name, v := range values {
		if v.Sealed() {
			wrong = append(wrong, model.Finding{Pointer: "/set/" + name, Sentence: name + " is given sealed; give the secret itself"})
		}
	}
	return wrong
}

// same reports whether two values of a setting are the same to a device.
func (b *Settings) same(name string, x, y value.Value) bool {
	if x == y || !x.Sealed() || !y.Sealed() {
		return x == y
	}
	v, err := b.secrets.Open(name, x)
	w, other := b.secrets.Open(name, y)
	return err == nil && other == nil && v == w
}

// opened is a document as the device is to have it. What cannot be opened, since it was
// sealed under another master key, is left out.
func (b *Settings) opened(id string, x layering.Settings) layering.Settings {
	out, copied := x, false
	for name, v := range x {
		if !v.Sealed() {
			continue
		}
		if !copied {
			out, copied = maps.Clone(x), true
		}
		plain, err := b.secrets.Open(name, v)
		if err != nil {
			b.log.Error("a secret cannot be sent", "device", id, "setting", name, "error", err)
			delete(out, name)
			continue
		}
		out[name] = plain
	}
	return out
}

// reported seals what a device says of secrets; what it is intended to have is taken for
// that where it says the same. A device need not tell a secret back.
func (b *Settings) reported(m *model.Model, was *State, applied layering.Settings, refused map[string]string) {
	for _, p := range m.With(model.Setting) {
		if !p.Secret {
			continue
		}
		v, told := applied[p.Name]
		intended := was.Intended[p.Name]
		_, no := refused[p.Name]
		switch {
		case told && v != value.OfText(value.Hidden):
			sealed, err := b.secrets.Renew(p.Name, intended, v)
			if err == nil && sealed != intended {
				if before := was.Applied[p.Name]; before.Sealed() && b.same(p.Name, before, sealed) {
					sealed = before
				}
			}
			if applied[p.Name] = sealed; err != nil {
				delete(applied, p.Name)
			}
		case intended.Known() && !no:
			applied[p.Name] = intended
		default:
			delete(applied, p.Name)
		}
	}
}

// Hide takes secrets out of a text that a device has sent or is sent: whatever stands
// behind their names, and their values wherever they stand.
func (b *Settings) Hide(id, text string) string {
	if text == "" {
		return text
	}
	d, err := b.devices.Get(id)
	if err != nil {
		return text
	}
	m, err := b.models.Of(d.Model, d.Version)
	if err != nil {
		return text
	}
	secrets := false
	for i := range m.Properties { // most models have none, and each message asks
		secrets = secrets || m.Properties[i].Secret
	}
	if !secrets {
		return text
	}
	var names []string
	var values []value.Value
	s, _ := b.states.Get(id)
	for _, p := range m.With(model.Setting) {
		if !p.Secret {
			continue
		}
		names = append(names, regexp.QuoteMeta(p.Name))
		if s == nil {
			continue
		}
		for _, from := range []layering.Settings{s.Intended, s.Override, s.Applied} {
			if v, err := b.secrets.Open(p.Name, from[p.Name]); err == nil && v.Known() {
				values = append(values, v)
			}
		}
	}
	// Also where the text was cut, and the value does not end.
	behind := regexp.MustCompile(`("(?:` + strings.Join(names, "|") + `)"\s*:\s*)("(?:[^"\\]|\\.?)*"?|[^\s,}\]]+)`)
	return secret.Hide(behind.ReplaceAllString(text, `${1}"`+value.Hidden+`"`), values...)
}
