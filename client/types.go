// Package client is the Go client of Ullage's API, and holds the types that
// the API speaks; the service serves exactly these.
package client

import (
	"encoding/json"
	"time"

	"ullage/core/geo"
	"ullage/core/maintenance"
	"ullage/core/model"
	"ullage/core/person"
	"ullage/core/rule"
	"ullage/core/site"
	"ullage/fleet/traffic"
)

// Service is what the service says about itself.
type Service struct {
	Version   string    `json:"version" doc:"Version of the service"`
	StartedAt time.Time `json:"started_at" doc:"When it started"`
	Now       time.Time `json:"now" doc:"Its clock"`
	Devices   int       `json:"devices" doc:"Devices that are not retired"`
	Connected int       `json:"connected" doc:"MQTT sessions now; for whoever does not see all devices, how many of theirs are on line"`
	// What is of all devices is for whoever sees all of them.
	Readings   *uint64  `json:"readings,omitempty" doc:"Readings stored since the start"`
	PerSecond  *float64 `json:"per_second,omitempty" doc:"Readings stored a second, over the last ten seconds"`
	Refused    *uint64  `json:"refused,omitempty" doc:"Messages refused, whole or in part, since the start"`
	Deriving   int      `json:"deriving,omitempty" doc:"Devices whose intended settings are being worked out again, after a layer has changed"`
	MQTT       string   `json:"mqtt" doc:"Address of the MQTT listener"`
	DeviceHTTP string   `json:"device_http" doc:"Address of the devices' HTTP listener"`
	ConsoleTLS string   `json:"console_tls" doc:"Address of the console and the API over TLS; empty if that is off"`
	// Certificate is compared by people with what their browser or command line sees.
	Certificate string `json:"certificate" doc:"SHA-256 of the certificate shown there"`
	// Groups are the open alarms of groups of devices.
	Groups []GroupAlarm `json:"groups" doc:"Open alarms of groups, from rules with each"`
}

// GroupAlarm is an open alarm of a group of devices.
type GroupAlarm struct {
	ID       string    `json:"id"`
	Rule     string    `json:"rule"`
	Group    string    `json:"group" doc:"The label that its devices share" example:"site=Kilnside"`
	Priority string    `json:"priority" enum:"urgent,high,medium,low"`
	State    string    `json:"state" enum:"unacknowledged,acknowledged,returned unacknowledged,latched unacknowledged,latched,shelved,suppressed,out of service"`
	Message  string    `json:"message"`
	RaisedAt time.Time `json:"raised_at"`
}

// SignIn asks for a session.
type SignIn struct {
	Person   string `json:"person" minLength:"1" maxLength:"100" doc:"Name to sign in with"`
	Password string `json:"password" maxLength:"1000" doc:"Password"`
	Code     string `json:"code,omitempty" maxLength:"40" doc:"Of the second factor, for whoever has one; or a recovery code"`
	Token    bool   `json:"token,omitempty" doc:"Give a token back instead of setting a cookie"`
}

// SignedIn is who is signed in.
type SignedIn struct {
	Person    string    `json:"person" doc:"Who is signed in"`
	Role      string    `json:"role" enum:"viewer,operator,engineer,owner" doc:"The greatest role that they have, for some devices or for all"`
	ExpiresAt time.Time `json:"expires_at" doc:"Until when"`
	// Grants say what the role is for.
	Grants       []Given              `json:"grants" doc:"What they may do, for which devices, and from which team"`
	Everywhere   map[person.Role]bool `json:"everywhere" doc:"For each role, whether they have it for all devices"`
	Start        *person.Start        `json:"start,omitempty" doc:"The page with which they begin"`
	Preferences  *person.Preferences  `json:"preferences,omitempty" doc:"How they want things shown"`
	Screen       bool                 `json:"screen,omitempty" doc:"It is a screen that shows one page, and no person"`
	SecondFactor bool                 `json:"second_factor" doc:"Whether they have a second factor"`
	Owners       []string             `json:"owners" doc:"Who can grant more"`
	Familiar     string               `json:"familiar,omitempty" doc:"To be sent as the cookie ullage_familiar with the next sign-in from the same place, whose attempts are counted by themselves then; in answer to a sign-in that asked for a token"`
	Token        string               `json:"token,omitempty" doc:"Bearer token; only in answer to a sign-in that asked for it"`
}

