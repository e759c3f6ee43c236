package cli

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"ullage/client"
	"ullage/core/maintenance"
)

var maintenanceThings = things[client.Maintenance]{
	group: groupAlarm, word: "maintenance", words: "maintenances", short: "When devices are out of service, and their alarms call nobody",
	of: (*client.Client).Maintenances, name: func(m client.Maintenance) string { return m.Name },
	columns: []column[client.Maintenance]{
		{"maintenance", func(m client.Maintenance) string { return m.Name }},
		{"now", func(m client.Maintenance) string { return yesNo(m.Active) }},
		{"devices", func(m client.Maintenance) string { return fmt.Sprint(m.Count) }},
		{"from", func(m client.Maintenance) string { return localTime(m.From) }},
		{"to", func(m client.Maintenance) string { return localTime(m.To) }},
		{"during", func(m client.Maintenance) string { return m.During }},
		{"which", func(m client.Maintenance) string { return m.Devices }},
		{"why", func(m client.Maintenance) string { return m.Why }},
		{"by", func(m client.Maintenance) string { return m.By }},
	},
	none: `There is no maintenance. Plan one with: ullage maintenance save NAME devices='label.site == "Kilnside"' to=2h`,
	read: maintenance.Parse,
	yaml: func(m client.Maintenance) []byte { return m.YAML() },

	removed: "what it kept aside calls again", example: "tank_cleaning", folder: "maintenance", set: `devices='label.site == "Kilnside"' during='Mon 06:00-07:00'` + "\n  ullage maintenance save tank_cleaning devices='label.site == \"Kilnside\"' from=22:00 to=06:00",
}

func localTime(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.Local().Format("2006-01-02 15:04")
}

func maintenanceCommand() *cobra.Command { return maintenanceThings.command() }
