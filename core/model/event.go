package model

import (
	"bytes"
	"encoding/json"
	"fmt"
	"strings"

	"ullage/core/value"
)

// Event returns the event of that name.
func (m *Model) Event(name string) (*Event, bool) {
	for i := range m.Events {
		if m.Events[i].Name == name {
			return &m.Events[i], true
		}
	}
	return nil, false
}

// CheckEvent decodes what goes with an event, checks it against the model and writes
// it in short. An event without data has an empty body or an empty object.
func (m *Model) CheckEvent(name string, body []byte) (json.RawMessage, []Finding, error) {
	if e, ok := m.Event(name); ok {
		return accompany(e.Data, "what goes with the event "+name, body)
	}
	names := make([]string, len(m.Events))
	for i := range m.Events {
		names[i] = m.Events[i].Name
	}
	return nil, nil, &Problem{Finding{Sentence: fmt.Sprintf("%s has no event %q%s", m, name, instead(name, names))}}
}

// Input decodes the input of a command, checks it against the model and writes
// it in short. A command without input has an empty body or an empty object.
func (m *Model) Input(name string, body []byte) (json.RawMessage, []Finding, error) {
	if a, ok := m.Action(name); ok {
		return accompany(a.Input, "the input of "+name, body)
	}
	return nil, nil,
		&Problem{Finding{Sentence: fmt.Sprintf("%s has no command %q%s", m, name, instead(name, m.Commands()))}}
}

// instead tells what there is in place of a name that there is not.
func instead(name string, names []string) string {
	if near := value.Nearest(name, names); near != "" {
		return "; did you mean " + near + "?"
	}
	if len(names) == 0 {
		return ""
	}
	return "; it has " + strings.Join(names, ", ")
}

// accompany checks the data that goes with a name; what says so in messages.
func accompany(s *Schema, what string, body []byte) (json.RawMessage, []Finding, error) {
	var data any = map[string]any{}
	if len(bytes.TrimSpace(body)) > 0 {
		if err := json.Unmarshal(body, &data); err != nil {
			return nil, nil, &Problem{Finding{Sentence: what + " is not JSON"}}
		}
	}
	if s == nil {
		if o, isObject := data.(map[string]any); data != nil && (!isObject || len(o) > 0) {
			return nil, []Finding{{Sentence: what + " must be empty"}}, nil
		}
		return json.RawMessage("{}"), nil, nil
	}
	if wrong := s.Check(data, ""); len(wrong) > 0 {
		return nil, wrong, nil
	}
	short, err := json.Marshal(data)
	return short, nil, err
}
