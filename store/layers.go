package store

import (
	"context"
	"encoding/json"

	"gorm.io/gorm"

	"ullage/core/layering"
	"ullage/fleet/layers"
	"ullage/fleet/responses"
	"ullage/fleet/rollouts"
)

// responseRow is what a response of a rule keeps on devices.
type responseRow struct {
	ID    string          `gorm:"primaryKey"`
	Entry responses.Entry `gorm:"serializer:json"`
}

func (responseRow) TableName() string { return "responses" }

var responseKind = &kind[responses.Entry, string, responseRow]{
	key:    func(x responses.Entry) string { return x.ID },
	row:    sure(func(x responses.Entry) responseRow { return responseRow{ID: x.ID, Entry: x} }),
	record: sure(func(x responseRow) responses.Entry { return x.Entry }),
	drop: func(tx *gorm.DB, x responses.Entry) error {
		return tx.Where("id = ?", x.ID).Delete(&responseRow{}).Error
	},
}

// Responses implements responses.Records.
func (r *Records) Responses(ctx context.Context) ([]responses.Entry, error) {
	return stored(ctx, r, responseKind)
}

// switchRow says whether responses act; there is one.
type switchRow struct {
	ID     int64            `gorm:"primaryKey"`
	Switch responses.Switch `gorm:"serializer:json"`
}

func (switchRow) TableName() string { return "response_switch" }

var switchKind = &kind[responses.Switch, int64, switchRow]{
	key:    func(responses.Switch) int64 { return 1 },
	row:    sure(func(x responses.Switch) switchRow { return switchRow{ID: 1, Switch: x} }),
	record: sure(func(x switchRow) responses.Switch { return x.Switch }),
}

// ResponseSwitch implements responses.Records.
func (r *Records) ResponseSwitch(ctx context.Context) (responses.Switch, error) {
	all, err := stored(ctx, r, switchKind)
	if err != nil || len(all) == 0 {
		return responses.Switch{}, err
	}
	return all[0], nil
}

// layerRow is a layer of settings.
type layerRow struct {
	Name  string `gorm:"primaryKey"`
	Layer []byte
}

func (layerRow) TableName() string { return "layers" }

var layerKind = &kind[layering.Layer, string, layerRow]{
	key: func(x layering.Layer) string { return x.Name },
	row: func(x layering.Layer) (layerRow, error) {
		b, err := json.Marshal(x)
		return layerRow{Name: x.Name, Layer: b}, err
	},
	record: func(x layerRow) (l layering.Layer, err error) {
		if err = json.Unmarshal(x.Layer, &l); err == nil {
			err = l.Check()
		}
		return l, err
	},
	drop: func(tx *gorm.DB, x layering.Layer) error {
		return tx.Where("name = ?", x.Name).Delete(&layerRow{}).Error
	},
}

// Layers implements layers.Records.
func (r *Records) Layers(ctx context.Context) ([]layering.Layer, error) {
	return stored(ctx, r, layerKind)
}

// layerOrderRow is the order of the layers; there is one.
type layerOrderRow struct {
	ID    int64        `gorm:"primaryKey"`
	Order layers.Order `gorm:"serializer:json;column:layers"`
}

func (layerOrderRow) TableName() string { return "layer_order" }

var layerOrderKind = &kind[layers.Order, int64, layerOrderRow]{
	key:    func(layers.Order) int64 { return 1 },
	row:    sure(func(x layers.Order) layerOrderRow { return layerOrderRow{ID: 1, Order: x} }),
	record: sure(func(x layerOrderRow) layers.Order { return x.Order }),
}

// LayerOrder implements layers.Records.
func (r *Records) LayerOrder(ctx context.Context) (layers.Order, error) {
	all, err := stored(ctx, r, layerOrderKind)
	if err != nil || len(all) == 0 {
		return layers.Order{}, err
	}
	return all[0], nil
}

// layerVersionRow is a layer as it was from a time on.
type layerVersionRow struct {
	ID      string         `gorm:"primaryKey"`
	Name    string         `gorm:"index"`
	Version layers.Version `gorm:"serializer:json"`
}

func (layerVersionRow) TableName() string { return "layer_versions" }

var layerVersionKind = &kind[layers.Version, string, layerVersionRow]{
	key:    func(x layers.Version) string { return x.ID },
	row:    sure(func(x layers.Version) layerVersionRow { return layerVersionRow{x.ID, x.Name, x} }),
	record: sure(func(x layerVersionRow) layers.Version { return x.Version }),
	drop: func(tx *gorm.DB, x layers.Version) error {
		return tx.Where("id = ?", x.ID).Delete(&layerVersionRow{}).Error
	},
}

// maxLayerVersions is how many versions of a layer are told.
const maxLayerVersions = 300

// LayerVersions implements layers.Records.
func (r *Records) LayerVersions(ctx context.Context, name string) ([]layers.Version, error) {
	return found(r, layerVersionKind, r.db.read.WithContext(ctx).Where("name = ?", name).Order("id DESC").Limit(maxLayerVersions))
}

// rolloutRow is a rollout.
type rolloutRow struct {
	ID      string           `gorm:"primaryKey"`
	Rollout rollouts.Rollout `gorm:"serializer:json"`
}

func (rolloutRow) TableName() string { return "rollouts" }

var rolloutKind = &kind[rollouts.Rollout, string, rolloutRow]{
	key:    func(x rollouts.Rollout) string { return x.ID },
	row:    sure(func(x rollouts.Rollout) rolloutRow { return rolloutRow{ID: x.ID, Rollout: x} }),
	record: sure(func(x rolloutRow) rollouts.Rollout { return x.Rollout }),
	drop: func(tx *gorm.DB, x rollouts.Rollout) error {
		return tx.Where("id = ?", x.ID).Delete(&rolloutRow{}).Error
	},
}

// Rollouts implements rollouts.Records.
func (r *Records) Rollouts(ctx context.Context) ([]rollouts.Rollout, error) {
	return stored(ctx, r, rolloutKind)
}

// offerRow says that a device was offered the version of a rollout.
type offerRow struct {
	Rollout string `gorm:"primaryKey"`
	Device  string `gorm:"primaryKey"`
	At      int64
}

func (offerRow) TableName() string { return "rollout_offers" }

var offerKind = &kind[rollouts.Offer, [2]string, offerRow]{
	key: func(x rollouts.Offer) [2]string { return [2]string{x.Rollout, x.Device} },
	row: sure(func(x rollouts.Offer) offerRow { return offerRow{x.Rollout, x.Device, ms(x.At)} }),
	record: sure(func(x offerRow) rollouts.Offer {
		return rollouts.Offer{Rollout: x.Rollout, Device: x.Device, At: at(x.At)}
	}),
	drop: func(tx *gorm.DB, x rollouts.Offer) error {
		q := tx.Where("rollout = ?", x.Rollout)
		if x.Device != "" { // without a device all of the rollout
			q = q.Where("device = ?", x.Device)
		}
		return q.Delete(&offerRow{}).Error
	},
}

// Offers implements rollouts.Records.
func (r *Records) Offers(ctx context.Context) ([]rollouts.Offer, error) {
	return stored(ctx, r, offerKind)
}
