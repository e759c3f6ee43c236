package api

import (
	"context"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"ullage/client"
	"ullage/core/logline"
	"ullage/core/value"
	"ullage/fleet/fault"
	"ullage/fleet/logs"
)

func (s *server) logRoutes() {
	type filter struct {
		One
		Level  string    `query:"level" enum:"debug,info,warn,error" doc:"Lines of this level and graver ones"`
		Text   string    `query:"text" maxLength:"200" doc:"Only lines with this in them, in whatever case"`
		From   time.Time `query:"from" doc:"Only from this time on"`
		To     time.Time `query:"to" doc:"Only before this time"`
		Before int64     `query:"before" minimum:"0" doc:"Only lines with a lesser number"`
		After  int64     `query:"after" minimum:"0" doc:"Only lines with a greater number, the oldest first"`
		Wait   string    `query:"wait" maxLength:"20" doc:"With after: how long to wait for more, like 30s; a minute at most"`
		Limit  int       `query:"limit" default:"200" minimum:"1" maximum:"5000" doc:"At most this many"`
	}
	huma.Get(s.api, "/api/v1/devices/{id}/log", func(ctx context.Context, in *filter) (*body[client.LogLines], error) {
		level, _ := logline.LevelOf(in.Level)
		if in.Level == "" {
			level = logline.Debug
		}
		f := logs.Filter{Device: in.ID, Level: level, Text: in.Text, From: in.From, To: in.To, Before: in.Before, After: in.After, Limit: in.Limit}
		find := s.Fleet.FindLog
		if in.Wait != "" {
			wait, err := value.ParseDuration(in.Wait)
			if err != nil {
				return nil, s.failed(fault.New(fault.Invalid, "wait: %s", err))
			}
			waited, end := context.WithTimeout(ctx, min(wait.Std(), maxFollow))
			defer end()
			ctx, find = waited, s.Fleet.FollowLog
		}
		ls, err := find(ctx, caller(ctx), f)
		if err != nil {
			return nil, s.failed(err)
		}
		bound := s.Fleet.LogBound(in.ID)
		out := client.LogLines{Lines: []client.LogLine{}, Kept: bound.Lines, Keep: bound.Keep.Seconds()}
		for _, l := range ls {
			out.Lines = append(out.Lines, client.LogLine{Number: l.Number, At: l.At, Level: l.Level.String(), Text: l.Text})
		}
		return &body[client.LogLines]{out}, nil
	}, describe("device-log", "The latest lines of the log of a device", "Devices"), notFound)
}