// Margin is how far a device is from one limit.
type Margin struct {
	Rule      string   `json:"rule"`
	Metric    string   `json:"metric" doc:"The metric it is about"`
	Of        string   `json:"of" doc:"What moves, as written in the rule: a metric, or an expression over one" example:"mean(must_temp over 10min)"`
	Unit      string   `json:"unit,omitempty" doc:"Symbol of the unit of value and limit"`
	Display   string   `json:"display,omitempty" doc:"That unit as people write it"`
	Value     float64  `json:"value"`
	Limit     float64  `json:"limit"`
	Upward    bool     `json:"upward" doc:"Whether the alarm lies above the limit"`
	Headspace float64  `json:"headspace" doc:"1 at the usual value, 0 at the limit or beyond"`
	Known     bool     `json:"known" doc:"False while there is no usual value to measure from"`
	Reason    string   `json:"reason,omitempty"`
	ToLimit   *ToLimit `json:"to_limit,omitempty" doc:"When it probably gets to the limit, as its forecast says; absent if it does not within seven days"`
}

// ToLimit is when a limit is probably reached.
type ToLimit struct {
	Likely time.Time  `json:"likely" doc:"The likeliest time"`
	Early  *time.Time `json:"early,omitempty" doc:"Not before this, with 95 % confidence"`
	Late   *time.Time `json:"late,omitempty" doc:"Not after this, with 95 % confidence; absent if it may not get there"`
}

// Latest is the newest reading of one metric.
type Latest struct {
	At      time.Time `json:"at"`
	Value   any       `json:"value"`
	Quality []string  `json:"quality,omitempty" doc:"Marks such as beyond range; none for a good reading"`
}

// OpenAlarm is an open alarm as a device shows it.
type OpenAlarm struct {
	ID       string    `json:"id"`
	Rule     string    `json:"rule"`
	Priority string    `json:"priority" enum:"urgent,high,medium,low"`
	State    string    `json:"state" enum:"unacknowledged,acknowledged,returned unacknowledged,latched unacknowledged,latched,shelved,suppressed,out of service"`
	Message  string    `json:"message"`
	RaisedAt time.Time `json:"raised_at"`
}

// Device is one device now.
type Device struct {
	ID           string            `json:"id"`
	Name         string            `json:"name,omitempty" doc:"What people call it"`
	Hub          string            `json:"hub,omitempty" doc:"The device that carries it"`
	Model        string            `json:"model"`
	ModelVersion string            `json:"model_version" doc:"The version that it was given"`
	Reported     string            `json:"reported_version,omitempty" doc:"The version that it says it was built for, where that is another"`
	ModelTitle   string            `json:"model_title"`
	Labels       map[string]string `json:"labels"`
	Status       string            `json:"status" enum:"expected,active,suspended,retired"`
	JoinedAt     time.Time         `json:"joined_at"`
	Attributes   map[string]any    `json:"attributes"`
	Link         string            `json:"link" enum:"never,online,overdue,silent"`
	LastAt       *time.Time        `json:"last_at,omitempty" doc:"Time of the newest reading"`
	Interval     string            `json:"interval" doc:"How often it is expected to report"`
	Health       string            `json:"health,omitempty" enum:"sound,awaited,watch,poor,dark"`
	Reasons      []string          `json:"reasons" doc:"Why its health is not sound"`
	Headspace    *float64          `json:"headspace,omitempty" doc:"Least headspace over its rules, from 1 to 0"`
	Margins      []Margin          `json:"margins"`
	Latest       map[string]Latest `json:"latest"`
	Alarms       []OpenAlarm       `json:"alarms"`
	Revision     int64             `json:"revision" doc:"Revision of its intended settings"`
	Applied      int64             `json:"applied" doc:"Revision it confirmed last; 0 for none"`
	Drifting     []string          `json:"drifting" doc:"Settings in which it is not as intended although it confirmed"`
	Refusals     int               `json:"refusals" doc:"Refusals within the last hour"`
	Position     *geo.Position     `json:"position,omitempty" doc:"Where people say that it stands"`
	Components   []Component       `json:"components,omitempty" doc:"How each of its components is, where its model has some"`
}

