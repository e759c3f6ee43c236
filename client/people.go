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
	From       string    `json:"from,omitempty" doc:"Address that it was signed in from"`
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

// Given is a grant of somebody, with where it comes from.
type Given struct {
	Role   person.Role `json:"role" enum:"viewer,operator,engineer,owner" doc:"What they may do"`
	Access string      `json:"access" doc:"For which devices; for all where it is empty"`
	Team   string      `json:"team,omitempty" doc:"The team that it comes from; their own where there is none"`
}

// Team is some people who share grants.
type Team = person.Team

// Teams are some people each, who share grants.
func (c *Client) Teams() Things[Team] {
	return Things[Team]{c, "teams", func(t Team) string { return t.Name }}
}

// Key is a credential for programs.
type Key = person.Key

// Keys are the credentials of programs. A new one is made with MakeKey.
func (c *Client) Keys() Things[Key] {
	return Things[Key]{c, "keys", func(k Key) string { return k.Name }}
}

// KeyMade is a new key with its secret.
type KeyMade struct {
	Key    Key    `json:"key" doc:"The key"`
	Secret string `json:"secret" doc:"Shown this once; it goes into the Authorization header behind Bearer"`
}

// MakeKey makes a key; its secret is in the answer and nowhere else.
func (c *Client) MakeKey(ctx context.Context, k Key) (KeyMade, error) {
	return send[KeyMade](ctx, c, http.MethodPost, "/keys", k)
}

// ScreenAsks is what a screen shows and keeps until it is let in.
type ScreenAsks struct {
	Code      string    `json:"code" doc:"To be shown" example:"4F7K-9TZM"`
	Secret    string    `json:"secret" doc:"To enter with, once somebody has let the code in"`
	ExpiresAt time.Time `json:"expires_at"`
}

// ScreenCode is a code of a screen, or its secret.
type ScreenCode struct {
	Code string `json:"code" minLength:"1" maxLength:"100" doc:"As it is shown; small letters and spaces do no harm" example:"4F7K-9TZM"`
}

// ScreenEntered is the page that a screen was let in for.
type ScreenEntered struct {
	Page string `json:"page"`
}

// ScreenCodeMade lets one screen in, once.
type ScreenCodeMade struct {
	Code      string    `json:"code" doc:"To be typed at the screen" example:"4F7K-9TZM"`
	Path      string    `json:"path" doc:"Or the page to open there, behind the address of the console; it holds the code"`
	ExpiresAt time.Time `json:"expires_at"`
}

// ScreenLetIn tells of a screen that was let in.
type ScreenLetIn struct {
	From string `json:"from" doc:"Its address"`
}

// ScreenPage is another page for the screens of a key.
type ScreenPage struct {
	Page    string `json:"page" minLength:"1" maxLength:"500" example:"/query?metric=co2&span=24h"`
	Preview bool   `json:"preview,omitempty" doc:"Only tell what they would show more"`
}

// ScreenChange is what screens show with another page.
type ScreenChange struct {
	Page      string   `json:"page"`
	Screens   int      `json:"screens" doc:"Screens that are let in with the key now"`
	Devices   int      `json:"devices" doc:"Devices of which they show something"`
	MoreCount int      `json:"more_count" doc:"Devices of which they show something that they did not before"`
	More      []string `json:"more" doc:"Their ids, at most a thousand"`
	Says      string   `json:"says" doc:"What they show more, in a sentence"`
}

// MakeCode makes a code that lets one screen in to show the page of a key.
func (c *Client) MakeCode(ctx context.Context, key string) (ScreenCodeMade, error) {
	return send[ScreenCodeMade](ctx, c, http.MethodPost, "/keys/"+url.PathEscape(key)+"/code", nil)
}

// LetScreenIn lets in the screen that shows a code.
func (c *Client) LetScreenIn(ctx context.Context, key, code string) (ScreenLetIn, error) {
	return send[ScreenLetIn](ctx, c, http.MethodPost, "/keys/"+url.PathEscape(key)+"/screens", ScreenCode{code})
}

// SetKeyPage has the screens of a key show another page, or only tells what they
// would show more.
func (c *Client) SetKeyPage(ctx context.Context, key string, p ScreenPage) (ScreenChange, error) {
	return send[ScreenChange](ctx, c, http.MethodPut, "/keys/"+url.PathEscape(key)+"/page", p)
}

// Reach is which devices an access reaches.
type Reach struct {
	Devices []string `json:"devices" doc:"Their ids, at most a thousand"`
	Count   int      `json:"count" doc:"How many they are"`
	Of      int      `json:"of" doc:"How many devices there are"`
	Labels  []string `json:"labels" doc:"Labels that it looks at"`
	Says    string   `json:"says" doc:"How far it reaches, in words" example:"It reaches 8 of 48 devices."`
}

