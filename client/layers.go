package client

import (
	"context"
	"net/http"
	"net/url"
	"time"

	"ullage/core/layering"
)

// Layer is a named set of settings with a target.
type Layer = layering.Layer

// Layers are the layers of settings. List gives them in their order, the lowest first.
func (c *Client) Layers() Things[Layer] {
	return Things[Layer]{c, "layers", func(l Layer) string { return l.Name }}
}

// LayerSummary is what a page of layers shows of one.
type LayerSummary struct {
	Layer
	Place      int            `json:"place" doc:"Where it stands, from 1 for the lowest"`
	Devices    int            `json:"devices" doc:"That its target chooses now"`
	Spread     map[string]int `json:"spread" doc:"How many have each value of label.site; those without one under an empty name"`
	AsIntended int            `json:"as_intended"`
	Pending    int            `json:"pending"`
	Refused    int            `json:"refused"`
	Drifted    int            `json:"drifted"`
	Offline    int            `json:"off_line"`
	Waiting    int            `json:"waiting" doc:"Has the version of before: it waits for its wave of a rollout, or was left out"`
}

// LayerVersion is a layer as it was from a time on.
type LayerVersion struct {
	ID      string    `json:"id"`
	At      time.Time `json:"at"`
	By      string    `json:"by,omitempty"`
	Verb    string    `json:"verb" enum:"added,changed,removed"`
	Layer   Layer     `json:"content"`
	Changed []string  `json:"changed" doc:"What differs from the version before, each as \"max_temp: 31 → 28\""`
}

// LayerOverTime is how devices came to have what is intended for them now.
type LayerOverTime struct {
	Scope  int           `json:"scope" doc:"Devices that are in scope now and are sent something"`
	Points []LayerMoment `json:"points"`
}

// LayerMoment is how many of them had it at a time.
type LayerMoment struct {
	At         time.Time `json:"at"`
	AsIntended int       `json:"as_intended"`
}

// ForbiddenValue is a value that the newest version of a model does not allow any more.
type ForbiddenValue struct {
	Model   string   `json:"model"`
	Version string   `json:"version" doc:"The newest"`
	Setting string   `json:"setting"`
	Value   string   `json:"value"`
	Source  string   `json:"source" enum:"layer,response,override" doc:"What gives it"`
	Name    string   `json:"name,omitempty" doc:"Of a layer its name, of a response its rule"`
	Why     string   `json:"why" doc:"What the newest version has to say"`
	Devices []string `json:"devices" doc:"Of an older version, that have it"`
}

// LayerChange is a change of layers, or of devices, of which it is to be known first what
// it does.
type LayerChange struct {
	Layer  *Layer   `json:"put,omitempty" doc:"A layer that is made, on top, or changed"`
	Remove string   `json:"remove,omitempty" maxLength:"63" doc:"A layer that is removed"`
	Order  []string `json:"order,omitempty" maxItems:"1000" doc:"The order of all layers, the lowest first"`
	// What follows is previewed only.
	Devices []string          `json:"devices,omitempty" maxItems:"100000" doc:"Devices that get the labels or the version; in previews"`
	Labels  map[string]string `json:"labels,omitempty" doc:"Labels that they get; an empty text takes one away"`
	Version string            `json:"version,omitempty" maxLength:"64" doc:"Version of their model that they get"`
	Tag     string            `json:"preview,omitempty" maxLength:"64" doc:"The tag of a preview: it is refused if it would do something else by now"`
	AtOnce  bool              `json:"at_once,omitempty" doc:"All devices get it at once, also where they are so many that it should go out in waves"`
}

// LayerPreview is what a change would do.
type LayerPreview struct {
	Tag         string              `json:"preview" doc:"Names this list, for the change itself"`
	Waves       bool                `json:"waves,omitempty" doc:"So many devices change that it should go out in waves"`
	WavesAbove  int                 `json:"waves_above,omitempty" doc:"From how many devices on that is so; absent for never"`
	Scope       int                 `json:"scope" doc:"Devices that the target of the layer chooses"`
	Devices     int                 `json:"devices" doc:"Devices of which settings would change"`
	Settings    int                 `json:"settings" doc:"How many settings of them would change"`
	Offline     int                 `json:"off_line" doc:"Of those devices, how many are off line and get it when they return"`
	RefusedEver int                 `json:"refused_before" doc:"Of those devices, how many have refused one of these settings in what they said last"`
	Differences []SettingDifference `json:"differences" doc:"The first 1,000, by device"`
	Lacking     map[string][]string `json:"lacking,omitempty" doc:"Settings that some models among the target do not have"`
	Warnings    []string            `json:"warnings,omitempty"`
}

// SettingDifference is one setting of one device that would have another value.
type SettingDifference struct {
	Device  string `json:"device"`
	Setting string `json:"setting"`
	From    any    `json:"from,omitempty" doc:"Left out where there is no value"`
	To      any    `json:"to,omitempty"`
	Source  string `json:"source,omitempty" enum:"model,layer,response,override"`
	Name    string `json:"name,omitempty" doc:"The layer, or the rule, that would give it"`
	Offline bool   `json:"off_line,omitempty"`
	Refused string `json:"refused,omitempty" doc:"Why the device has refused this setting in what it said last"`
}