// Component is how one component of a device is, judged by what concerns it alone.
type Component struct {
	Name      string   `json:"name" doc:"As the model has it" example:"left"`
	Health    string   `json:"health,omitempty" enum:"sound,awaited,watch,poor,dark"`
	Reasons   []string `json:"reasons" doc:"Why its health is not sound"`
	Headspace *float64 `json:"headspace,omitempty" doc:"Least headspace over the rules on its metrics, from 1 to 0"`
}

// NewDevice asks for a device to be onboarded.
type NewDevice struct {
	ID     string            `json:"id" maxLength:"63" doc:"Small letters, digits and hyphens" example:"tank-fennimore-07"`
	Name   string            `json:"name,omitempty" maxLength:"400" doc:"What people call it, in any script" example:"North tank"`
	Model  string            `json:"model" doc:"Name of its model" example:"tank-probe"`
	Hub    string            `json:"hub,omitempty" maxLength:"63" doc:"The device that carries it" example:"hub-fennimore"`
	Labels map[string]string `json:"labels,omitempty" doc:"Labels such as site"`
	NewCredential
}

// NewCredential says by what a device is to be let in.
type NewCredential struct {
	Credential string `json:"credential,omitempty" enum:"token,certificate" doc:"By what it is let in; a token if it is not said"`
	CSR        string `json:"csr,omitempty" maxLength:"16384" doc:"Request for a certificate (PKCS #10, PEM) of a key that the device has; one is made where it is left out"`
}

// DeviceChange is what people say about a device, but for its labels and its
// status. What is not given stays.
type DeviceChange struct {
	Name *string `json:"name,omitempty" maxLength:"400" doc:"What people call it, in any script; empty for its id alone"`
	Hub  *string `json:"hub,omitempty" maxLength:"63" doc:"The device that carries it; empty for none"`
}

// Onboarded is a new device with its token, which is shown this once.
type Onboarded struct {
	ID    string `json:"id"`
	Model string `json:"model"`
	Token string `json:"token,omitempty" doc:"Shown once; only its hash is kept"`
	// Certificate and Key are instead of a token.
	Certificate string     `json:"certificate,omitempty" doc:"In PEM, with the one that has signed it"`
	Key         string     `json:"key,omitempty" doc:"In PEM; shown once, and kept nowhere; absent where the device has it"`
	ExpiresAt   *time.Time `json:"expires_at,omitempty" doc:"When the certificate ends"`
	CA          string     `json:"ca,omitempty" doc:"Certificate of the authority that the device trusts, in PEM"`
	MQTT        string     `json:"mqtt" doc:"Address of the MQTT listener"`
	HTTP        string     `json:"http" doc:"Address of the devices' HTTP listener"`
	MQTTTLS     string     `json:"mqtt_tls,omitempty" doc:"Where it speaks MQTT over TLS"`
	HTTPTLS     string     `json:"http_tls,omitempty" doc:"Where it speaks HTTP over TLS"`
	Bundle      []byte     `json:"bundle,omitempty" doc:"All that the device needs, with samples that work as they are: a zip file, in Base64"`
	TryMQTT     string     `json:"try_mqtt" doc:"A command that sends a first reading over MQTT; the token is in the variable TOKEN"`
	TryHTTP     string     `json:"try_http" doc:"A command that sends a first reading over HTTP; the token is in the variable TOKEN"`
	Status      string     `json:"status"`
}

