package fact

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"
	"unicode/utf8"
)

// Content is what a fact says beside what it is about. Its sentence follows the
// name of who did it, where somebody did.
type Content interface {
	kind() Kind
	sentence() string
}

// Onboarded: a device was made.
type Onboarded struct {
	Device  string `json:"device"`
	Model   string `json:"model"`
	Version string `json:"version"`
}

// Labelled: labels were set or removed.
type Labelled struct {
	Set     map[string]string `json:"set,omitempty"`
	Removed []string          `json:"removed,omitempty"`
}

// Moved: a device got another version of its model.
type Moved struct {
	Model string `json:"model"`
	From  string `json:"from"`
	To    string `json:"to"`
}

// Status: a device was suspended, let in again, retired, or is active since its
// first message.
type Status struct {
	From string `json:"from"`
	To   string `json:"to"`
}

// Token: a device got a new token.
type Token struct {
	Device  string `json:"device"`
	Revoked int    `json:"revoked"` // how many older ones stopped working
	Kind    string `json:"kind,omitempty"`
}

// Revoked: a credential of a device was ended.
type Revoked struct {
	Device     string `json:"device"`
	Kind       string `json:"kind"`
	Credential string `json:"credential"` // its id, which is no secret
}

// CredentialEnds: the last credential of a device ends soon, or is over.
type CredentialEnds struct {
	Device     string    `json:"device"`
	Credential string    `json:"credential"`
	At         time.Time `json:"at"`
	Over       bool      `json:"over,omitempty"`
}

// CredentialShared: a credential is used from two addresses at once, which one device
// does not.
type CredentialShared struct {
	Device     string `json:"device"`
	Credential string `json:"credential"`
	From       string `json:"from"`
	Other      string `json:"other"`
}

// Replaced: other hardware stands behind the id of a device.
type Replaced struct {
	Device string `json:"device"`
	Serial string `json:"serial,omitempty"` // of the new one, as far as it was said
	Was    string `json:"was,omitempty"`    // as far as the old one has reported it
}

// SentAs: a person sent a message as a device.
type SentAs struct {
	Device string `json:"device"`
	Name   string `json:"name"` // readings, about and so on
	Kept   int    `json:"kept"`
}

// ManyChanged: labels or the status of many devices are changed, one by one from now on.
// Undoes is the change that this one takes back.
type ManyChanged struct {
	Job     string            `json:"change"`
	Devices int               `json:"devices"`
	Labels  map[string]string `json:"labels,omitempty"`
	Status  string            `json:"status,omitempty"`
	Model   string            `json:"model,omitempty"` // whose Version they get
	Version string            `json:"version,omitempty"`
	Undoes  string            `json:"undoes,omitempty"`
}

// JoinAsked: somebody asked to join, and waits for a person. Again says that there was
// such a device already.
type JoinAsked struct {
	Serial string `json:"serial"`
	Key    string `json:"join_key"`
	Device string `json:"device"`
	From   string `json:"from"`
	Again  bool   `json:"again,omitempty"`
}

// JoinDecided: somebody let one in that had asked, or refused it.
type JoinDecided struct {
	Serial   string `json:"serial"`
	Key      string `json:"join_key"`
	Device   string `json:"device"`
	Admitted bool   `json:"admitted"`
	Again    bool   `json:"again,omitempty"`
	Reason   string `json:"reason,omitempty"`
}

// Joined: a device joined with a join key, and has a credential.
type Joined struct {
	Serial string `json:"serial"`
	Key    string `json:"join_key"`
	Device string `json:"device"`
	From   string `json:"from"`
	Again  bool   `json:"again,omitempty"`
}

// Attributes: what a device says of itself has changed. Before counts changes
// that were too many to be told one by one.
type Attributes struct {
	Changed map[string]Change `json:"changed"`
	Before  int               `json:"before,omitempty"`
}

// Change is a value before and after, as people write it; Was is empty for one
// that is new.
type Change struct {
	Was string `json:"was,omitempty"`
	Is  string `json:"is"`
}

