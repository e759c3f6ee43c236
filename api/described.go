package api

import (
	"strings"

	"github.com/danielgtaylor/huma/v2"
)

// tags are what operations are about, in the order of the work.
var tags = []*huma.Tag{
	{Name: "Access", Description: "Signing in and out. A program signs in once and sends the token as a bearer token; a browser has a cookie."},
	{Name: "People", Description: "Who may sign in, and what they may do."},
	{Name: "Models", Description: "Device types as W3C Thing Models: publishing, comparing, moving devices from version to version, and the fleet folder."},
	{Name: "Devices", Description: "Devices as they are now, onboarding them, and what people say about them."},
	{Name: "Joining", Description: "Keys with which devices join by themselves, and who asked to."},
	{Name: "Readings", Description: "What devices measured: single readings, steps over time, statistics, forecasts, import and export."},
	{Name: "Expressions", Description: "Checking, completing and explaining conditions, and finding devices with them."},
	{Name: "Rules", Description: "Alarm rules: when an alarm is raised, when it returns, and what to do."},
	{Name: "Alarms", Description: "What rules have raised."},
	{Name: "Settings", Description: "What devices should obey, and what they confirm."},
	{Name: "Commands", Description: "What devices are told to do, once."},
	{Name: "Traffic", Description: "Raw messages as they passed, with what became of each."},
	{Name: "Journal", Description: "What happened, and what was so at a past moment."},
	{Name: "Service", Description: "The service itself: its health, its store, its documents, and the live stream."},
}