// BatchPlan is what would be onboarded of a list, and what is wrong with it.
type BatchPlan struct {
	Devices  []NewDevice     `json:"devices" doc:"Those that can be onboarded"`
	Findings []ImportFinding `json:"findings" doc:"What is wrong, line by line; the first ones"`
	Bad      int             `json:"bad" doc:"Lines with which something is wrong"`
	More     int             `json:"more" doc:"Findings that are not told"`
}

// Batch are devices that are to be onboarded together.
type Batch struct {
	Devices []NewDevice `json:"devices" minItems:"1" maxItems:"1000"`
}

// BatchMade are devices that were onboarded, with their bundles.
type BatchMade struct {
	Devices []BatchDevice `json:"devices"`
	Bundles []byte        `json:"bundles" doc:"A zip file with one for each device and a manifest, in Base64; given this once"`
	// Failed are those that got nothing, by their place in what was asked.
	Failed []ImportFinding `json:"failed,omitempty" doc:"Devices that got nothing, and why; line is their place in the list"`
}

// RenewMany gives some devices another credential each.
type RenewMany struct {
	Devices    []string `json:"devices" nullable:"false" minItems:"1" maxItems:"1000" doc:"Ids"`
	Credential string   `json:"credential,omitempty" enum:"token,certificate" doc:"A token if it is left out"`
	Keep       bool     `json:"keep,omitempty" doc:"Let the old credentials work on"`
}

// BatchDevice is one of them. It holds no secret.
type BatchDevice struct {
	ID         string     `json:"id"`
	Model      string     `json:"model"`
	Kind       string     `json:"kind" enum:"token,certificate"`
	Credential string     `json:"credential" doc:"Id of its credential"`
	ExpiresAt  *time.Time `json:"expires_at,omitempty"`
}

// Credential is by what a device is let in. It holds no secret.
type Credential struct {
	ID        string     `json:"id"`
	Kind      string     `json:"kind" enum:"token,certificate"`
	Serial    string     `json:"serial,omitempty" doc:"Of a certificate, in hexadecimal digits"`
	CreatedAt time.Time  `json:"created_at"`
	ExpiresAt *time.Time `json:"expires_at,omitempty" doc:"When a certificate ends"`
	RevokedAt *time.Time `json:"revoked_at,omitempty" doc:"When it was revoked; absent while it works"`
	UsedAt    *time.Time `json:"used_at,omitempty" doc:"When it was used last, to some seconds"`
	UsedFrom  string     `json:"used_from,omitempty" doc:"Address that it was used from last"`
	UsedOver  string     `json:"used_over,omitempty" doc:"Door that it was used at last, and the version of TLS" example:"mqtt, TLS 1.3"`
	// SharedAt is when it was used from two addresses at once.
	SharedAt   *time.Time `json:"shared_at,omitempty" doc:"When it was used last from two addresses at once, which one device does not"`
	SharedWith string     `json:"shared_with,omitempty" doc:"The other of the two"`
	Replaces   string     `json:"replaces,omitempty" doc:"The credential that ends when this one is used first"`
}

// Contact is how far a device is on its way in, and what is not as it should be.
type Contact struct {
	Device   string           `json:"device"`
	Steps    []ContactStep    `json:"steps" doc:"In their order; the one that stops is followed by those that wait"`
	Findings []ContactFinding `json:"findings" doc:"Why it is not in, or not well; none where all is well"`
}

// ContactStep is one step of the way of a device in.
type ContactStep struct {
	Step  string     `json:"step" example:"first valid reading"`
	State string     `json:"state" enum:"done,failed,waiting"`
	At    *time.Time `json:"at,omitempty" doc:"When; absent while it waits"`
	Says  string     `json:"says,omitempty" doc:"What was seen, or why it stops there"`
	Next  string     `json:"next,omitempty" doc:"What to do"`
}

// ContactFinding is something that is not as it should be.
type ContactFinding struct {
	About string `json:"about" enum:"credential,clock,address,refusal,model,setting,link,status"`
	Says  string `json:"says"`
	Next  string `json:"next,omitempty" doc:"What to do"`
}

