package alarms_test

import (
	"ullage/core/rule"
	"ullage/fleet/ingest"
)

type outcome = ingest.Outcome

func message(device, body string) ingest.Message {
	return ingest.Message{Device: device, Kind: ingest.Readings, Body: []byte(body)}
}

func applied(device, body string) ingest.Message {
	return ingest.Message{Device: device, Kind: ingest.Applied, Body: []byte(body)}
}

func must(r *rule.Rule, err error) rule.Rule {
	if err != nil {
		panic(err)
	}
	return *r
}
