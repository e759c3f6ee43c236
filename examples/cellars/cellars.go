// Package cellars carries the example fleet folder of the made-up cooperative
// Tarn & Hollow: its models, rules, sites and layers, for the demo and the tests.
package cellars

import "embed"

// Files holds models/*.tm.json, rules/*.yaml, layers/*.yaml and sites/*.yaml with
// their plans.
//
//go:embed models rules sites layers
var Files embed.FS