// PreviewAccess tells which devices an access reaches now.
func (c *Client) PreviewAccess(ctx context.Context, access string) (Reach, error) {
	return get[Reach](ctx, c, "/access/preview?"+url.Values{"access": {access}}.Encode())
}

// Explained tells what somebody may do to a device, and by which grants.
type Explained struct {
	Person string    `json:"person" doc:"The person, or key NAME"`
	Device string    `json:"device"`
	Role   string    `json:"role" doc:"The greatest role that they have for it; none where it is empty"`
	Grants []GrantOn `json:"grants" doc:"Each of their grants, and what it says of the device"`
	Says   string    `json:"says" doc:"All of that in a sentence"`
}

// GrantOn is a grant with what it says of one device.
type GrantOn struct {
	Given
	Reaches bool   `json:"reaches" doc:"Whether it is for the device"`
	Why     string `json:"why" doc:"Why, or why not" example:"label.site is Kilnside"`
}

// ExplainAccess tells what somebody may do to a device, and why.
func (c *Client) ExplainAccess(ctx context.Context, person, device string) (Explained, error) {
	return get[Explained](ctx, c, "/access/explain?"+url.Values{"person": {person}, "device": {device}}.Encode())
}

// Grant is a role for some devices.
type Grant = person.Grant

// FactorSetup is a second factor that is being set up.
type FactorSetup struct {
	Secret  string `json:"secret" doc:"To type into the app"`
	URI     string `json:"uri" doc:"otpauth, as apps read it"`
	Picture string `json:"picture" doc:"The same as a QR code, a data URI of a PNG"`
}

// FactorPassword asks for what changes a second factor.
type FactorPassword struct {
	Password string `json:"password" maxLength:"1000" doc:"One's password"`
	Code     string `json:"code,omitempty" maxLength:"40" doc:"A code of the second factor, to take it off"`
}

// FactorCode is a code of a second factor.
type FactorCode struct {
	Code string `json:"code" maxLength:"40" doc:"What the app shows" example:"492039"`
}

// RecoveryCodes work once each in place of the app.
type RecoveryCodes struct {
	Codes []string `json:"codes" doc:"Shown this once"`
}

// BeginFactor begins to set up a second factor of whoever is signed in.
func (c *Client) BeginFactor(ctx context.Context, password string) (FactorSetup, error) {
	return send[FactorSetup](ctx, c, http.MethodPost, "/me/second-factor", FactorPassword{Password: password})
}

// ConfirmFactor puts it in force with a code that the app shows.
func (c *Client) ConfirmFactor(ctx context.Context, code string) (RecoveryCodes, error) {
	return send[RecoveryCodes](ctx, c, http.MethodPost, "/me/second-factor/confirm", FactorCode{code})
}

// DropFactor takes it off.
func (c *Client) DropFactor(ctx context.Context, password, code string) error {
	return c.do(ctx, http.MethodPost, "/me/second-factor/off", FactorPassword{password, code}, nil)
}

// RemoveFactor takes the second factor off somebody who has lost it.
func (c *Client) RemoveFactor(ctx context.Context, name string) error {
	return c.do(ctx, http.MethodDelete, "/people/"+url.PathEscape(name)+"/second-factor", nil, nil)
}

// SignInWays are how one can sign in.
type SignInWays struct {
	SignOn string `json:"sign_on" doc:"Who else vouches for people here; empty if nobody does"`
}

// Preferred is how somebody wants things shown, and what they may choose.
type Preferred struct {
	Preferences person.Preferences `json:"preferences"`
	Choices     []UnitChoices      `json:"choices" doc:"Units that are offered, by dimension; others of the dimension are taken as well"`
}

// UnitChoices are the units that are offered for a dimension.
type UnitChoices struct {
	Dimension string       `json:"dimension" example:"temperature"`
	Units     []UnitChoice `json:"units"`
}

// UnitChoice is one of them.
type UnitChoice struct {
	Symbol  string `json:"symbol" example:"[degF]"`
	Display string `json:"display" doc:"As people write it" example:"°F"`
}

// Preferences returns how whoever is signed in wants things shown.
func (c *Client) Preferences(ctx context.Context) (Preferred, error) {
	return get[Preferred](ctx, c, "/me/preferences")
}

// SetPreferences sets how whoever is signed in wants things shown.
func (c *Client) SetPreferences(ctx context.Context, p person.Preferences) (Preferred, error) {
	return send[Preferred](ctx, c, http.MethodPut, "/me/preferences", p)
}

// StartPage is the page of the console with which somebody begins.
type StartPage struct {
	Page string `json:"page" maxLength:"500" doc:"Its path, with what stands behind the ?; empty to leave it to one's teams" example:"/devices/tank-fennimore-07"`
	Only bool   `json:"only,omitempty" doc:"Nothing but this page, over the full screen"`
}

// SetStart chooses the page with which whoever is signed in begins.
func (c *Client) SetStart(ctx context.Context, s StartPage) error {
	return c.do(ctx, http.MethodPut, "/me/start", s, nil)
}