// Link: a device was heard for the first time, fell silent, or is back. Before
// counts changes that were too many to be told one by one.
type Link struct {
	Link   string    `json:"link"`
	First  bool      `json:"first,omitempty"`
	Last   time.Time `json:"last,omitzero"` // time of the newest reading
	Before int       `json:"before,omitempty"`
}

// Settings: the override of one device, or of many at once, was changed.
type Settings struct {
	Set      map[string]string `json:"set,omitempty"` // as people write it
	Removed  []string          `json:"removed,omitempty"`
	Revision int64             `json:"revision,omitempty"` // 0: the document for the device stayed as it was
	Devices  int               `json:"devices,omitempty"`  // of a change of many devices
	Job      string            `json:"job,omitempty"`      // by which they were changed
	Why      string            `json:"why,omitempty"`      // where nobody changed it
	Again    bool              `json:"again,omitempty"`    // what is intended was sent once more
}

// Applied: a device confirmed a revision.
type Applied struct {
	Revision int64 `json:"revision"`
}

// Refused: a device did not apply everything.
type Refused struct {
	Revision    int64        `json:"revision"`
	Differences []Difference `json:"differences"`
}

// Difference is a setting that is not as intended.
type Difference struct {
	Name     string `json:"name"`
	Intended string `json:"intended"`
	Applied  string `json:"applied"`
	Reason   string `json:"reason,omitempty"`
}

// Published: a version of a model was published.
type Published struct {
	Model   string `json:"model"`
	Version string `json:"version"`
	After   string `json:"after,omitempty"` // the version before
}

// Rule: an alarm rule was added, changed or removed.
type Rule struct {
	Verb  string `json:"verb"`
	Rule  string `json:"rule"`
	Raise string `json:"raise,omitempty"`
}

// Deleted: somebody deleted readings of a device.
type Deleted struct {
	Readings int64     `json:"readings"`
	Metrics  []string  `json:"metrics,omitempty"` // empty for all
	From     time.Time `json:"from,omitzero"`     // since the beginning if it is zero
	To       time.Time `json:"to,omitzero"`       // not included; to the end if it is zero
	Traffic  int       `json:"traffic,omitempty"` // messages in the traffic log
}

// Raised: an alarm was raised.
type Raised struct {
	Message  string `json:"message"`
	Priority string `json:"priority,omitempty"`
	Again    bool   `json:"again,omitempty"` // it came up again before it was acknowledged
	Late     bool   `json:"late,omitempty"`  // it was over already when it was reported
	Aside    string `json:"aside,omitempty"` // the state in which it calls nobody
}

// Returned: the condition of an alarm holds no more.
type Returned struct {
	Rule   string `json:"rule"`
	Metric string `json:"metric,omitempty"`
	Value  string `json:"value,omitempty"` // of the metric, as people write it
	Why    string `json:"why,omitempty"`   // where it is not the value
}

// Acknowledged: somebody has seen an alarm.
type Acknowledged struct {
	Rule    string `json:"rule"`
	Message string `json:"message"`
}

// Shelved: the alarms of a rule on a device or group stand aside until a time.
type Shelved struct {
	Rule  string    `json:"rule"`
	Until time.Time `json:"until"`
	Why   string    `json:"why,omitempty"`
}

// Unshelved: they do not stand aside any more.
type Unshelved struct {
	Rule   string `json:"rule"`
	Itself bool   `json:"itself,omitempty"` // its time was over
}

// Suppressed: an alarm is suppressed by design, or is no more.
type Suppressed struct {
	Rule string `json:"rule"`
	By   string `json:"by"` // the rule and the group that do it; "by design" for its own rule
	Over bool   `json:"over,omitempty"`
}

// OutOfService: an alarm is out of service for maintenance, or is no more.
type OutOfService struct {
	Rule        string `json:"rule"`
	Maintenance string `json:"maintenance"`
	Over        bool   `json:"over,omitempty"`
}

