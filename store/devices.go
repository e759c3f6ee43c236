package store

import (
	"cmp"
	"context"

	"ullage/core/geo"
	"ullage/core/layering"
	"ullage/fleet/devices"
)

type deviceRow struct {
	ID         string `gorm:"primaryKey"`
	Model      string
	Version    string
	Labels     map[string]string `gorm:"serializer:json"`
	Status     string
	JoinedAt   int64
	Attributes layering.Settings `gorm:"serializer:json"`
	// Since version 3, NULL in older rows. A default in the tag would have GORM read
	// every row back that it writes.
	Name string
	Hub  string
	// Since version 12, NULL in older rows and where nobody has said it.
	Latitude, Longitude *float64
}

func (deviceRow) TableName() string { return "devices" }

var deviceKind = &kind[devices.Device, string, deviceRow]{
	key: func(x devices.Device) string { return x.ID },
	row: sure(func(x devices.Device) deviceRow {
		row := deviceRow{ID: x.ID, Name: x.Name, Hub: x.Hub, Model: x.Model, Version: x.Version, Labels: x.Labels,
			Status: string(x.Status), JoinedAt: ms(x.JoinedAt), Attributes: x.Attributes}
		if p := x.Position; p != nil {
			row.Latitude, row.Longitude = &p.Latitude, &p.Longitude
		}
		return row
	}),
	record: sure(func(x deviceRow) devices.Device {
		d := devices.Device{ID: x.ID, Name: x.Name, Hub: x.Hub, Model: x.Model, Version: x.Version, Labels: x.Labels,
			Status: devices.Status(x.Status), JoinedAt: at(x.JoinedAt), Attributes: x.Attributes}
		if x.Latitude != nil && x.Longitude != nil {
			d.Position = &geo.Position{Latitude: *x.Latitude, Longitude: *x.Longitude}
		}
		return d
	}),
}

// Devices implements devices.Records.
func (r *Records) Devices(ctx context.Context) ([]devices.Device, error) {
	return stored(ctx, r, deviceKind)
}

type credentialRow struct {
	ID        string `gorm:"primaryKey"`
	Device    string `gorm:"index"`
	Hash      []byte
	CreatedAt int64 `gorm:"autoCreateTime:false"`
	RevokedAt int64
	// Since version 6, NULL in older rows, which are of tokens.
	Kind      string
	Serial    string
	ExpiresAt int64
	// Since version 7.
	WarnedAt int64
	// Since version 14, NULL in older rows.
	Replaces string
	// Since version 15, NULL in older rows.
	Issuer string
}

func (credentialRow) TableName() string { return "credentials" }

var credentialKind = &kind[devices.Credential, string, credentialRow]{
	key: func(x devices.Credential) string { return x.ID },
	row: sure(func(x devices.Credential) credentialRow {
		return credentialRow{ID: x.ID, Device: x.Device, Hash: x.Hash[:], CreatedAt: ms(x.CreatedAt),
			RevokedAt: ms(x.RevokedAt), Kind: string(x.Kind), Serial: x.Serial, ExpiresAt: ms(x.ExpiresAt), WarnedAt: ms(x.WarnedAt),
			Replaces: x.Replaces, Issuer: x.Issuer}
	}),
	record: sure(func(x credentialRow) devices.Credential {
		c := devices.Credential{ID: x.ID, Device: x.Device, CreatedAt: at(x.CreatedAt), RevokedAt: at(x.RevokedAt),
			Kind: cmp.Or(devices.Kind(x.Kind), devices.Token), Serial: x.Serial, ExpiresAt: at(x.ExpiresAt), WarnedAt: at(x.WarnedAt),
			Replaces: x.Replaces, Issuer: x.Issuer}
		copy(c.Hash[:], x.Hash)
		return c
	}),
}

// credentialUseRow stands apart from the credential: it changes often, and nothing hangs
// on it.
type credentialUseRow struct {
	Credential string `gorm:"primaryKey"`
	At         int64  `gorm:"autoCreateTime:false"`
	Address    string
	Over       string
	Other      string
	OtherAt    int64
	SharedAt   int64
}

func (credentialUseRow) TableName() string { return "credential_uses" }

var credentialUseKind = &kind[devices.Use, string, credentialUseRow]{
	key: func(x devices.Use) string { return x.Credential },
	row: sure(func(x devices.Use) credentialUseRow {
		return credentialUseRow{x.Credential, ms(x.At), x.From, x.Over, x.Other, ms(x.OtherAt), ms(x.SharedAt)}
	}),
	record: sure(func(x credentialUseRow) devices.Use {
		return devices.Use{Credential: x.Credential, At: at(x.At), From: x.Address, Over: x.Over, Other: x.Other, OtherAt: at(x.OtherAt), SharedAt: at(x.SharedAt)}
	}),
}

// CredentialUses implements devices.Records.
func (r *Records) CredentialUses(ctx context.Context) ([]devices.Use, error) {
	return stored(ctx, r, credentialUseKind)
}

// Credentials implements devices.Records.
func (r *Records) Credentials(ctx context.Context) ([]devices.Credential, error) {
	return stored(ctx, r, credentialKind)
}