// Setting is one setting of a device.
type Setting struct {
	Name          string     `json:"name"`
	Title         string     `json:"title,omitempty"`
	Type          string     `json:"type" enum:"number,integer,text,boolean"`
	Unit          string     `json:"unit,omitempty"`
	Display       string     `json:"display,omitempty"`
	Decimals      int        `json:"decimals"`
	Minimum       *float64   `json:"minimum,omitempty"`
	Maximum       *float64   `json:"maximum,omitempty"`
	Enum          []string   `json:"enum,omitempty"`
	KeptByService bool       `json:"kept_by_service,omitempty" doc:"Lives in the service only"`
	Secret        bool       `json:"secret,omitempty" doc:"writeOnly in the model: it is kept sealed, sent to the device and shown to nobody"`
	Intended      any        `json:"intended" doc:"What it should be"`
	Applied       any        `json:"applied,omitempty" doc:"What the device confirmed; absent before it did"`
	Source        string     `json:"source" enum:"model,layer,response,override" doc:"Where the intended value comes from"`
	From          string     `json:"from,omitempty" doc:"The layer, or the rule whose response sets it while it is raised"`
	OverriddenBy  string     `json:"overridden_by,omitempty"`
	OverriddenAt  *time.Time `json:"overridden_at,omitempty"`
	Until         *time.Time `json:"until,omitempty" doc:"When what is set on this device ends by itself"`
	State         string     `json:"state" enum:"pending,applied,refused,drift" doc:"How far the device is with it"`
	Reason        string     `json:"reason,omitempty" doc:"What the device said when it refused"`
}

// Settings are all settings of a device.
type Settings struct {
	Device     string     `json:"device"`
	Revision   int64      `json:"revision" doc:"Revision of the intended settings"`
	IntendedAt time.Time  `json:"intended_at"`
	Applied    int64      `json:"applied" doc:"Revision the device confirmed last; 0 for none"`
	AppliedAt  *time.Time `json:"applied_at,omitempty"`
	WaitsUntil *time.Time `json:"waits_until,omitempty" doc:"When it gets its next revision, where it has had as many in this hour as a device may"`
	State      string     `json:"state" enum:"pending,applied,refused,drift" doc:"How far the device is with the revision"`
	Settings   []Setting  `json:"settings"`
}

// SettingsChange changes the override of one device.
type SettingsChange struct {
	Set   map[string]any `json:"set,omitempty" doc:"Values by name" example:"{\"max_temp\": 30}"`
	Unset []string       `json:"unset,omitempty" doc:"Names to take off, so that what stands below holds again"`
	Until *time.Time     `json:"until,omitempty" doc:"When what is set ends by itself; never if it is left out"`
}

