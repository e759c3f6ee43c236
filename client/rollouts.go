package client

import (
	"context"
	"net/http"
	"net/url"
	"time"

	"ullage/core/waves"
)

// WavePlan says how a change goes out.
type WavePlan = waves.Plan

// RolloutStart begins a rollout, or previews one.
type RolloutStart struct {
	Layer Layer    `json:"put" doc:"The layer as it is to be"`
	Plan  WavePlan `json:"plan"`
	Tag   string   `json:"preview,omitempty" maxLength:"64" doc:"The tag of a preview: it is refused if something else would change by now"`
}

// RolloutPlanned is who would be in which wave of a rollout, and how long it takes.
type RolloutPlanned struct {
	Preview LayerPreview `json:"preview"`
	Waves   [][]string   `json:"waves" doc:"Devices of each wave, the first 1,000"`
	Sizes   []int        `json:"sizes" doc:"How many devices each wave has"`
	Soak    float64      `json:"soak" doc:"For how long each gate must hold, in seconds: what is asked for, and at least four intervals of the slowest device"`
	Takes   float64      `json:"takes" doc:"How long it takes at least, in seconds"`
	Likely  float64      `json:"likely,omitempty" doc:"How long it takes as these devices have been off line in the last 30 days, in seconds; absent where too many have not come back in that time"`
	Offline int          `json:"off_line" doc:"Devices that are off line now and catch up when they return"`
}

// Rollout brings a version of a layer to devices in waves.
type Rollout struct {
	ID       string         `json:"id"`
	Layer    string         `json:"layer"`
	State    string         `json:"state" enum:"waiting,running,catching up,paused,stopped,done,undone" doc:"Catching up: its last gate was passed, and those that were away are offered it as they return"`
	Why      string         `json:"why,omitempty" doc:"Why it stopped, or was paused"`
	Broke    bool           `json:"broke,omitempty" doc:"Whether a gate stopped it, and nobody"`
	By       string         `json:"by"`
	Asks     bool           `json:"asks,omitempty" doc:"Whether it waits for the approval of somebody else than who has started it"`
	Approved string         `json:"approved_by,omitempty"`
	At       time.Time      `json:"at" doc:"When it was started"`
	Since    time.Time      `json:"since" doc:"Since when it is in its state"`
	Wave     int            `json:"wave" doc:"The present one, from 1"`
	Began    *time.Time     `json:"began,omitempty" doc:"When the wave began"`
	Holds    *time.Time     `json:"holds,omitempty" doc:"Since when the gate holds"`
	Soak     float64        `json:"soak" doc:"For how long it must, in seconds"`
	EndedAt  *time.Time     `json:"ended_at,omitempty"`
	Waves    []RolloutWave  `json:"waves"`
	Counts   map[string]int `json:"counts" doc:"Devices by state: waiting, offered, confirmed, refused, off line, left out"`
	// What follows is told of one rollout only.
	Plan    *WavePlan       `json:"plan,omitempty"`
	From    *Layer          `json:"from,omitempty" doc:"The layer as it was; left out where it is new"`
	To      *Layer          `json:"to,omitempty"`
	Gate    []RolloutGate   `json:"gate,omitempty"`
	Devices []RolloutDevice `json:"devices,omitempty" doc:"The first 10,000"`
	// Journal holds what happened to it.
	Journal []JournalEntry `json:"journal,omitempty" doc:"What happened to it, the newest first, 200 at most"`
}

// RolloutWave is one wave of a rollout.
type RolloutWave struct {
	Devices int            `json:"devices"`
	Counts  map[string]int `json:"counts"`
	EndedAt *time.Time     `json:"ended_at,omitempty" doc:"When it passed its gate"`
}

// RolloutGate is one condition of the gate of the present wave.
type RolloutGate struct {
	Source string `json:"source"`
	Truth  string `json:"truth" enum:"true,false,unknown"`
	Says   string `json:"says" doc:"What it is now"`
}

// RolloutDevice is a device of a rollout.
type RolloutDevice struct {
	ID      string     `json:"id"`
	Wave    int        `json:"wave" doc:"From 1"`
	State   string     `json:"state" enum:"waiting,offered,confirmed,refused,off line,left out"`
	Reason  string     `json:"reason,omitempty"`
	Offered *time.Time `json:"offered,omitempty"`
}

// RolloutAct does something about a rollout.
type RolloutAct struct {
	Act    string `json:"act" enum:"approve,pause,resume,stop,undo,undo-wave,leave-out"`
	Device string `json:"device,omitempty" maxLength:"63" doc:"Which device is left out"`
	Why    string `json:"why,omitempty" maxLength:"400"`
	Force  bool   `json:"force,omitempty" doc:"Undo what somebody has changed since, too"`
}

// PlanRollout tells who would be in which wave.
func (c *Client) PlanRollout(ctx context.Context, s RolloutStart) (RolloutPlanned, error) {
	return send[RolloutPlanned](ctx, c, http.MethodPost, "/rollout-previews", s)
}

// StartRollout begins a rollout.
func (c *Client) StartRollout(ctx context.Context, s RolloutStart) (Rollout, error) {
	return send[Rollout](ctx, c, http.MethodPost, "/rollouts", s)
}

// Rollouts lists the rollouts, the newest first.
func (c *Client) Rollouts(ctx context.Context) ([]Rollout, error) {
	return get[[]Rollout](ctx, c, "/rollouts")
}

// Rollout returns one with its devices and its gate.
func (c *Client) Rollout(ctx context.Context, id string) (Rollout, error) {
	return get[Rollout](ctx, c, "/rollouts/"+url.PathEscape(id))
}

// ActOnRollout does something about a rollout.
func (c *Client) ActOnRollout(ctx context.Context, id string, a RolloutAct) (Rollout, error) {
	return send[Rollout](ctx, c, http.MethodPost, "/rollouts/"+url.PathEscape(id), a)
}
