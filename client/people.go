package client

import (
	"context"
	"net/http"
	"net/url"
	"time"

	"ullage/core/person"
)

// Person is somebody who may sign in.
type Person = person.Person

// People are those who may sign in.
func (c *Client) People() Things[Person] {
	return Things[Person]{c, "people", func(p Person) string { return p.Name }}
}

// Invitation lets somebody choose a password, once.
type Invitation struct {
	Person    string    `json:"person" doc:"Whom it is for"`
	ExpiresAt time.Time `json:"expires_at" doc:"Until when it may be used"`
	Secret    string    `json:"secret,omitempty" doc:"Shown this once, to whoever invites"`
	Path      string    `json:"path,omitempty" doc:"The page to choose a password on, behind the address of the console; it holds the secret"`
}

// InvitationSecret asks whom an invitation is for.
type InvitationSecret struct {
	Secret string `json:"secret" maxLength:"200" doc:"Of the invitation"`
}

// Activation chooses a password with an invitation.
type Activation struct {
	Secret   string `json:"secret" maxLength:"200" doc:"Of the invitation"`
	Password string `json:"password" maxLength:"1000" doc:"The password to sign in with from now on"`
}

// Activated says who may sign in now.
type Activated struct {
	Person string `json:"person" doc:"Name to sign in with"`
}

// PasswordChange chooses another password.
type PasswordChange struct {
	Old string `json:"old" maxLength:"1000" doc:"The password until now"`
	New string `json:"new" maxLength:"1000" doc:"The password from now on; other sign-ins end"`
}

// Session is a sign-in that holds.
type Session struct {
	ID         string    `json:"id"`
	Person     string    `json:"person"`
	With       string    `json:"with" doc:"Console or command line" example:"console"`
	SignedInAt time.Time `json:"signed_in_at"`
	ExpiresAt  time.Time `json:"expires_at"`
	This       bool      `json:"this,omitempty" doc:"The one that asks"`
}

// Invite makes an invitation for somebody; one of before does not count any more.
func (c *Client) Invite(ctx context.Context, name string) (Invitation, error) {
	return send[Invitation](ctx, c, http.MethodPost, "/people/"+url.PathEscape(name)+"/invitation", nil)
}

// Activate chooses a password with the secret of an invitation.
func (c *Client) Activate(ctx context.Context, secret, password string) (Activated, error) {
	return send[Activated](ctx, c, http.MethodPost, "/activate", Activation{secret, password})
}

// ChangePassword chooses another password of whoever is signed in.
func (c *Client) ChangePassword(ctx context.Context, old, password string) error {
	return c.do(ctx, http.MethodPost, "/me/password", PasswordChange{old, password}, nil)
}

// Me returns who is signed in.
func (c *Client) Me(ctx context.Context) (SignedIn, error) { return get[SignedIn](ctx, c, "/me") }

// Sessions returns the sign-ins of somebody that hold: one's own if name is empty,
// everybody's for "*".
func (c *Client) Sessions(ctx context.Context, name string) ([]Session, error) {
	return get[[]Session](ctx, c, "/sessions?person="+url.QueryEscape(name))
}

// EndSession ends a sign-in.
func (c *Client) EndSession(ctx context.Context, id string) error {
	return c.do(ctx, http.MethodDelete, "/sessions/"+url.PathEscape(id), nil, nil)
}