// AlarmReset: somebody let a latched alarm go.
type AlarmReset struct {
	Rule string `json:"rule"`
}

// Commented: somebody said something about an alarm.
type Commented struct {
	Rule string `json:"rule"`
	Text string `json:"text"`
}

// PriorityRose: the priority of an open alarm has risen by itself.
type PriorityRose struct {
	Rule string `json:"rule"`
	From string `json:"from"`
	To   string `json:"to"`
	Why  string `json:"why"`
}

// Given: a device was given a command, or Devices are given one by a Job.
type Given struct {
	Command string          `json:"command"`
	ID      string          `json:"id,omitempty"`
	Input   json.RawMessage `json:"input,omitempty"`
	Rule    string          `json:"rule,omitempty"` // that gave it by itself
	Job     string          `json:"job,omitempty"`
	Devices int             `json:"devices,omitempty"`
}

// Replied: a device has done a command, or could not.
type Replied struct {
	Command string          `json:"command"`
	ID      string          `json:"id"`
	Output  json.RawMessage `json:"output,omitempty"`
	Error   string          `json:"error,omitempty"`
	After   string          `json:"after,omitempty"` // the end that it had come to before
}

// Ended: a command expired or was withdrawn.
type Ended struct {
	Command string `json:"command"`
	ID      string `json:"id,omitempty"`
	Phase   string `json:"phase"`
	Sent    bool   `json:"sent,omitempty"` // it had been handed over
	Job     string `json:"job,omitempty"`  // of which the rest was given up
	Devices int    `json:"devices,omitempty"`
}

// Event: a device sent an event of its model.
type Event struct {
	Name string          `json:"name"`
	Data json.RawMessage `json:"data,omitempty"`
}

// Person: somebody may sign in.
type Person struct {
	Name  string `json:"name"`
	First bool   `json:"first,omitempty"` // nobody was there to let them in
}

// SignInFailed: somebody tried to sign in with a wrong name or password.
type SignInFailed struct {
	Name string `json:"name,omitempty"` // empty where nobody is called so
	From string `json:"from"`           // network address
	// Times is how many there were since it was told last. Unseen says that from
	// now on some are turned away without a look at the password.
	Times  int  `json:"times"`
	Unseen bool `json:"unseen,omitempty"`
}

// SignIn: somebody signed in.
type SignIn struct {
	Name string `json:"name"`
	With string `json:"with"`
}

// Invited: somebody may choose a password.
type Invited struct {
	Name string `json:"name"`
}

// PasswordChosen: somebody chose a password.
type PasswordChosen struct {
	Name string `json:"name"`
}

// Factor: a second factor was set up or taken off, or a recovery code used.
type Factor struct {
	Name string `json:"name"`
	Done string `json:"done"`
	Left int    `json:"left,omitempty"` // recovery codes that are left, once one was used
}

// What is done to a second factor.
const (
	FactorSet    = "set up"
	FactorOff    = "taken off"
	RecoveryUsed = "recovery code used"
)

// SessionEnded: a sign-in was ended from elsewhere.
type SessionEnded struct {
	Name string `json:"name"`
	With string `json:"with"` // as of SignIn
}