// SettingStep is one thing that could give a setting of a device.
type SettingStep struct {
	Source  string `json:"source" enum:"model,layer,response,override"`
	Name    string `json:"name,omitempty" doc:"The version of the model, the layer, or the rule"`
	Target  string `json:"target,omitempty"`
	Access  string `json:"access,omitempty" doc:"Of a layer whose author has some devices: what they reach, which is and-ed to the target"`
	Matches string `json:"matches" enum:"true,false,unknown" doc:"Whether the device is among the target"`
	Gives   any    `json:"gives,omitempty"`
	Removes bool   `json:"removes,omitempty" doc:"It takes off what is below it"`
	Wins    bool   `json:"wins"`
	Wrong   string `json:"wrong,omitempty" doc:"Why the version of the device's model does not allow what the layer gives, so that the device does not get it"`
}

// SettingExplained says why a setting of a device has its value.
type SettingExplained struct {
	Device  string        `json:"device"`
	Setting string        `json:"setting"`
	Display string        `json:"display,omitempty" doc:"Its unit"`
	Steps   []SettingStep `json:"steps" doc:"The weakest first"`
}

// LayerStatus is how far devices are with what they were given.
type LayerStatus struct {
	Layer      string              `json:"of,omitempty" doc:"The layer; left out for the whole fleet"`
	Scope      int                 `json:"scope"`
	AsIntended int                 `json:"as_intended"`
	Pending    int                 `json:"pending"`
	Refused    int                 `json:"refused"`
	Drifted    int                 `json:"drifted"`
	Offline    int                 `json:"off_line"`
	Live       int                 `json:"live"`
	Waiting    int                 `json:"waiting" doc:"Has the version of before: it waits for its wave of a rollout, or was left out"`
	Reasons    []RefusalReason     `json:"reasons" doc:"Why devices refuse, the most frequent first"`
	Values     []LayerValue        `json:"values" doc:"On how many devices each value of the layer wins"`
	Devices    map[string][]string `json:"devices" doc:"Ids by state: applied, pending, refused, drift, waiting, offline; the first 1,000 of each"`
}

// RefusalReason is why some devices refuse a setting.
type RefusalReason struct {
	Setting string   `json:"setting"`
	Reason  string   `json:"reason"`
	Devices []string `json:"devices"`
}

// LayerValue is on how many devices a value of a layer wins, and to what it loses on others.
type LayerValue struct {
	Setting string         `json:"setting"`
	Value   any            `json:"value,omitempty" doc:"Left out where the layer takes it off"`
	Wins    int            `json:"wins"`
	Loses   map[string]int `json:"loses" doc:"By what wins instead, such as \"layer hardware-b\" or override"`
}

// LayerSummaries lists the layers with how far their devices are.
func (c *Client) LayerSummaries(ctx context.Context) ([]LayerSummary, error) {
	return get[[]LayerSummary](ctx, c, "/layer-summaries")
}

// LayerVersions returns the versions of a layer, the newest first.
func (c *Client) LayerVersions(ctx context.Context, name string) ([]LayerVersion, error) {
	return get[[]LayerVersion](ctx, c, "/layers/"+url.PathEscape(name)+"/versions")
}

// PreviewLayers tells what a change would do.
func (c *Client) PreviewLayers(ctx context.Context, ch LayerChange) (LayerPreview, error) {
	return send[LayerPreview](ctx, c, http.MethodPost, "/layer-previews", ch)
}

// ChangeLayers makes a change of layers so.
func (c *Client) ChangeLayers(ctx context.Context, ch LayerChange) ([]Layer, error) {
	return send[[]Layer](ctx, c, http.MethodPost, "/layer-changes", ch)
}

// LayerStatus counts how far the devices of a layer are; all where the name is empty.
func (c *Client) LayerStatus(ctx context.Context, name string) (LayerStatus, error) {
	return get[LayerStatus](ctx, c, "/layer-status?"+url.Values{"layer": {name}}.Encode())
}

// LayerOverTime tells how devices came to have what a layer, or everything, gives them.
func (c *Client) LayerOverTime(ctx context.Context, name, span string) (LayerOverTime, error) {
	return get[LayerOverTime](ctx, c, "/layer-status/over-time?layer="+url.QueryEscape(name)+"&span="+url.QueryEscape(span))
}

// ForbiddenValues tells what devices would lose with the newest version of their model.
func (c *Client) ForbiddenValues(ctx context.Context) ([]ForbiddenValue, error) {
	return get[[]ForbiddenValue](ctx, c, "/forbidden-values")
}

// ExplainSetting says why a setting of a device has its value.
func (c *Client) ExplainSetting(ctx context.Context, id, setting string) (SettingExplained, error) {
	return get[SettingExplained](ctx, c, device(id)+"/settings/"+url.PathEscape(setting)+"/explanation")
}

// RetrySettings sends a device what is intended for it once more.
func (c *Client) RetrySettings(ctx context.Context, id string) (Settings, error) {
	return send[Settings](ctx, c, http.MethodPost, device(id)+"/settings/retry", nil)
}