// Alarm is one occurrence of a rule on a device.
type Alarm struct {
	ID             string     `json:"id"`
	Rule           string     `json:"rule"`
	Device         string     `json:"device" doc:"Empty for the alarm of a group"`
	Group          string     `json:"group,omitempty" doc:"The label that the devices of the group share" example:"site=Kilnside"`
	Priority       string     `json:"priority" enum:"urgent,high,medium,low"`
	State          string     `json:"state" enum:"normal,unacknowledged,acknowledged,returned unacknowledged,latched unacknowledged,latched,shelved,suppressed,out of service" doc:"After ISA-18.2, as people see it"`
	Holds          bool       `json:"holds" doc:"Whether its condition holds, whatever people do about it"`
	Waits          bool       `json:"waits" doc:"Whether somebody still has to acknowledge it"`
	Message        string     `json:"message"`
	Cause          string     `json:"cause,omitempty"`
	Response       string     `json:"response,omitempty"`
	Metric         string     `json:"metric,omitempty"`
	Value          any        `json:"value,omitempty" doc:"Value when it was raised"`
	Limit          any        `json:"limit,omitempty" doc:"Limit when it was raised"`
	Display        string     `json:"display,omitempty" doc:"Unit of the value and the limit, as people write it"`
	Now            *float64   `json:"now,omitempty" doc:"What is measured now, while it is open"`
	LimitNow       *float64   `json:"limit_now,omitempty" doc:"The limit now, while it is open"`
	Times          int        `json:"times" doc:"How often it came up before somebody acknowledged"`
	RaisedAt       time.Time  `json:"raised_at"`
	ReturnedAt     *time.Time `json:"returned_at,omitempty"`
	AcknowledgedAt *time.Time `json:"acknowledged_at,omitempty"`
	AcknowledgedBy string     `json:"acknowledged_by,omitempty"`
	RespondBy      *time.Time `json:"respond_by,omitempty" doc:"By when somebody is to have acknowledged"`
	Comments       int        `json:"comments,omitempty" doc:"How many comments there are; the journal has them"`
	Shelved        *Shelf     `json:"shelved,omitempty" doc:"Until when it is shelved, by whom and why"`
	SuppressedBy   string     `json:"suppressed_by,omitempty" doc:"by design, or the rule and the group that suppress it"`
	Maintenance    string     `json:"maintenance,omitempty" doc:"The maintenance for which it is out of service"`
	Suppresses     int        `json:"suppresses,omitempty" doc:"How many alarms on members of its group it suppresses"`
	MayAcknowledge bool       `json:"may_acknowledge,omitempty" doc:"Whether there is something to acknowledge that whoever asks may acknowledge"`
	MayAct         bool       `json:"may_act,omitempty" doc:"Whether whoever asks may shelve it, comment on it and so on"`
}

// RuleVersion is a rule as it was put in force, or taken out, at a time.
type RuleVersion struct {
	ID      string    `json:"id"`
	At      time.Time `json:"at"`
	By      string    `json:"by"`
	Verb    string    `json:"verb" enum:"added,changed,removed"`
	Changed []string  `json:"changed" doc:"What differs from the version before, as 'deadband: 0 → 120'"`
	Rule    Rule      `json:"rule"`
}

// Shelf is until when the alarms of a rule on a device or group stand aside.
type Shelf struct {
	Rule    string    `json:"rule"`
	Subject string    `json:"subject" doc:"The device, or the group such as site=Kilnside"`
	By      string    `json:"by"`
	Why     string    `json:"why,omitempty"`
	At      time.Time `json:"at,omitzero"`
	Until   time.Time `json:"until"`
}

// Shelve asks for an alarm to stand aside until a time: for a while, or until then.
type Shelve struct {
	For   string     `json:"for,omitempty" maxLength:"40" doc:"For how long; 31 days at most" example:"2h"`
	Until *time.Time `json:"until,omitempty" doc:"Until when, instead"`
	Why   string     `json:"why,omitempty" maxLength:"1600" doc:"Why, for whoever comes next" example:"the probe is being cleaned"`
}

// Comment says something about an alarm.
type Comment struct {
	Text string `json:"text" maxLength:"8000" doc:"At most 2,000 characters"`
}

// AlarmActs asks for something to be done about many alarms.
type AlarmActs struct {
	Alarms []string   `json:"alarms" minItems:"1" maxItems:"5000" doc:"Their ids"`
	Act    string     `json:"act" enum:"acknowledge,shelve,unshelve,reset,comment"`
	For    string     `json:"for,omitempty" maxLength:"40" doc:"For how long they are shelved"`
	Until  *time.Time `json:"until,omitempty" doc:"Until when they are shelved"`
	Text   string     `json:"text,omitempty" maxLength:"8000" doc:"The comment, or why they are shelved"`
}

// AlarmActed is what became of one of them.
type AlarmActed struct {
	Alarm    string `json:"alarm"`
	State    string `json:"state,omitempty" doc:"Its state then; empty if nothing was done"`
	Response string `json:"response,omitempty" doc:"What to do about it, while it is open"`
	Error    string `json:"error,omitempty" doc:"Why nothing was done"`
}

