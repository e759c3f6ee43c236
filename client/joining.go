package client

import (
	"context"
	"net/http"
	"net/url"

	"ullage/core/join"
)

// JoinKey is a secret for a batch of devices with which each gets its own credential.
type JoinKey = join.Key

// JoinRequest is that a device asked to join, and what became of it.
type JoinRequest = join.Request

// JoinLabel is what is glued onto a device.
type JoinLabel = join.Label

// JoinKeys are the join keys. They are made by MakeJoinKey; Put changes them.
func (c *Client) JoinKeys() Things[JoinKey] {
	return Things[JoinKey]{c, "join-keys", func(k JoinKey) string { return k.Name }}
}

// JoinRequests are who asked to join.
func (c *Client) JoinRequests() Things[JoinRequest] {
	return Things[JoinRequest]{c, "join-requests", func(r JoinRequest) string { return r.ID }}
}

// JoinKeyMade is a new join key with its secret.
type JoinKeyMade struct {
	JoinKey JoinKey `json:"join_key"`
	Secret  string  `json:"secret" doc:"Of the whole key, shown this once. It is taken with a list of serials, or where a person approves; each serial has one of its own: HKDF-SHA256 of the 32 bytes of it, without a salt, for the text 'ullage join ' and the serial"`
}

// MakeJoinKey makes a join key.
func (c *Client) MakeJoinKey(ctx context.Context, k JoinKey) (JoinKeyMade, error) {
	return send[JoinKeyMade](ctx, c, http.MethodPost, "/join-keys", k)
}

// RevokeJoinKey ends a join key for good.
func (c *Client) RevokeJoinKey(ctx context.Context, name string) (JoinKey, error) {
	return send[JoinKey](ctx, c, http.MethodPost, "/join-keys/"+url.PathEscape(name)+"/revoke", nil)
}

// JoinSerials names some serials.
type JoinSerials struct {
	Serials []string `json:"serials,omitempty" nullable:"false" maxItems:"20000" doc:"Those that the labels are for; those that the key lists if left out"`
}

// JoinLabels returns the secret of each of some serials.
func (c *Client) JoinLabels(ctx context.Context, name string, serials []string) ([]JoinLabel, error) {
	return send[[]JoinLabel](ctx, c, http.MethodPost, "/join-keys/"+url.PathEscape(name)+"/labels", JoinSerials{serials})
}

// JoinDecision lets some requests in, or refuses them.
type JoinDecision struct {
	Requests []string `json:"requests,omitempty" nullable:"false" maxItems:"10000" doc:"Those of these ids"`
	Where    string   `json:"where,omitempty" maxLength:"65536" doc:"Those that wait and for which this condition over their fields is true, in the place of ids" example:"join_key == \"fennimore-pallet\""`
	Admit    bool     `json:"admit" doc:"true lets them in, false refuses them"`
	Reason   string   `json:"reason,omitempty" maxLength:"200" doc:"Why they are refused, for the device and the journal"`
	Preview  bool     `json:"preview,omitempty" doc:"Only say which they would be"`
}

// JoinDecided is what became of a decision.
type JoinDecided struct {
	Requests []JoinRequest `json:"requests" nullable:"false" doc:"Whom it concerns, at most a hundred of them"`
	Count    int           `json:"count" doc:"How many it concerns"`
	Changed  int           `json:"changed" doc:"How many are other than before; 0 for a preview"`
}

// DecideJoins lets some requests in, or refuses them, all or none.
func (c *Client) DecideJoins(ctx context.Context, d JoinDecision) (JoinDecided, error) {
	return send[JoinDecided](ctx, c, http.MethodPost, "/join-requests/decide", d)
}
