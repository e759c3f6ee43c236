package model_test

import (
	"fmt"
	"time"

	"ullage/core/model"
)

// A Thing Model says what devices of a type send; a message is checked against
// it field by field.
func ExampleParse() {
	m, err := model.Parse([]byte(`{
		"@context": ["https://www.w3.org/2022/wot/td/v1.1", {"ullage": "urn:ullage:vocabulary:"}],
		"@type": "tm:ThingModel", "title": "Cask lid", "version": {"model": "0.1.0"}, "ullage:name": "cask-lid", "ullage:interval": "15min",
		"properties": {"cask_temp": {"type": "number", "unit": "Cel", "minimum": -5, "maximum": 40, "readOnly": true, "ullage:role": "telemetry"}}}`))
	if err != nil {
		fmt.Println(err)
		return
	}
	at := time.Date(2026, 3, 9, 14, 0, 0, 0, time.UTC)
	got, err := m.Readings([]byte(`{"cask_temp": 12.1, "cask_tmp": 12.2}`), at)
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(m, "keeps", len(got.Readings), "and refuses", got.Refused[0].Pointer)
	// Output: cask-lid 0.1.0 keeps 1 and refuses /cask_tmp
}
