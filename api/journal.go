package api

import (
	"context"
	"errors"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"ullage/client"
	"ullage/core/value"
	"ullage/fleet/asof"
	"ullage/fleet/fact"
	"ullage/fleet/fault"
)

func entriesOf(fs []fact.Fact) []client.JournalEntry {
	out := make([]client.JournalEntry, len(fs))
	for i, f := range fs {
		out[i] = client.JournalEntry{Number: f.Number, At: f.At, Kind: string(f.Kind), Device: f.Device, Group: f.Group,
			Alarm: f.Alarm, Rule: f.Rule, Person: f.Person, From: f.From, Text: f.Sentence(), Content: f.Content}
	}
	return out
}

// maxFollow is how long a reader of the journal may wait for the next entry.
const maxFollow = time.Minute

func (s *server) journalRoutes() {
	type filter struct {
		Where
		Paging
		Device string    `query:"device" doc:"Only of this device"`
		Kind   string    `query:"kind" maxLength:"80" doc:"Only of this kind, as in alarm raised; they are listed at /journal/kinds"`
		Alarm  string    `query:"alarm" doc:"Only about this alarm, by its id"`
		Rule   string    `query:"rule" doc:"Only about this rule"`
		Person string    `query:"person" doc:"Only what this person did, or this key, as in key press-hall-screen"`
		Noun   string    `query:"noun" maxLength:"40" doc:"Only about this kind of thing" example:"rule"`
		From   time.Time `query:"from" doc:"Only from this time on"`
		To     time.Time `query:"to" doc:"Only before this time"`
		Before int64     `query:"before" minimum:"0" doc:"Only entries with a lesser number"`
	}
	huma.Get(s.api, "/api/v1/journal", func(ctx context.Context, f *filter) (*logged[client.JournalEntry], error) {
		if f.Kind != "" && !fact.Known(fact.Kind(f.Kind)) {
			return nil, s.failed(fault.New(fault.Invalid, "there is no kind %q", value.Clip(f.Kind, 60)).
				Then("there are %s", strings.Join(s.kinds(), ", ")))
		}
		fs, err := s.Fleet.Facts(ctx, caller(ctx), f.Where.Where, fact.Filter{Device: f.Device, Kind: fact.Kind(f.Kind),
			Alarm: f.Alarm, Rule: f.Rule, Noun: f.Noun, Since: f.From, Until: f.To, Person: f.Person, Before: f.Before, Limit: f.ask()})
		if err != nil {
			return nil, s.failed(err)
		}
		return newest(entriesOf(fs), f.Paging, func(e client.JournalEntry) string {
			return strconv.FormatInt(e.Number, 10)
		}), nil
	}, describe("journal", "What happened, the newest first", "Journal"))
	huma.Get(s.api, "/api/v1/journal/kinds", func(context.Context, *struct{}) (*body[[]string], error) {
		return &body[[]string]{s.kinds()}, nil
	}, describe("journal-kinds", "The kinds of entries that there can be", "Journal"))
	type after struct {
		After int64  `query:"after" minimum:"0" doc:"The number that the reader has got to; 0 to begin"`
		Limit int    `query:"limit" default:"500" minimum:"1" maximum:"5000" doc:"At most this many"`
		Wait  string `query:"wait" doc:"How long to wait for the next one, like 30s; not at all where not given"`
	}
	huma.Get(s.api, "/api/v1/journal/after", func(ctx context.Context, f *after) (*body[[]client.JournalEntry], error) {
		wait := time.Duration(0)
		if f.Wait != "" {
			d, err := value.ParseDuration(f.Wait)
			if err != nil {
				return nil, s.failed(fault.New(fault.Invalid, "wait: %s", err))
			}
			wait = min(d.Std(), maxFollow)
		}
		until := time.NewTimer(wait)
		defer until.Stop()
		for {
			news := s.Fleet.Happening()
			fs, err := s.Fleet.FactsAfter(ctx, caller(ctx), f.After, f.Limit)
			var gone *fact.Gone
			if errors.As(err, &gone) {
				return nil, s.failed(fault.New(fault.Gone, "entries up to number %d are not kept any more", gone.First).
					Then("begin anew from what is so now, and go on behind number %d", gone.First))
			}
			if err != nil {
				return nil, s.failed(err)
			}
			if len(fs) > 0 || wait == 0 {
				return &body[[]client.JournalEntry]{entriesOf(fs)}, nil
			}
			select {
			case <-news:
			case <-until.C:
				wait = 0
			case <-ctx.Done():
				return &body[[]client.JournalEntry]{[]client.JournalEntry{}}, nil
			}
		}
	}, describe("journal-after", "What happened behind a number, in order: for programs that must not miss anything",
		"Journal"))
	type then struct {
		At     time.Time `query:"at" required:"true" doc:"The moment" example:"2026-03-01T10:00:00Z"`
		Device string    `query:"device" doc:"Of this device or group, with its readings; of all where not given"`
		Metric []string  `query:"metric" maxItems:"20" doc:"Of all devices: the newest readings of these metrics, too"`
	}
	huma.Get(s.api, "/api/v1/as-of", func(ctx context.Context, in *then) (*body[client.AsOf], error) {
		out := client.AsOf{At: in.At.UTC(), Devices: []client.DeviceThen{}}
		var ds []asof.Device
		var err error
		if in.Device != "" {
			ds = make([]asof.Device, 1)
			ds[0], err = s.Fleet.AsOf(ctx, caller(ctx), in.Device, in.At)
		} else {
			ds, err = s.Fleet.AllAsOf(ctx, caller(ctx), in.At, in.Metric)
		}
		if err != nil {
			return nil, s.failed(err)
		}
		own := s.ownUnits(ctx)
		for i := range ds {
			out.Devices = append(out.Devices, own.then(thenOf(&ds[i])))
		}
		return &body[client.AsOf]{out}, nil
	}, describe("as-of", "What was so at a past moment", "Journal"), notFound)
}

// kinds lists the kinds of entries, by name.
func (s *server) kinds() []string {
	all := map[string]bool{string(fact.ChangedKind("device")): true}
	for _, k := range fact.Kinds {
		all[string(k)] = true
	}
	for _, word := range s.kept {
		all[string(fact.ChangedKind(word))] = true
	}
	return slices.Sorted(maps.Keys(all))
}

func thenOf(d *asof.Device) client.DeviceThen {
	out := client.DeviceThen{ID: d.ID, Status: d.Status.Value, Model: d.Model, Version: d.Version.Value, Firmware: d.Firmware.Value,
		Later: d.Later, Link: d.Link.Value, LinkedAt: optional(d.Link.Since), Labels: map[string]string{}, Settings: map[string]client.SettingThen{}, Alarms: []client.AlarmThen{}}
	for k, v := range d.Labels {
		out.Labels[k] = v.Value
	}
	for k, v := range d.Settings {
		out.Settings[k] = client.SettingThen{Value: v.Value.Shown(), Since: v.Since}
	}
	for _, a := range d.Alarms {
		out.Alarms = append(out.Alarms, client.AlarmThen{ID: a.ID, Rule: a.Rule, State: a.State, Since: a.Since})
	}
	if d.Latest != nil {
		out.Latest = map[string]client.Latest{}
		for k, r := range d.Latest {
			out.Latest[k] = client.Latest{At: r.At, Value: r.Value.Any(), Quality: r.Quality.Words()}
		}
	}
	return out
}
