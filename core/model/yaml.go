package model

import (
	"fmt"

	"github.com/goccy/go-yaml"

	"ullage/core/yamldoc"
)

// FromYAML turns a Thing Model written in YAML into the same in JSON, members
// in their order. The error is of type Findings.
func FromYAML(src []byte) (out []byte, err error) {
	wrong := func(err error) error { return Findings{{"", err.Error()}} }
	if len(src) > MaxSource {
		return nil, wrong(fmt.Errorf("the file has %d bytes; a model may have %d", len(src), MaxSource))
	}
	src = yamldoc.Unmarked(src)
	if _, err := yamldoc.Parse(src); err != nil {
		return nil, wrong(err)
	}
	// The YAML decoder panics on some tags that nobody writes on purpose.
	defer func() {
		if recover() != nil {
			out, err = nil, wrong(yamldoc.ErrTags)
		}
	}()
	if out, err = yaml.YAMLToJSON(src); err != nil {
		return nil, wrong(yamldoc.Explain(err, "", nil))
	}
	return out, nil
}
