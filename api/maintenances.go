package api

import (
	"context"

	"ullage/core/maintenance"
	"ullage/core/record"
	"ullage/fleet/noun"
)

func (s *server) maintenanceRoutes() {
	serve(s, served[maintenance.Maintenance]{word: "maintenance", words: "maintenances", tag: "Maintenance", name: func(x maintenance.Maintenance) string {
		return x.Name
	},
		list: func(ctx context.Context) ([]maintenance.Maintenance, error) {
			return s.Fleet.Maintenances(caller(ctx)), nil
		},
		get: func(ctx context.Context, name string) (maintenance.Maintenance, error) {
			return s.Fleet.Maintenance(caller(ctx), name)
		},
		tagOf: func(x maintenance.Maintenance) string {
			x.Active, x.Count = false, 0
			return record.Tag(x)
		},
		put: func(ctx context.Context, x maintenance.Maintenance, cond noun.If) (noun.Saved[maintenance.Maintenance], error) {
			return s.Fleet.PutMaintenance(ctx, caller(ctx), x, cond)
		},
		remove: func(ctx context.Context, name string, cond noun.If) error {
			return s.Fleet.RemoveMaintenance(ctx, caller(ctx), name, cond)
		},
	})
}
