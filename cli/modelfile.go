package cli

import (
	"encoding/json"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"strings"

	"ullage/core/model"
)

// modelFile is a Thing Model on disk, in JSON, with the files it refers to.
type modelFile struct {
	path   string
	source []byte
	parts  map[string]json.RawMessage
	model  *model.Model
}

// readModelFile reads a Thing Model in JSON or YAML and what it refers to, and
// fills placeholders in.
func readModelFile(file string, values map[string]string) (*modelFile, error) {
	src, err := jsonOf(file)
	if err != nil {
		return nil, err
	}
	if len(values) > 0 {
		if src, err = model.Fill(src, values); err != nil {
			return nil, fmt.Errorf("%s: %w", file, err)
		}
	}
	f := &modelFile{path: file, source: src, parts: map[string]json.RawMessage{}}
	f.model, err = model.Read(src, func(href, from string) ([]byte, string, bool) {
		if from == "" {
			from = file
		}
		if strings.Contains(href, "://") {
			href = path.Base(href)
		}
		at := filepath.Join(filepath.Dir(from), filepath.FromSlash(href))
		b, err := jsonOf(at)
		if err != nil {
			return nil, "", false
		}
		f.parts[path.Base(href)] = b
		return b, at, true
	})
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	return f, nil
}

// jsonOf reads a file that is JSON, or YAML turned into JSON.
func jsonOf(file string) ([]byte, error) {
	b, err := os.ReadFile(file)
	if err != nil {
		return nil, wrong("%s cannot be read: %v", file, err)
	}
	if strings.HasSuffix(file, "json") || strings.HasSuffix(file, ".jsonld") {
		return b, nil
	}
	if b, err = model.FromYAML(b); err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	return b, nil
}

// readModel reads a Thing Model in JSON or YAML.
func readModel(file string) (*model.Model, error) {
	f, err := readModelFile(file, nil)
	if err != nil {
		return nil, err
	}
	return f.model, nil
}

// isFile reports whether an argument names a file rather than a model of the service.
func isFile(arg string) bool {
	info, err := os.Stat(arg)
	return err == nil && !info.IsDir()
}