func (Onboarded) kind() Kind        { return DeviceOnboarded }
func (Labelled) kind() Kind         { return DeviceLabelled }
func (Moved) kind() Kind            { return DeviceMoved }
func (Status) kind() Kind           { return StatusChanged }
func (Token) kind() Kind            { return TokenGiven }
func (Revoked) kind() Kind          { return CredentialRevoked }
func (Attributes) kind() Kind       { return AttributesReported }
func (Link) kind() Kind             { return LinkChanged }
func (Settings) kind() Kind         { return SettingChanged }
func (Applied) kind() Kind          { return SettingApplied }
func (Refused) kind() Kind          { return SettingRefused }
func (Published) kind() Kind        { return ModelPublished }
func (Rule) kind() Kind             { return RuleChanged }
func (Deleted) kind() Kind          { return ReadingsDeleted }
func (Raised) kind() Kind           { return AlarmRaised }
func (Returned) kind() Kind         { return AlarmReturned }
func (Acknowledged) kind() Kind     { return AlarmAcknowledged }
func (Shelved) kind() Kind          { return AlarmShelved }
func (Unshelved) kind() Kind        { return AlarmUnshelved }
func (Suppressed) kind() Kind       { return AlarmSuppressed }
func (OutOfService) kind() Kind     { return AlarmOutOfService }
func (AlarmReset) kind() Kind       { return AlarmResetBy }
func (Commented) kind() Kind        { return AlarmCommented }
func (PriorityRose) kind() Kind     { return AlarmPriorityRose }
func (Given) kind() Kind            { return CommandGiven }
func (Replied) kind() Kind          { return CommandReplied }
func (Ended) kind() Kind            { return CommandEnded }
func (Event) kind() Kind            { return EventSent }
func (Person) kind() Kind           { return PersonAdded }
func (SignIn) kind() Kind           { return SignedIn }
func (SignInFailed) kind() Kind     { return SignInWrong }
func (Invited) kind() Kind          { return PersonInvited }
func (PasswordChosen) kind() Kind   { return PasswordChanged }
func (SessionEnded) kind() Kind     { return SignedOut }
func (Factor) kind() Kind           { return FactorChanged }
func (CredentialEnds) kind() Kind   { return CredentialEnding }
func (CredentialShared) kind() Kind { return CredentialTwice }
func (SentAs) kind() Kind           { return MessageSentAs }
func (Replaced) kind() Kind         { return HardwareReplaced }
func (ManyChanged) kind() Kind      { return DevicesChanged }
func (JoinAsked) kind() Kind        { return JoinAskedFor }
func (JoinDecided) kind() Kind      { return JoinDecidedOn }
func (Joined) kind() Kind           { return DeviceJoined }

// Changed: a thing that people make, of whatever noun, was made, saved or
// removed.
type Changed struct {
	Noun   string   `json:"noun"` // as in site
	Name   string   `json:"name"`
	Done   Done     `json:"done"`
	Fields []string `json:"fields,omitempty"` // what differs, each as "zone: UTC → Europe/Berlin"
}

// Done is what was done to a thing.
type Done string

// What can be done to a thing.
const (
	Made    Done = "made"
	Saved   Done = "saved"
	Removed Done = "removed"
)

// changed is how the kinds of Changed end.
const changed = " changed"

// ChangedKind returns the kind of changes of a noun.
func ChangedKind(noun string) Kind { return Kind(noun + changed) }

func (c Changed) kind() Kind { return ChangedKind(c.Noun) }

func (c Changed) sentence() string {
	text := fmt.Sprintf("%s the %s %s", c.Done, c.Noun, c.Name)
	if len(c.Fields) > 0 {
		text += "; " + strings.Join(c.Fields, ", ")
	}
	return text
}

// contentOf returns an empty content of a kind to read JSON into, or nil.
func contentOf(k Kind) Content {
	for _, c := range []Content{&Onboarded{}, &Labelled{}, &Moved{}, &Status{}, &Token{}, &Revoked{}, &Attributes{}, &Link{},
		&Settings{}, &Applied{}, &Refused{}, &Published{}, &Rule{}, &Deleted{}, &Raised{}, &Returned{}, &Acknowledged{}, &Shelved{}, &Unshelved{}, &Suppressed{}, &OutOfService{}, &AlarmReset{}, &Commented{}, &PriorityRose{}, &Given{}, &Replied{}, &Ended{}, &Event{}, &Person{}, &SignIn{}, &SignInFailed{}, &Invited{}, &PasswordChosen{}, &SessionEnded{}, &Factor{}, &CredentialEnds{}, &CredentialShared{}, &Replaced{}, &SentAs{}, &ManyChanged{}, &JoinAsked{}, &JoinDecided{}, &Joined{},
		&Responded{}, &HeldBack{}, &ResponsesTurned{}, &Ordered{}, &RolloutMoved{}} {
		if c.kind() == k {
			return c
		}
	}
	if strings.HasSuffix(string(k), changed) {
		return &Changed{}
	}
	return nil
}

