package main

import (
	"encoding/json"
	"fmt"
	"path"
	"strings"
	"testing"
	"time"

	"ullage/core/check"
	"ullage/core/model"
	"ullage/core/value"
)

// fortyAffordances is a model of a tank with two jackets: 40 properties,
// commands and events, some inherited, some from parts, some computed.
func fortyAffordances() (src []byte, files map[string][]byte) {
	const head = `{"@context":["https://www.w3.org/2022/wot/td/v1.1",{"ullage":"urn:ullage:vocabulary:"}],"@type":"tm:ThingModel",`
	property := func(name string) string {
		return fmt.Sprintf(`%q:{"title":%q,"description":"What the probe measures there","type":"number","readOnly":true,"unit":"Cel","minimum":-5,"maximum":60,"ullage:role":"telemetry","ullage:decimals":1,"ullage:usual":[18,26],"ullage:accept":[-40,125]}`, name, strings.ReplaceAll(name, "_", " "))
	}
	many := func(prefix string, n int) string {
		var all []string
		for i := range n {
			all = append(all, property(fmt.Sprintf("%s_%d", prefix, i)))
		}
		return strings.Join(all, ",")
	}
	files = map[string][]byte{
		"base.tm.json":   []byte(head + `"title":"Base","properties":{` + many("base", 8) + `},"actions":{"identify":{}}}`),
		"jacket.tm.json": []byte(head + `"title":"Jacket","properties":{` + many("side", 5) + `,"then":{"type":"number","unit":"K","readOnly":true,"ullage:derived":"side_0 - side_1"}},"actions":{"exercise":{"input":{"type":"object","required":["cycles"],"properties":{"cycles":{"type":"integer","minimum":1,"maximum":10}}}}},"events":{"stuck":{"data":{"type":"string"}}}}`),
	}
	src = []byte(head + `"title":"Great tank","version":{"model":"1.0.0"},"ullage:name":"great-tank","ullage:interval":"60s",
		"links":[{"rel":"tm:extends","href":"base.tm.json"},{"rel":"tm:submodel","href":"jacket.tm.json","instanceName":"left"},{"rel":"tm:submodel","href":"jacket.tm.json","instanceName":"right"}],
		"properties":{` + many("own", 14) + `,"again":{"tm:ref":"base.tm.json#/properties/base_0","title":"Again"}}}`)
	return src, files
}

func modelFigures(string) ([]figure, error) {
	fmt.Println("reading models and checking values …")
	src, files := fortyAffordances()
	find := func(href, _ string) ([]byte, string, bool) {
		b, ok := files[path.Base(href)]
		return b, path.Base(href), ok
	}
	m, err := model.Read(src, find)
	if err != nil {
		return nil, err
	}
	affordances := len(m.Properties) + len(m.Actions) + len(m.Events)
	reading := testing.Benchmark(func(b *testing.B) {
		for b.Loop() {
			m, err := model.Read(src, find)
			if err != nil {
				b.Fatal(err)
			}
			if _, wrong := check.Derive(m); len(wrong) > 0 && !wrong[0].Finding.Warning {
				b.Fatal(wrong)
			}
		}
	})
	// The same bytes through encoding/json, into what holds anything.
	plain := testing.Benchmark(func(b *testing.B) {
		for b.Loop() {
			for _, s := range append([][]byte{src, files["jacket.tm.json"]}, files["base.tm.json"],
				files["jacket.tm.json"]) {
				var x any
				if err := json.Unmarshal(s, &x); err != nil {
					b.Fatal(err)
				}
			}
		}
	})
	samples := make([]model.Sample, 10)
	for i := range samples {
		samples[i] = model.Sample{Name: fmt.Sprintf("own_%d", i), Value: 20.5 + float64(i)}
	}
	at := time.Date(2026, 3, 1, 10, 0, 0, 0, time.UTC)
	out := model.Checked{Readings: make([]value.Reading, 0, len(samples))}
	validating := testing.Benchmark(func(b *testing.B) {
		b.ReportAllocs()
		for b.Loop() {
			out.Readings = out.Readings[:0]
			if !m.Take(samples, "", value.Reading{At: at}, &out) || len(out.Readings) != 10 || len(out.Refused) > 0 {
				b.Fatal(out)
			}
		}
	})
	// The same by hand: one limit each, in the order of an array.
	low, high := make([]float64, 10), make([]float64, 10)
	for i := range low {
		low[i], high[i] = -5, 60
	}
	byHand := testing.Benchmark(func(b *testing.B) {
		var into [10]value.Reading
		for b.Loop() {
			for i, s := range samples {
				f, ok := s.Value.(float64)
				if !ok || f < low[i] || f > high[i] {
					b.Fatal("out of range")
				}
				into[i] = value.Reading{Metric: s.Name, At: at, Value: value.OfNumber(f)}
			}
		}
	})
	folder, lines, err := fiveHundred()
	if err != nil {
		return nil, err
	}
	return []figure{
		{fmt.Sprintf("parse, resolve and check a model of %d affordances in 3 files", affordances), dur(reading), "under 1 ms", ratio(plain, reading)},
		{"  ceiling: the same bytes through encoding/json", dur(plain), "", ""},
		{fmt.Sprintf("validate ten decoded values (%d allocations)", validating.AllocsPerOp()), dur(validating), "under 2 µs, 0", ratio(byHand, validating)},
		{"  ceiling: ten limits compared by hand", dur(byHand), "", ""},
		{fmt.Sprintf("check a folder of 500 models, %d lines", lines), folder.Round(time.Millisecond).String(), "under 1 s", ""},
	}, nil
}

// fiveHundred checks a fleet folder of 500 models.
func fiveHundred() (time.Duration, int, error) {
	m, err := tankProbe()
	if err != nil {
		return 0, 0, err
	}
	var files []check.File
	lines := 0
	for i := range 500 {
		src := strings.Replace(string(m.Source), `"tank-probe"`, fmt.Sprintf(`"probe-%d"`, i), 1)
		lines += strings.Count(src, "\n")
		files = append(files, check.File{Path: fmt.Sprintf("models/probe-%d.tm.json", i), Data: []byte(src)})
	}
	begun := time.Now()
	if r := check.Folder(files); r.Models != 500 || r.Errors() > 0 {
		return 0, 0, fmt.Errorf("the folder has %d models and %d mistakes: %v", r.Models, r.Errors(), r.Findings[0])
	}
	return time.Since(begun), lines, nil
}
