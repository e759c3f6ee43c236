// Package cellars carries the example fleet folder of the made-up cooperative
// Tarn & Hollow: its models and rules, for the demo and the tests.
package cellars

import "embed"

// Files holds models/*.tm.json and rules/*.yaml.
//
//go:embed models rules
var Files embed.FS