// History is one metric of a device over time.
type History struct {
	Device string        `json:"device"`
	Metric string        `json:"metric"`
	From   time.Time     `json:"from"`
	To     time.Time     `json:"to"`
	Step   string        `json:"step" doc:"Width of a step"`
	Steps  []HistoryStep `json:"steps" doc:"In order of time; a gap has no steps"`
}

// HistoryStep sums up the readings of one step.
type HistoryStep struct {
	At    time.Time `json:"at" doc:"Start of the step"`
	Count int       `json:"count" doc:"How many readings fell into it"`
	Min   float64   `json:"min" doc:"Least value; 0 for texts"`
	Max   float64   `json:"max" doc:"Greatest value; 0 for texts"`
	Mean  float64   `json:"mean" doc:"Mean of the readings; 0 for texts"`
	Last  any       `json:"last" doc:"Value of the last reading"`
}

// Point is one stored reading.
type Point struct {
	At      time.Time `json:"at"`
	Value   any       `json:"value"`
	Quality []string  `json:"quality,omitempty"`
}

// Readings are single readings of a metric.
type Readings struct {
	Device   string  `json:"device"`
	Metric   string  `json:"metric"`
	Readings []Point `json:"readings"`
	More     bool    `json:"more" doc:"True if the limit cut the answer; ask again from the last time"`
	Note     string  `json:"note,omitempty" doc:"What could not be read"`
}

// Events of the live stream.
type (
	// Whole carries every device that the stream is about, in parts if they are many.
	Whole struct {
		Devices []Device `json:"devices"`
		More    bool     `json:"more,omitempty" doc:"A further part follows; only the last has a cursor"`
	}
	// Changes carry what is other than it was.
	Changes struct {
		Devices []Device         `json:"devices" doc:"Whole: each takes the place of what was known of it"`
		Patches []map[string]any `json:"patches" doc:"What is other of a device that was told before, as a merge patch (RFC 7396) with its id"`
		Gone    []string         `json:"gone" doc:"Devices for which the condition of the stream is not true any more"`
	}
	// Happened tells that something was done, so that what shows it is asked for
	// again. Unlike the journal it may leave something out.
	Happened struct {
		Facts []Happening `json:"facts"`
	}
	// Happening is one fact without its content.
	Happening struct {
		Kind   string `json:"kind"`
		Device string `json:"device,omitempty"`
		Alarm  string `json:"alarm,omitempty"`
		Rule   string `json:"rule,omitempty"`
	}
	// Matched tells for which devices a condition is true: those that are new, and
	// those for which it is not any more.
	Matched struct {
		Of      int      `json:"of" doc:"Which condition, by its place among those that were asked for"`
		Devices []string `json:"devices"`
		Gone    []string `json:"gone"`
		Wrong   string   `json:"wrong,omitempty" doc:"Why the condition is none; nothing more is told of it then"`
	}
	// Pulse comes every two seconds, also when nothing changed.
	Pulse struct {
		Service Service `json:"service"`
	}
	// TrafficPassed carries messages that passed in the traffic.
	TrafficPassed struct {
		Entries []traffic.Entry `json:"entries"`
	}
)

// The types that need no form of their own on the API.
type (
	// Rule is an alarm rule.
	Rule = rule.Rule
	// Maintenance says when devices are out of service.
	Maintenance = maintenance.Maintenance
	// Site is a place where devices are.
	Site = site.Site
	// Finding is one thing wrong, and where.
	Finding = model.Finding
	// TrafficEntry is one raw message.
	TrafficEntry = traffic.Entry
)

// Document is one of the documents for users.
type Document struct {
	Name  string `json:"name"`
	Title string `json:"title"`
	Text  string `json:"text,omitempty" doc:"Markdown; left out in the list"`
}

// RuleCount says how often a rule has raised alarms.
type RuleCount struct {
	Rule   string `json:"rule"`
	Open   int    `json:"open" doc:"Alarms that are open now"`
	Raised int    `json:"raised" doc:"Alarms that were raised since"`
}