// described says of each operation what its summary has no room for.
var described = map[string]string{
	"alarms":                "Open alarms are those that are not normal again and acknowledged. Pages go from the newest to older ones; the address of the next one is in the Link header. While an alarm is open, what is measured now stands beside what was measured when it was raised.",
	"alarm-counts":          "One entry for each rule that has raised an alarm in the time asked for, or has one open.",
	"acknowledge-alarm":     "Says that somebody has seen it. An alarm that returned before is normal then; one that still holds stays, acknowledged. To acknowledge it once more changes nothing.",
	"as-of":                 "Links, alarms, labels, settings and versions by the time they were in force, and readings by their own time. It goes back as far as that is kept, usually 400 days.",
	"commands":              "Of one device or of all, also those that have ended. Pages go from the newest to older ones; the address of the next one is in the Link header.",
	"devices":               "What is shown is kept up to date by events, so that asking costs no search in the store. A condition, a health, a model and labels narrow the list; brief leaves out what lists do not show.",
	"create-device":         "The device may connect at once with the token. Nobody can see the token again, since only a hash of it is kept; a lost one is replaced by a new one.",
	"device":                "With its latest readings, attributes, margins to the limits of rules, open alarms, and why its health is what it is.",
	"invite-person":         "The link is shown this once; give it to them. It may be used once, within seven days, and replaces one of before. For somebody who has a password it is the way to another one; theirs holds until then.",
	"invitation":            "Without using it up. The secret is what stands behind the # of the link.",
	"activate":              "Uses the invitation up, and ends the sign-ins that the person has. Then they sign in.",
	"change-password":       "The old one must be right. Other sign-ins of the person end; the one that asks goes on.",
	"sessions":              "One's own, the newest first; an owner may ask for those of others.",
	"end-session":           "What is open with it, such as a live page, ends within a second. Everybody may end their own, an owner those of others.",
	"begin-second-factor":   "The answer is for an app that makes codes after RFC 6238; it counts for nothing until one of its codes has come, within a quarter of an hour.",
	"confirm-second-factor": "From then on a sign-in needs a code of the app too. The recovery codes work once each in its place and are shown this once. Other sign-ins of the person end.",
	"drop-second-factor":    "Needs the password and a code.",
	"remove-second-factor":  "For a phone that is lost. Their sign-ins end.",
	"sign-in-ways":          "With a password always; with the identity of another provider where one is set up.",
	"sign-on":               "OpenID Connect with PKCE. For browsers: the answer sends them to the provider, and a cookie binds what comes back to them.",
	"sign-on-return":        "Checks what the provider says, and sends the browser on to the console, signed in, or to where it says why not.",
	"me":                    "401 says that nobody is. With what they may do and for which devices. A sign-in that has half of its time behind it holds for the whole of it again.",
	"put-start":             "One's own page stands before that of a team. An owner sets that of others with the person.",
	"make-key":              "A program sends it as a bearer token, and can do nothing that needs an owner. Only its hash is kept; a lost one is replaced by another.",
	"change-devices":        "It is decided at once and done device by device; it goes on where it stopped if the service is stopped meanwhile. The answer tells how far it is. With preview nothing changes.",
	"device-changes":        "The latest fifty, to be undone.",
	"undo-devices":          "Each device gets back what the change has changed, but for what somebody has changed again since. Devices that were retired stay so.",
	"make-join-key":         "Devices send POST /device/v1/join with the secret of their serial, or enrol by EST. Nobody can see the secret of the whole key again; those of serials can be had whenever they are needed.",
	"revoke-join-key":       "Nobody joins with it any more, from now on. Devices that have joined stay.",
	"join-labels":           "Each is made of the secret of the key, so that one opened device gives nothing else away. Handle them as passwords.",
	"join-sheet":            "One HTML document, which prints on A4 and fetches nothing. The code holds a JSON object with serial and secret.",
	"decide-joins":          "All or none. A device that is let in gets its credential when it asks again; where there was a device of that serial already, its older credentials end then. With preview nothing changes.",
	"preview-access":        "As it is now; a device that gets or loses a label comes and goes by itself. A comparison with a label that a device lacks reaches nothing.",
	"explain-access":        "Each grant, their own and those of their teams, with what it looks at. Everybody may ask about themselves, an owner about others.",
	"change-device":         "Only the members that are sent are changed. The id of a device never changes.",
	"give-command":          "The input is checked against the model before. A device that is away gets it when it is back, unless it has expired by then; wait says how long the answer waits for the device to reply.",
	"withdraw-command":      "A command that waits is not handed over any more. One that was handed over may still be done by the device; what it then replies is noted.",
	"command":               "With its phase, and what the device replied.",
	"description":           "The model of the device, resolved, with its own id and the addresses at which its properties, actions and events can be used.",
	"device-events":         "The stream begins now and has no past; the journal has. It ends when the session or the service does.",
	"history":               "A step is drawn from roll-ups where those reach, so that years cost little. Numbers only; single readings have their own call.",
	"invoke":                "Waits for the reply as long as the command may take. Where the device fails, the answer says so with its reason; where it does not reply in time, the command may still be done later.",
	"label-device":          "A label with an empty text is removed. Rules and conditions see the change at once.",
	"delete-readings":       "They are gone for good, with what was summed up of them; the journal tells who did it. Ask with dry_run first to see how many there are. Retention, which throws away what is too old, is another matter.",
	"readings":              "In order of time, as they were stored, with the marks of their quality. Where there are more than the limit, the answer says so, and the time of the last one is where to go on.",
	"settings":              "Each with where its value comes from, what the device confirmed, and what it refused, with its reason.",
	"change-settings":       "A value is checked against the model. It is sent out at once; until the device confirms it, it is pending. To take an override off, name it in remove.",
	"set-status":            "A suspended or retired device is cut off at once. Its readings stay. Retired is for good.",
	"new-credential":        "The ones before stop working at once, unless keep says that they work on.",
	"credentials":           "Nothing of what is secret is among it.",
	"revoke-credential":     "Open connections that came in with it end within a second.",
	"values":                "One member for each property of the model that has a value, by its name, without times and units: what W3C clients read as all properties.",
	"value":                 "The value alone, as JSON.",
	"set-value":             "The body is the value alone, as JSON. It is an override of the device, checked against the model.",
	"documents":             "What the console shows under Documents.",
	"document":              "As it was written for this version of the service.",
	"export":                "Rows come as they are read, so that an export of any size takes little memory. CSV and wide guard text that a spreadsheet would take as a formula; raw leaves that out. What could not be read is told in a trailer.",
	"check-expression":      "Every mistake at once, each with its place and what to write instead; the canonical form; the names and functions that fit at the cursor.",
	"explain-expression":    "The tree of the expression with the value of each part, its margin, and the headspace that follows from it. With a time it is worked out from the history as it was then.",
	"expression-help":       "What editors show beside the text.",
	"matching-devices":      "A device for which the condition is unknown is not among them.",
	"load-folder":           "With dry_run it only compares. Everything is checked first; then all changes are in force, in one commit, or none.",
	"forecast":              "The method is chosen by going back over the metric's own history and forecasting it from many moments; the band is taken from the errors that were made there. It begins at the newest reading.",
	"import":                "The file is read as it comes and stored in parts. Each row keeps its own time. What is refused is counted, the first hundred with line and reason; the others stay. With evaluate, rules judge what comes and the journal tells.",
	"stop-job":              "What it has done until then stays done.",
	"job":                   "Work that was begun since the service started.",
	"journal":               "Entries are facts, told as sentences. Pages go from the newest to older ones; the address of the next one is in the Link header.",
	"journal-after":         "A program keeps the number of the last entry it has dealt with and asks for what is behind it. Where some are not kept any more the answer is 410 with the first number that is.",
	"journal-kinds":         "For filters and their completion.",
	"models":                "The newest version of each, with its properties, actions and events.",
	"load-model":            "A version that was published never changes; a text that differs needs a new version. What is wrong with it is told with JSON Pointers.",
	"model-from-message":    "Names, types, units and decimals are guessed from one or more messages that a device sends.",
	"preview-model":         "The mistakes of the text, what differs from the version before, and which devices a move would touch.",
	"model":                 "Also by name@version. Deprecated versions say since when.",
	"backfill-model":        "Values that are there already are computed anew. It goes on in the background, some devices at a time.",
	"model-examples":        "Made from the model: readings in range, attributes, settings with their answers, commands with their replies.",
	"move-devices":          "With dry_run it only says which devices would be moved and what changes for each.",
	"model-page":            "Topics, payloads, units and ranges of the model, for one device or for any, as HTML or Markdown, to be handed on.",
	"model-source":          "Byte by byte as it was published; parts that it refers to are named in it.",
	"query":                 "Lines come as they are worked out. How much is asked for is bounded; where something is left out, or could not be read, the answer says so in a note.",
	"schema":                "Editors that know JSON Schema complete and check files with it.",
	"service":               "Version, addresses, rates, and what needs attention.",
	"change-many-settings":  "The devices are those for which a condition is true at this moment. With dry_run it only says which they are and what would change. It goes on in the background and survives a restart.",
	"settings-job":          "How many devices are done, and how many have confirmed.",
	"sign-in":               "Wrong passwords are slowed down by person and by address, without keeping out the right one.",
	"sign-out":              "Its token and its cookie stop working, and its live streams end.",
	"statistics":            "Over single readings where there are few enough, or else over steps; the answer says of how many.",
	"store":                 "Bytes by what they hold, readings in the store, and what was found damaged.",
	"backup":                "Everything as it is at one moment. It can be read while it is written.",
	"traffic":               "The latest messages, kept in memory and bounded in number and bytes. Secrets are not in it.",
}

// describe names an operation, and says what it is about; what described does not
// say is given.
func describe(id, summary, tag string, says ...string) func(*huma.Operation) {
	return func(o *huma.Operation) {
		o.OperationID, o.Summary, o.Tags = id, summary, []string{tag}
		o.Description = described[id] + strings.Join(says, " ")
		o.Errors = append(o.Errors, 401, 403)
	}
}
