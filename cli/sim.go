package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"slices"
	"time"

	"github.com/schollz/progressbar/v3"
	"github.com/spf13/cobra"

	"ullage/client"
	"ullage/core/value"
	"ullage/sim"
)

func simCommand() *cobra.Command {
	var credentials, history, start, lasting, file string
	var onboard, live bool
	var count int
	var seed uint64
	c := &cobra.Command{
		Use:     "sim",
		Short:   "Play the simulated fleet of Tarn & Hollow against a service",
		GroupID: groupService,
		Args:    cobra.NoArgs,
		Long: `Plays 48 devices of six made-up cellars against any Ullage, in a process of its
own and with the devices' own credentials: telemetry after a story, settings
obeyed and some refused, one hub that drops off and returns with a backlog.

Tanks and air monitors speak MQTT 5, hubs and valves MQTT 3.1.1, presses and
bungs HTTP. In the story, valves sit behind a hub on Modbus, bungs come through
a network server's webhook, and hubs show a certificate; those protocols come
with later versions, and until then these devices speak MQTT and HTTP
themselves.

The same seed and start give the same values.

With --model it plays devices of any model before there is hardware: it
publishes the model where it is not there yet, onboards the devices, keeps their
values inside the usual range, reports as often as the model says or a setting
asks, and confirms or refuses settings as the model allows.`,
		Example: `  ullage login http://127.0.0.1:8460
  ullage sim --onboard --credentials fleet.json --history 3d
  ullage sim --model cask-lid.tm.json --count 20 --for 10min`,
		RunE: func(c *cobra.Command, _ []string) error {
			span, err := value.ParseDuration(history)
			if err != nil {
				return usageError{fmt.Errorf("--history: %w", err)}
			}
			w := sim.World{Seed: seed, Start: time.Now().Truncate(time.Second)}
			if start != "" {
				if w.Start, err = time.Parse(time.RFC3339, start); err != nil {
					return usageError{fmt.Errorf("--start is %q; write it like 2026-03-01T10:00:00Z", start)}
				}
			}
			var last value.Duration
			if lasting != "" {
				if last, err = value.ParseDuration(lasting); err != nil {
					return usageError{fmt.Errorf("--for: %w", err)}
				}
			}
			creds, err := sim.ReadCredentials(credentials)
			if err != nil {
				return err
			}
			units := sim.Fleet(count)
			var built *modelFile
			if file != "" {
				if built, err = readModelFile(file, nil); err != nil {
					return err
				}
				if !c.Flags().Changed("count") {
					count = 20
				}
				units, onboard = sim.FleetOf(built.model, count), true
			}
			if onboard {
				cl, err := connect(c)
				if err != nil {
					return err
				}
				if built != nil {
					if err := publishAndGive(c, cl, built, units); err != nil {
						return err
					}
				}
				err = onboardFleet(c.Context(), c.ErrOrStderr(), cl, units, &creds)
				// Also when it broke off: a token is told once, and its device has it.
				if err := errors.Join(err, sim.WriteCredentials(credentials, creds)); err != nil {
					return err
				}
			}
			ctx := c.Context()
			if lasting != "" {
				var cancel context.CancelFunc
				ctx, cancel = context.WithTimeout(ctx, last.Std())
				defer cancel()
			}
			bar := newProgress(c.ErrOrStderr(), "history", "readings")
			err = sim.Run(ctx, sim.Options{Units: units, World: w, Credentials: creds, History: span.Std(), Live: live,
				Log: slog.New(slog.NewTextHandler(c.ErrOrStderr(), nil)), Progress: bar.set,
				Ready: func() { bar.finish(); fmt.Fprintln(c.OutOrStdout(), liveLine) }})
			if errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded) {
				return nil
			}
			return err
		},
	}
	f := c.Flags()
	f.StringVar(&credentials, "credentials", "fleet-credentials.json", "file with the devices' tokens")
	f.BoolVar(&onboard, "onboard", false,
		"make the devices that do not exist yet, with the sign-in of this command line")
	f.StringVar(&file, "model", "", "file of a Thing Model; play devices of it instead of the story")
	amountFlag(c, &count, "count", 1, sim.Small, "how many devices; beyond 48 more tanks of the same cellars; of --model 20")
	f.Uint64Var(&seed, "seed", 1, "another seed gives another season")
	f.StringVar(&history, "history", "0s", "how much to tell of the time before the start, like 3d")
	f.StringVar(&start, "start", "", "when the live part of the story begins, in RFC 3339 (default now)")
	f.BoolVar(&live, "live", true, "go on live after the history")
	f.StringVar(&lasting, "for", "", "end by itself after a time of playing, like 10min")
	return c
}

// publishAndGive publishes a model where it is not there yet, and gives
// simulated devices that exist already its version.
func publishAndGive(c *cobra.Command, cl *client.Client, f *modelFile, units []sim.Unit) error {
	if _, err := cl.PublishModel(c.Context(), f.source, f.parts); err != nil {
		return err
	}
	known, err := cl.Devices(c.Context())
	if err != nil {
		return err
	}
	var ids []string
	for _, d := range known {
		if slices.ContainsFunc(units, func(u sim.Unit) bool {
			return u.ID == d.ID
		}) && d.ModelVersion != f.model.Version {
			ids = append(ids, d.ID)
		}
	}
	if len(ids) == 0 {
		return nil
	}
	_, err = cl.MoveDevices(c.Context(), f.model.Name, client.Move{Version: f.model.Version, Devices: ids})
	return err
}

// liveLine is what sim prints once every device is connected and history told.
const liveLine = "The fleet is live."

func onboardFleet(ctx context.Context, w io.Writer, cl *client.Client, units []sim.Unit, creds *sim.Credentials) error {
	bar := newProgress(w, "onboarding", "devices")
	done := 0
	err := sim.Onboard(ctx, cl, units, creds, func() { done++; bar.set(done, len(units)) })
	bar.finish()
	return err
}

// progress shows count, rate and time left on a terminal, and a plain line now
// and then elsewhere.
type progress struct {
	w      io.Writer
	what   string
	unit   string
	bar    *progressbar.ProgressBar
	begun  time.Time
	last   time.Time
	done   int
	bytes  int // that came, where those are counted
	isTerm bool
}

func newProgress(w io.Writer, what, unit string) *progress {
	return &progress{w: w, what: what, unit: unit, begun: time.Now(), last: time.Now(), isTerm: terminalWidth(w) > 0}
}

func (p *progress) set(done, total int) {
	p.done = done
	if p.isTerm {
		if p.bar == nil {
			p.bar = progressbar.NewOptions(total, progressbar.OptionSetWriter(p.w),
				progressbar.OptionSetDescription(p.what), progressbar.OptionShowCount(), progressbar.OptionShowIts(), progressbar.OptionSetItsString(p.unit),
				progressbar.OptionSetPredictTime(true), progressbar.OptionThrottle(100*time.Millisecond), progressbar.OptionClearOnFinish())
		}
		p.bar.Set(done)
		return
	}
	if time.Since(p.last) >= 5*time.Second {
		p.last = time.Now()
		if total < 0 {
			fmt.Fprintf(p.w, "%s: %d %s\n", p.what, done, p.unit)
			return
		}
		fmt.Fprintf(p.w, "%s: %d of %d %s\n", p.what, done, total, p.unit)
	}
}

func (p *progress) finish() {
	if p.bar != nil {
		p.bar.Finish()
	}
	if d := time.Since(p.begun); p.done > 0 {
		fmt.Fprintf(p.w, "%s: %d %s in %.1f s\n", p.what, p.done, p.unit, d.Seconds())
	}
}
