package api

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"ullage/client"
	"ullage/fleet/bulk"
	"ullage/fleet/devices"
)

// bulkRoutes change many devices at once.
func (s *server) bulkRoutes() {
	type many struct{ Body client.ManyDevices }
	huma.Post(s.api, "/api/v1/device-changes", func(ctx context.Context, in *many) (*body[client.DeviceJob], error) {
		ch := bulk.Change{Labels: in.Body.Labels, Status: devices.Status(in.Body.Status)}
		ids, err := s.Fleet.PlanChange(caller(ctx), in.Body.Devices, in.Body.Where, ch)
		if err != nil {
			return nil, s.failed(err)
		}
		if in.Body.Preview {
			return &body[client.DeviceJob]{deviceJobOf(&bulk.Job{Change: ch, Devices: ids})}, nil
		}
		j, err := s.Fleet.BeginChange(ctx, caller(ctx), ids, ch, in.Body.AtOnce)
		if err != nil {
			return nil, s.failed(err)
		}
		return &body[client.DeviceJob]{deviceJobOf(j)}, nil
	}, describe("change-devices", "Change labels or the status of many devices", "Devices"), func(o *huma.Operation) { o.MaxBodyBytes = 8 << 20 })
	huma.Get(s.api, "/api/v1/device-changes", func(ctx context.Context, _ *struct{}) (*body[[]client.DeviceJob], error) {
		out := []client.DeviceJob{}
		for _, j := range s.Fleet.Changes(caller(ctx)) {
			out = append(out, deviceJobOf(j))
		}
		return &body[[]client.DeviceJob]{out}, nil
	}, describe("device-changes", "The latest changes of many devices, the newest first", "Devices"))
	huma.Get(s.api, "/api/v1/device-changes/{id}", func(ctx context.Context, in *One) (*body[client.DeviceJob], error) {
		j, err := s.Fleet.ChangeOf(caller(ctx), in.ID)
		if err != nil {
			return nil, s.failed(err)
		}
		return &body[client.DeviceJob]{deviceJobOf(j)}, nil
	}, describe("devices-changing", "How far a change of many devices is", "Devices"), notFound)
	huma.Post(s.api, "/api/v1/device-changes/{id}/undo", func(ctx context.Context, in *One) (*body[client.DeviceJob], error) {
		j, err := s.Fleet.UndoChange(ctx, caller(ctx), in.ID)
		if err != nil {
			return nil, s.failed(err)
		}
		return &body[client.DeviceJob]{deviceJobOf(j)}, nil
	}, describe("undo-devices", "Take a change of many devices back", "Devices"), notFound)
}

func deviceJobOf(j *bulk.Job) client.DeviceJob {
	out := client.DeviceJob{ID: j.ID, Says: j.Change.Sentence(), By: j.By, At: optional(j.At), Devices: len(j.Devices), Some: j.Devices, Done: j.Done,
		Failed: j.Failed, EndedAt: optional(j.EndedAt), Undoes: j.Undoes, UndoneBy: j.UndoneBy}
	if out.Some = append([]string{}, out.Some[:min(len(out.Some), maxShown)]...); j.Undoes != "" {
		out.Says = "undone: " + out.Says
	}
	return out
}