func (c Onboarded) sentence() string {
	return fmt.Sprintf("onboarded %s as %s %s", c.Device, c.Model, c.Version)
}

func (c Labelled) sentence() string {
	var words []string
	for _, k := range slices.Sorted(maps.Keys(c.Set)) {
		words = append(words, fmt.Sprintf("set label %s=%s", k, c.Set[k]))
	}
	for _, k := range c.Removed {
		words = append(words, "removed label "+k)
	}
	return strings.Join(words, ", ")
}

func (c Moved) sentence() string {
	return fmt.Sprintf("moved it from %s %s to %s", c.Model, c.From, c.To)
}

func (c Status) sentence() string {
	switch {
	case c.From == "expected" && c.To == "active":
		return "it sent its first message"
	case c.To == "active":
		return "let it in again"
	}
	return c.To + " it"
}

func (c Deleted) sentence() string {
	text := fmt.Sprintf("deleted %d readings", c.Readings)
	if c.Readings == 1 {
		text = "deleted 1 reading"
	}
	if len(c.Metrics) > 0 {
		text += " of " + strings.Join(c.Metrics, ", ")
	}
	if !c.From.IsZero() {
		text += " from " + c.From.UTC().Format(time.RFC3339)
	}
	if !c.To.IsZero() {
		text += " up to " + c.To.UTC().Format(time.RFC3339)
	}
	if c.Traffic > 0 {
		text += fmt.Sprintf(", and %d messages of its traffic", c.Traffic)
	}
	return text
}

func (c Token) sentence() string {
	text := fmt.Sprintf("gave %s a new %s", c.Device, cmp.Or(c.Kind, "token"))
	if c.Revoked > 0 {
		text += " and revoked the old one"
	}
	return text
}

func (c CredentialEnds) sentence() string {
	if c.Over {
		return fmt.Sprintf("the certificate %s of %s has ended, and it has no other", c.Credential, c.Device)
	}
	return fmt.Sprintf("the certificate %s of %s ends on %s, and it has no other", c.Credential, c.Device, c.At.UTC().Format("2 January 2006"))
}

func (c CredentialShared) sentence() string {
	return fmt.Sprintf("the credential %s of %s is used from two addresses at once, %s and %s", c.Credential, c.Device, c.From, c.Other)
}

func (c Replaced) sentence() string {
	text := "replaced the hardware of " + c.Device
	if c.Was != "" {
		text += ", which was " + c.Was
	}
	if c.Serial != "" {
		text += ", by " + c.Serial
	}
	return text
}

func (c SentAs) sentence() string {
	kept := fmt.Sprintf("%d values were kept", c.Kept)
	if c.Kept == 1 {
		kept = "1 value was kept"
	}
	return fmt.Sprintf("sent %s as %s, which did not; %s", c.Name, c.Device, kept)
}

func (c ManyChanged) sentence() string {
	var words []string
	for _, k := range slices.Sorted(maps.Keys(c.Labels)) {
		if c.Labels[k] == "" {
			words = append(words, "took away the label "+k)
		} else {
			words = append(words, fmt.Sprintf("set the label %s=%s", k, c.Labels[k]))
		}
	}
	if c.Status != "" {
		words = append(words, "set the status "+c.Status)
	}
	if c.Version != "" {
		words = append(words, "gave "+c.Model+" "+c.Version)
	}
	text := fmt.Sprintf("%s of %d devices", strings.Join(words, ", "), c.Devices)
	if c.Undoes != "" {
		return "undid this: " + text
	}
	return text
}

func (c JoinAsked) sentence() string {
	text := fmt.Sprintf("the serial %s asked from %s to join as %s with the join key %s", c.Serial, c.From, c.Device, c.Key)
	if c.Again {
		text += ", though there is such a device already; it works on as it is"
	}
	return text
}

