package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"ullage/client"
	"ullage/test/attack"
)

const (
	strangers    = 2000
	guesses      = 400
	attackRounds = 5
)

// attackFigures measures what strangers cost an innocent device: the 99th
// percentile of its acknowledgements beside an attack, over that of an
// undisturbed while just before it. The two take turns, and the median of the
// rounds counts, since machines have moods. The attackers are a process of their
// own that gives way to others, since real ones have a machine of their own.
func attackFigures(dir string) ([]figure, error) {
	s, err := serve(filepath.Join(dir, "attacks"))
	if err != nil {
		return nil, err
	}
	defer s.Stop()
	ctx := context.Background()
	o, err := s.Client.CreateDevice(ctx, client.NewDevice{ID: "tank-fennimore-07", Model: "tank-probe"})
	if err != nil {
		return nil, err
	}
	innocent, err := attack.Report(s.MQTT, "tank-fennimore-07", o.Token, 2*time.Millisecond)
	if err != nil {
		return nil, err
	}
	var out []figure
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	for _, a := range []struct{ what, run string }{
		{fmt.Sprintf("%d half-open strangers", strangers), "half-open " + s.MQTT},
		{fmt.Sprintf("%d wrong passwords at once", guesses), "passwords " + s.Console + " " + s.Familiar},
	} {
		fmt.Printf("%s beside an innocent device …\n", a.what)
		var ratios []float64
		var calm, loud time.Duration
		for range attackRounds {
			innocent.Lap()
			time.Sleep(4 * time.Second)
			calm, _ = innocent.Lap()
			if said, err := exec.CommandContext(ctx, self, "-attack", a.run).CombinedOutput(); err != nil {
				return nil, fmt.Errorf("%s: %w: %s", a.what, err, said)
			}
			if loud, _ = innocent.Lap(); calm > 0 && loud > 0 {
				ratios = append(ratios, float64(loud)/float64(calm))
			}
		}
		if len(ratios) == 0 {
			return nil, fmt.Errorf("%s: nothing was acknowledged meanwhile", a.what)
		}
		slices.Sort(ratios)
		out = append(out, figure{"an innocent device's acknowledgement p99 beside " + a.what,
			loud.Round(10 * time.Microsecond).String(), "1.5 × undisturbed", fmt.Sprintf("%.2f × (%.2f to %.2f)", ratios[len(ratios)/2],
				ratios[0], ratios[len(ratios)-1])})
	}
	if _, err := innocent.Stop(); err != nil {
		return nil, err
	}
	return out, nil
}

// attackers is the process that attackFigures starts, of a kind and at an address.
func attackers(strike string) error {
	if err := syscall.Setpriority(syscall.PRIO_PROCESS, 0, 19); err != nil {
		return err
	}
	ctx := context.Background()
	switch kind, at, _ := strings.Cut(strike, " "); kind {
	case "half-open":
		attack.HalfOpen(ctx, at, strangers, 3*time.Second)
	case "passwords":
		console, familiar, _ := strings.Cut(at, " ")
		if bad := attack.WrongPasswords(ctx, console, familiar, guesses); len(bad) > 0 {
			return errors.New(bad[0])
		}
	default:
		return fmt.Errorf("there is no attack %q", kind)
	}
	return nil
}
