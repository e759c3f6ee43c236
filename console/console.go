// Package console holds the built console, so that one binary carries it.
package console

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Files returns the built console, and false if this binary was built without.
func Files() (fs.FS, bool) {
	f, err := fs.Sub(dist, "dist")
	if err != nil {
		return nil, false
	}
	if _, err := fs.Stat(f, "index.html"); err != nil {
		return nil, false
	}
	return f, true
}
