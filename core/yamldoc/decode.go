package yamldoc

import (
	"errors"
	"fmt"

	"github.com/goccy/go-yaml"
)

// Decode reads the file of one thing, of at most so many bytes, into a struct. Keys
// that do not exist are refused with their line. What is what the file is of, as in
// "a site".
func Decode(src []byte, into any, what string, most int) (err error) {
	if len(src) > most {
		return fmt.Errorf("the file has %d bytes; %s may have %d", len(src), what, most)
	}
	if err := Bounded(src); err != nil {
		return err
	}
	// The YAML decoder panics on some tags that nobody writes on purpose.
	defer func() {
		if recover() != nil {
			err = errors.New("the file is not YAML that can be read; look for tags (!…) that do not belong there")
		}
	}()
	if err := yaml.UnmarshalWithOptions(src, into, yaml.DisallowUnknownField()); err != nil {
		return errors.New(yaml.FormatError(err, false, false))
	}
	return nil
}

// Encode writes a thing as its file; nil for what cannot be written.
func Encode(x any) []byte {
	b, err := yaml.Marshal(x)
	if err != nil {
		return nil
	}
	return b
}
