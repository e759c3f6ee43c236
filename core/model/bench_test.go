package model_test

import (
	"fmt"
	"strings"
	"testing"

	"ullage/core/model"
)

func BenchmarkRead(b *testing.B) {
	property := func(name string) string {
		return fmt.Sprintf(`%q:{"title":%q,"description":"What the probe measures there","type":"number","readOnly":true,"unit":"Cel","minimum":-5,"maximum":60,"ullage:role":"telemetry","ullage:decimals":1,"ullage:usual":[18,26],"ullage:accept":[-40,125]}`, name, name)
	}
	many := func(prefix string, n int) string {
		var all []string
		for i := range n {
			all = append(all, property(fmt.Sprintf("%s_%d", prefix, i)))
		}
		return strings.Join(all, ",")
	}
	find := folder(map[string]string{
		"base.tm.json":   top + `"title":"Base","properties":{` + many("base", 8) + `},"actions":{"identify":{}}}`,
		"jacket.tm.json": top + `"title":"Jacket","properties":{` + many("side", 6) + `}}`,
	})
	src := []byte(top + `"title":"Great tank","version":{"model":"1.0.0"},"ullage:name":"great-tank","links":[{"rel":"tm:extends","href":"base.tm.json"},{"rel":"tm:submodel","href":"jacket.tm.json","instanceName":"left"},{"rel":"tm:submodel","href":"jacket.tm.json","instanceName":"right"}],"properties":{` + many("own", 18) + `}}`)
	b.ReportAllocs()
	for b.Loop() {
		if _, err := model.Read(src, find); err != nil {
			b.Fatal(err)
		}
	}
}