// JournalEntry is one thing that happened: a fact, told as a sentence.
type JournalEntry struct {
	Number  int64           `json:"number" doc:"In the order in which things were stored, from 1; there are gaps only where old entries were deleted"`
	At      time.Time       `json:"at" doc:"When it happened"`
	Kind    string          `json:"kind" doc:"What happened" example:"alarm raised"`
	Device  string          `json:"device,omitempty" doc:"Device it is of"`
	Group   string          `json:"group,omitempty" doc:"Group of devices it is of" example:"site=Kilnside"`
	Alarm   string          `json:"alarm,omitempty" doc:"Alarm it is about"`
	Rule    string          `json:"rule,omitempty" doc:"Rule it is about"`
	Person  string          `json:"person,omitempty" doc:"Who did it: a person, or key and its name"`
	From    string          `json:"from,omitempty" doc:"Address that they asked from"`
	Text    string          `json:"text" doc:"What happened, in one sentence"`
	Content json.RawMessage `json:"content,omitempty" doc:"The same for programs; its members depend on the kind"`
}

// AsOf is what was so at a past moment.
type AsOf struct {
	At      time.Time    `json:"at"`
	Devices []DeviceThen `json:"devices" doc:"By id; groups with an open alarm are among them"`
}

// DeviceThen is a device, or a group, at a past moment.
type DeviceThen struct {
	ID       string                 `json:"id"`
	Status   string                 `json:"status,omitempty"`
	Model    string                 `json:"model,omitempty"`
	Version  string                 `json:"version,omitempty" doc:"Of the model"`
	Firmware string                 `json:"firmware,omitempty" doc:"What it had reported as its firmware"`
	Link     string                 `json:"link,omitempty" doc:"online or silent; absent before the first reading"`
	LinkedAt *time.Time             `json:"linked_at,omitempty" doc:"Since when"`
	Labels   map[string]string      `json:"labels"`
	Settings map[string]SettingThen `json:"settings" doc:"As rules saw them: applied, before the first confirmation intended"`
	Alarms   []AlarmThen            `json:"alarms"`
	Later    bool                   `json:"later,omitempty" doc:"It was onboarded after that moment, and has readings of then that were imported; labels and model are those of now"`
	Latest   map[string]Latest      `json:"latest,omitempty" doc:"The newest readings then; where one device is asked about, or metrics are named"`
}

// SettingThen is what a setting was.
type SettingThen struct {
	Value any       `json:"value"`
	Since time.Time `json:"since"`
}

// AlarmThen is an alarm that was open.
type AlarmThen struct {
	ID    string    `json:"id"`
	Rule  string    `json:"rule"`
	State string    `json:"state"`
	Since time.Time `json:"since" doc:"When it came into that state"`
}

// SettingsJob changes the settings of many devices.
type SettingsJob struct {
	ID      string         `json:"id"`
	By      string         `json:"by"`
	At      time.Time      `json:"at"`
	Set     map[string]any `json:"set,omitempty"`
	Unset   []string       `json:"unset,omitempty"`
	Devices int            `json:"devices" doc:"How many are changed"`
	Done    int            `json:"done" doc:"How many of them have been gone through"`
	Failed  int            `json:"failed" doc:"Of those, how many could not be changed any more"`
	EndedAt *time.Time     `json:"ended_at,omitempty" doc:"When it was done; absent while it is not"`
}

// SettingsOfMany changes the settings of many devices.
type SettingsOfMany struct {
	Devices []string       `json:"devices,omitempty" maxItems:"100000" doc:"Ids; those of the condition where not given"`
	Where   string         `json:"where,omitempty" maxLength:"65536" doc:"Devices for which this condition is true now"`
	Set     map[string]any `json:"set,omitempty" doc:"Values by name"`
	Unset   []string       `json:"unset,omitempty" doc:"Names to take off, so that what stands below holds again"`
	Until   *time.Time     `json:"until,omitempty" doc:"When what is set ends by itself; never if it is left out"`
	Preview bool           `json:"preview,omitempty" doc:"Only tell which devices it would be"`
}
