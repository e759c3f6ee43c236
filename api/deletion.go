package api

import (
	"context"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"ullage/client"
	"ullage/fleet/deletion"
)

func (s *server) deletionRoutes() {
	type unwanted struct {
		One
		Metric []string  `query:"metric,explode" maxItems:"200" doc:"Metric to delete readings of; may be given several times; all metrics if left out"`
		From   time.Time `query:"from" doc:"Start; the beginning if left out"`
		To     time.Time `query:"to" doc:"End, not included; none if left out"`
		All    bool      `query:"all" doc:"All readings of the device, and its messages in the traffic log; with nothing else"`
		DryRun bool      `query:"dry_run" doc:"Only count them"`
	}
	huma.Delete(s.api, "/api/v1/devices/{id}/readings", func(ctx context.Context, in *unwanted) (*body[client.Deletion], error) {
		span := deletion.Span{Device: in.ID, Metrics: in.Metric, From: in.From, To: in.To, All: in.All}
		var d deletion.Deletion
		var err error
		if in.DryRun {
			d, err = s.Fleet.Unwanted(ctx, caller(ctx), span)
		} else {
			// Once begun it goes on to its end, also where nobody waits for it any more.
			d, err = s.Fleet.Delete(context.WithoutCancel(ctx), caller(ctx), span)
			s.Settle()
		}
		if err != nil {
			return nil, s.failed(err)
		}
		out := client.Deletion{Device: in.ID, DryRun: in.DryRun, From: optional(in.From), To: optional(in.To),
			Metrics: []client.DeletedMetric{}, Readings: d.Readings, Traffic: d.Traffic}
		for _, x := range d.Series {
			out.Metrics = append(out.Metrics, client.DeletedMetric{Metric: x.Metric, Readings: x.Readings,
				First: optional(x.First), Last: optional(x.Last), Damaged: x.Damaged})
		}
		return &body[client.Deletion]{out}, nil
	}, describe("delete-readings", "Delete readings of a device: of metrics, of a span, or all of them", "Readings"), notFound)
}