func (c JoinDecided) sentence() string {
	text := "refused the serial " + c.Serial + ", which asked to join as " + c.Device
	if c.Admitted {
		text = "let the serial " + c.Serial + " join as " + c.Device
		if c.Again {
			text += " once more"
		}
	}
	if c.Reason != "" {
		text += ": " + c.Reason
	}
	return text
}

func (c Joined) sentence() string {
	text := fmt.Sprintf("the serial %s joined as %s from %s with the join key %s", c.Serial, c.Device, c.From, c.Key)
	if c.Again {
		text += " once more; what it was let in by before is revoked"
	}
	return text
}

func (c Revoked) sentence() string {
	return fmt.Sprintf("revoked the %s %s of %s", c.Kind, c.Credential, c.Device)
}

func (c Attributes) sentence() string {
	var words []string
	for _, k := range slices.Sorted(maps.Keys(c.Changed)) {
		if x := c.Changed[k]; x.Was == "" {
			words = append(words, k+" "+x.Is)
		} else {
			words = append(words, fmt.Sprintf("%s from %s to %s", k, x.Was, x.Is))
		}
	}
	return "it reported " + strings.Join(words, ", ") + between(c.Before)
}

func (c Link) sentence() string {
	switch {
	case c.First:
		return "it was heard for the first time"
	case c.Link == "silent":
		return "it fell silent; its last reading is of " + c.Last.UTC().Format(time.RFC3339) + between(c.Before)
	}
	return "it is back" + between(c.Before)
}

// between tells of changes that were too many to be told one by one.
func between(n int) string {
	switch n {
	case 0:
		return ""
	case 1:
		return ", after one more change in between"
	}
	return fmt.Sprintf(", after %d more changes in between", n)
}

func (c Settings) sentence() string {
	var words []string
	for _, k := range slices.Sorted(maps.Keys(c.Set)) {
		words = append(words, fmt.Sprintf("set %s to %s", k, c.Set[k]))
	}
	for _, k := range c.Removed {
		words = append(words, "took "+k+" off")
	}
	if c.Again {
		words = append(words, "sent the settings once more")
	}
	if c.Why != "" {
		words = append(words, c.Why)
	}
	if c.Devices > 0 {
		words = append(words, fmt.Sprintf("on %d devices", c.Devices))
		return strings.Join(words, ", ")
	}
	if c.Revision > 0 {
		words = append(words, fmt.Sprintf("revision %d", c.Revision))
	}
	return strings.Join(words, ", ")
}

func (c Applied) sentence() string { return fmt.Sprintf("it applied revision %d", c.Revision) }

func (c Refused) sentence() string {
	var words []string
	for _, d := range c.Differences {
		w := fmt.Sprintf("%s stayed %s instead of %s", d.Name, d.Applied, d.Intended)
		if d.Reason != "" {
			w += ": " + d.Reason
		}
		words = append(words, w)
	}
	return fmt.Sprintf("revision %d: %s", c.Revision, strings.Join(words, "; "))
}

func (c Published) sentence() string {
	text := fmt.Sprintf("published model %s %s", c.Model, c.Version)
	if c.After != "" {
		text += " after " + c.After
	}
	return text
}

func (c Rule) sentence() string {
	if c.Raise == "" {
		return c.Verb + " rule " + c.Rule
	}
	return fmt.Sprintf("%s rule %s: %s", c.Verb, c.Rule, c.Raise)
}

func (c Raised) sentence() string {
	text := c.Message
	switch {
	case c.Late:
		text += ", reported late"
	case c.Again:
		text += ", again"
	}
	if c.Aside != "" {
		text += " (" + c.Aside + ": nobody is called)"
	}
	return text
}

func (c Shelved) sentence() string {
	text := "shelved " + c.Rule + " until " + c.Until.UTC().Format("2006-01-02 15:04 MST")
	if c.Why != "" {
		text += ": " + c.Why
	}
	return text
}

func (c Unshelved) sentence() string {
	if c.Itself {
		return c.Rule + " is shelved no more; its time was over"
	}
	return "took " + c.Rule + " off the shelf"
}

