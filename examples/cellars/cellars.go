// Package cellars carries the example fleet folder of the made-up cooperative
// Tarn & Hollow: its models, rules, sites, layers and boards, for the demo and the tests.
package cellars

import "embed"

// Files holds models/*.tm.json, rules/*.yaml, layers/*.yaml, boards/*.yaml and sites/*.yaml with
// their plans.
//
//go:embed models rules sites layers boards
var Files embed.FS
