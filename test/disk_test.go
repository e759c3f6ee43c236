package test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"ullage/client"
	"ullage/test/service"
)

// TestFullDiskRecovers fills a real (small) disk under a service: devices are
// told to keep their copies, nothing acknowledged is lost, and it goes on by
// itself when there is room again.
func TestFullDiskRecovers(t *testing.T) {
	disk := t.TempDir()
	if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=24m", "tmpfs", disk).CombinedOutput(); err != nil {
		t.Skipf("a small disk cannot be mounted here (%s); the store's own tests fill a bounded file instead",
			strings.TrimSpace(string(out)))
	}
	t.Cleanup(func() { exec.Command("umount", disk).Run() })
	s, err := service.Start(filepath.Join(disk, "data"), "--device-rate", "0")
	ok(t, err)
	defer s.Stop()
	cellars(t, s)
	o := onboard(t, s, "bung-saltmarsh-112", "cask-bung")
	base := time.Now().UTC().Add(-30 * 24 * time.Hour).Truncate(time.Second)
	n := 0
	// send posts 250 readings of four metrics and returns the status and the answer.
	send := func() (status, answer string) {
		var parts []string
		for i := range 250 {
			parts = append(parts, fmt.Sprintf(`{"at":%q,"battery":2.6,"ullage":20,"pressure":101.5,"cask_temp":12}`,
				base.Add(time.Duration(n*250+i)*time.Second).Format(time.RFC3339)))
		}
		file := filepath.Join(t.TempDir(), "body.json")
		ok(t, os.WriteFile(file, []byte("["+strings.Join(parts, ",")+"]"), 0o600))
		out, err := shell(t, fmt.Sprintf(`curl -sS -w '\n%%{http_code}' -H 'Authorization: Bearer %s' -H 'Content-Type: application/json' --data @%s http://%s/device/v1/readings`, o.Token, file, s.HTTP))
		ok(t, err)
		i := strings.LastIndex(out, "\n")
		return out[i+1:], out[:i]
	}
	status, answer := send()
	if status != "200" {
		t.Fatalf("with room: %s %s", status, answer)
	}
	n++
	ballast := filepath.Join(disk, "ballast")
	exec.Command("dd", "if=/dev/zero", "of="+ballast, "bs=64k").Run() // until the disk is full
	for ; n < 200; n++ {
		if status, answer = send(); status != "200" {
			break
		}
	}
	if status != "507" || !strings.Contains(answer, "the disk is full") ||
		!strings.Contains(answer, "send them again by themselves") {
		t.Fatalf("on a full disk: %s %s", status, answer)
	}
	acknowledged := n * 250
	ok(t, os.Remove(ballast))
	if status, answer = send(); status != "200" {
		t.Errorf("with room again: %s %s", status, answer)
	}
	rs, err := s.Client.Readings(t.Context(), "bung-saltmarsh-112", "battery", client.Span{From: base, To: time.Now()},
		50000)
	if err != nil || len(rs.Readings) != acknowledged+250 {
		t.Errorf("%d readings are there, %v; %d were acknowledged", len(rs.Readings), err, acknowledged+250)
	}
}