func (c Suppressed) sentence() string {
	if c.Over {
		return c.Rule + " is suppressed no more"
	}
	if c.By == "by design" {
		return c.Rule + " is suppressed by design"
	}
	return c.Rule + " is suppressed by " + c.By
}

func (c OutOfService) sentence() string {
	if c.Over {
		return c.Rule + " is in service again; the maintenance " + c.Maintenance + " is over"
	}
	return c.Rule + " is out of service for the maintenance " + c.Maintenance
}

func (c AlarmReset) sentence() string { return "reset " + c.Rule }

func (c Commented) sentence() string { return "said of " + c.Rule + ": " + c.Text }

func (c PriorityRose) sentence() string {
	return fmt.Sprintf("%s rose from %s to %s, since %s", c.Rule, c.From, c.To, c.Why)
}

func (c Returned) sentence() string {
	if c.Why != "" {
		return c.Why
	}
	text := c.Rule + " returned"
	if c.Value != "" {
		text += " with " + c.Metric + " at " + c.Value
	}
	return text
}

func (c Acknowledged) sentence() string { return "acknowledged " + c.Rule + ": " + c.Message }

func (c Given) sentence() string {
	if c.Devices > 0 {
		return fmt.Sprintf("told %d devices to %s%s", c.Devices, c.Command, shown(" ", c.Input))
	}
	text := "told it to " + c.Command + shown(" ", c.Input)
	if c.Rule != "" {
		return "the rule " + c.Rule + " " + text
	}
	return text
}

func (c Replied) sentence() string {
	late := ""
	if c.After != "" {
		late = ", after it was " + c.After
	}
	if c.Error != "" {
		return fmt.Sprintf("it could not %s%s: %s", c.Command, late, c.Error)
	}
	return "it did " + c.Command + late + shown(": ", c.Output)
}

func (c Ended) sentence() string {
	switch {
	case c.Job != "":
		return fmt.Sprintf("withdrew %s for %d devices", c.Command, c.Devices)
	case c.Phase == "withdrawn":
		return "withdrew " + c.Command
	case c.Sent:
		return c.Command + " expired without a reply"
	}
	return c.Command + " expired before it was handed over"
}

func (c Event) sentence() string { return "it sent the event " + c.Name + shown(" ", c.Data) }

func (c Person) sentence() string {
	if c.First {
		return "the first sign-in, " + c.Name + ", was made"
	}
	return "let " + c.Name + " in"
}

func (c SignInFailed) sentence() string {
	who := "with a name that nobody has"
	if c.Name != "" {
		who = "as " + c.Name
	}
	text := fmt.Sprintf("a sign-in %s from %s failed", who, c.From)
	if c.Times > 1 {
		text = fmt.Sprintf("%d sign-ins %s from %s failed", c.Times, who, c.From)
	}
	if c.Unseen {
		text += "; more are turned away"
	}
	return text
}

func (c SignIn) sentence() string { return fmt.Sprintf("%s signed in with the %s", c.Name, c.With) }

func (c Invited) sentence() string { return "invited " + c.Name + " to choose a password" }

func (PasswordChosen) sentence() string { return "chose a password" }

func (c Factor) sentence() string {
	switch c.Done {
	case FactorSet:
		return "set up a second factor"
	case FactorOff:
		return "took the second factor of " + c.Name + " off"
	}
	return fmt.Sprintf("used a recovery code; %d are left", c.Left)
}

func (c SessionEnded) sentence() string {
	return fmt.Sprintf("ended the sign-in of %s with the %s", c.Name, c.With)
}

// shown is JSON as a sentence shows it; nothing for an empty object.
func shown(before string, b json.RawMessage) string {
	if len(b) == 0 || string(b) == "{}" || string(b) == "null" {
		return ""
	}
	s := string(b)
	if utf8.RuneCountInString(s) > 200 {
		s = string([]rune(s)[:200]) + "…"
	}
	return before + s
}
