package cli

import (
	"strings"
	"testing"
	"time"

	"ullage/client"
)

// Fields that are given as FIELD=VALUE become those of the thing; what does not fit is named.
func TestChangeByPairs(t *testing.T) {
	var m client.Maintenance
	if err := maintenanceThings.change(&m, "tank_cleaning", []string{"devices=true", "to=2h", "from=2026-03-10 06:00", "why=rinsing"}); err != nil {
		t.Fatal(err)
	}
	if in := time.Until(m.To); m.Name != "tank_cleaning" || m.Devices != "true" || in < 119*time.Minute || in > 120*time.Minute || m.From.Format("2006-01-02 15:04") != "2026-03-10 06:00" {
		t.Errorf("it is %+v", m)
	}
	if err := maintenanceThings.change(&m, "tank_cleaning", []string{"to=", "during=Mon 06:00-07:00"}); err != nil || !m.To.IsZero() || m.Why != "rinsing" {
		t.Errorf("an empty value leaves %+v, %v", m, err)
	}
	if err := maintenanceThings.change(&m, "tank_cleaning", []string{"to=06:00"}); err != nil || m.To.Format("15:04") != "06:00" || time.Until(m.To) > 24*time.Hour || time.Until(m.To) <= 0 {
		t.Errorf("a time of day is %s, %v", m.To, err)
	}
	var s client.Site
	for pair, says := range map[string]string{"to=soon": "to: ", "count=3": "the fields of a maintenance are", "why": "no FIELD=VALUE"} {
		if err := maintenanceThings.change(&m, "tank_cleaning", []string{pair}); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s gives %v, want %q", pair, err, says)
		}
	}
	for pair, says := range map[string]string{"latitude=north": `latitude cannot be "north"`, "latitude=true": "latitude cannot be"} {
		if err := siteThings.change(&s, "Kilnside", []string{pair}); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s gives %v, want %q", pair, err, says)
		}
	}
}
