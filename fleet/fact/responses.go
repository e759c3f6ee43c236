package fact

import (
	"fmt"
	"strings"
)

// Responded: a rule did something by itself, or what it had done is over.
type Responded struct {
	Rule    string   `json:"rule"`
	Number  int      `json:"number"` // which of the rule's responses, from 0
	Does    string   `json:"does"`   // as "sets fan_mode to \"on\""
	Devices []string `json:"devices"`
	Over    bool     `json:"over,omitempty"`
	Why     string   `json:"why,omitempty"`
}

func (Responded) kind() Kind { return ResponseActed }

func (c Responded) sentence() string {
	text := fmt.Sprintf("the rule %s %s on %s", c.Rule, c.Does, some(c.Devices))
	if c.Over {
		text = fmt.Sprintf("released what the rule %s did on %s: it %s", c.Rule, some(c.Devices), c.Does)
	}
	if c.Why != "" {
		text += ", since " + c.Why
	}
	return text
}

// HeldBack: a rule did not do what it does by itself.
type HeldBack struct {
	Rule    string   `json:"rule"`
	Number  int      `json:"number"`
	Does    string   `json:"does"`
	Devices []string `json:"devices,omitempty"`
	Why     string   `json:"why"`
}

func (HeldBack) kind() Kind { return ResponseHeldBack }

func (c HeldBack) sentence() string {
	where := ""
	if len(c.Devices) > 0 {
		where = " on " + some(c.Devices)
	}
	return fmt.Sprintf("the rule %s, which %s, did not do so%s: %s", c.Rule, c.Does, where, c.Why)
}

// ResponsesTurned: somebody stopped all responses, or lets them act again.
type ResponsesTurned struct {
	Off bool   `json:"off"`
	Why string `json:"why,omitempty"`
}

func (ResponsesTurned) kind() Kind { return ResponsesSwitched }

func (c ResponsesTurned) sentence() string {
	text := "lets the responses of rules act again"
	if c.Off {
		text = "stopped all responses of rules"
	}
	if c.Why != "" {
		text += ": " + c.Why
	}
	return text
}

// Ordered: somebody has put the layers into another order.
type Ordered struct {
	Order []string `json:"order"` // the lowest first
}

func (Ordered) kind() Kind { return LayersOrdered }

func (c Ordered) sentence() string {
	return "put the layers in the order " + strings.Join(c.Order, ", ")
}

// some names devices, the first few of many.
func some(ids []string) string {
	const named = 3
	if len(ids) <= named {
		return strings.Join(ids, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(ids[:named], ", "), len(ids)-named)
}

// RolloutMoved: a rollout has begun, gone on, stopped or ended.
type RolloutMoved struct {
	Rollout string `json:"rollout"`
	Layer   string `json:"layer"`
	Wave    int    `json:"wave"` // from 1
	State   string `json:"state"`
	Says    string `json:"says"`
}

func (RolloutMoved) kind() Kind { return RolloutGoesOn }

func (c RolloutMoved) sentence() string {
	return fmt.Sprintf("the rollout of the layer %s: %s", c.Layer, c.Says)
}
