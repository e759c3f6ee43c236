package client

import (
	"context"
	"encoding/json"
	"net/http"
	"net/url"
	"time"
)

// Property is one metric, attribute or setting of a model.
type Property struct {
	Name            string    `json:"name"`
	Title           string    `json:"title,omitempty"`
	Description     string    `json:"description,omitempty"`
	Secret          bool      `json:"secret,omitempty" doc:"A setting that is kept sealed and shown to nobody: writeOnly in the model"`
	Role            string    `json:"role" enum:"telemetry,attribute,setting"`
	Type            string    `json:"type" enum:"number,integer,text,boolean,nothing" doc:"Nothing for values that are checked and not stored"`
	Unit            string    `json:"unit,omitempty" doc:"Symbol as in the model"`
	Display         string    `json:"display,omitempty" doc:"Unit as people write it"`
	Decimals        int       `json:"decimals" doc:"Digits after the point on screen; -1 where the model gives none"`
	Minimum         *float64  `json:"minimum,omitempty"`
	Maximum         *float64  `json:"maximum,omitempty"`
	Usual           []float64 `json:"usual,omitempty" doc:"Where the value lives on a good day"`
	Accept          []float64 `json:"accept,omitempty" doc:"What is physically possible; readings outside are refused"`
	Enum            []string  `json:"enum,omitempty"`
	Default         any       `json:"default,omitempty"`
	KeptByService   bool      `json:"kept_by_service,omitempty" doc:"A setting that lives in the service only"`
	Optional        bool      `json:"optional,omitempty" doc:"Not on every device"`
	Derived         string    `json:"derived,omitempty" doc:"The expression that computes it"`
	Component       string    `json:"component,omitempty" doc:"What of the device it belongs to, such as left for the left one of two jackets"`
	Tells           string    `json:"tells,omitempty" enum:"battery,signal,neither" doc:"What it tells of the device itself"`
	Retention       string    `json:"retention,omitempty" doc:"How long its readings are kept" example:"365d"`
	RollupRetention string    `json:"rollup_retention,omitempty" doc:"How long their roll-ups are kept" example:"1825d"`
	Says            string    `json:"says,omitempty" doc:"What a value may be, in words"`
}

// Affordance is a command or an event of a model.
type Affordance struct {
	Name        string `json:"name"`
	Title       string `json:"title,omitempty"`
	Description string `json:"description,omitempty"`
	Optional    bool   `json:"optional,omitempty" doc:"Not on every device"`
	Component   string `json:"component,omitempty" doc:"What of the device a command is for"`
	Data        string `json:"data" doc:"What goes with it, in words" example:"reference_cm, a number from 0 to 400 cm"`
	// Fields are the members of an object of single values, for a form.
	Fields  []InputField    `json:"fields,omitempty" doc:"What goes with it, member by member, where each is a single value"`
	Example json.RawMessage `json:"example,omitempty" doc:"Something that may go with it"`
	Output  string          `json:"output,omitempty" doc:"What a command gives back, in words"`
	Renews  bool            `json:"renews,omitempty" doc:"A command that has the device renew what lets it in"`
}

// InputField is one value that goes with a command or an event.
type InputField struct {
	Name     string   `json:"name"`
	Title    string   `json:"title,omitempty"`
	Type     string   `json:"type" enum:"number,integer,text,boolean"`
	Display  string   `json:"display,omitempty" doc:"Unit as people write it"`
	Minimum  *float64 `json:"minimum,omitempty"`
	Maximum  *float64 `json:"maximum,omitempty"`
	Enum     []any    `json:"enum,omitempty"`
	Required bool     `json:"required,omitempty"`
	Default  any      `json:"default,omitempty"`
}

// ModelVersion is one published version of a model.
type ModelVersion struct {
	Version  string    `json:"version"`
	LoadedAt time.Time `json:"loaded_at"`
	Devices  int       `json:"devices" doc:"Devices that were given it and are not retired"`
	Other    int       `json:"other" doc:"How many of them report another version"`
	Unfit    []string  `json:"unfit,omitempty" doc:"Rules that do not fit this version and do not watch its devices, each with the reason"`
}

// Model is one device type.
type Model struct {
	Name        string         `json:"name"`
	Title       string         `json:"title"`
	Description string         `json:"description,omitempty"`
	Version     string         `json:"version"`
	Interval    string         `json:"interval" doc:"How often a device is expected to report" example:"1min"`
	Additional  bool           `json:"additional,omitempty" doc:"Telemetry that the model does not name is taken as well"`
	Properties  []Property     `json:"properties"`
	Commands    []string       `json:"commands"`
	Actions     []Affordance   `json:"actions" doc:"The commands with their inputs"`
	Events      []Affordance   `json:"events"`
	Devices     int            `json:"devices" doc:"Devices of this model, in any version, that are not retired"`
	Other       int            `json:"other" doc:"How many of them report another version than they were given"`
	Versions    []ModelVersion `json:"versions" doc:"Every published version, the newest first"`
	Rules       []string       `json:"rules" doc:"Rules that watch its devices"`
	Open        []string       `json:"open,omitempty" doc:"Placeholders that are not filled in"`
	LoadedAt    time.Time      `json:"loaded_at"`
}

// PublishedModel is the answer to a model that was published.
type PublishedModel struct {
	Name    string `json:"name"`
	Version string `json:"version"`
	Changed bool   `json:"changed" doc:"False if exactly this was published already"`
}

// ModelText is a model that is being written.
type ModelText struct {
	Text   string                     `json:"text" doc:"A Thing Model, in JSON or YAML"`
	Format string                     `json:"format,omitempty" enum:"json,yaml" doc:"Worked out from the text where not given"`
	Parts  map[string]json.RawMessage `json:"parts,omitempty" doc:"Files that it refers to, by their names"`
}

// TextFinding is what is wrong with a text, with its place.
type TextFinding struct {
	Line     int    `json:"line" doc:"From 1"`
	Column   int    `json:"column" doc:"From 1"`
	Severity string `json:"severity" enum:"error,warning"`
	Sentence string `json:"sentence"`
	Suggest  string `json:"suggest,omitempty" doc:"What to write there instead"`
}

// Change is one difference between two versions of a model.
type Change struct {
	Pointer  string `json:"pointer"`
	Weight   string `json:"weight" enum:"safe,careful,breaking"`
	Sentence string `json:"sentence"`
}

// ModelPreview is what publishing a text would do.
type ModelPreview struct {
	Findings []TextFinding   `json:"findings"`
	Model    *Model          `json:"model,omitempty" doc:"What the text says; not there while it is wrong"`
	Whole    json.RawMessage `json:"whole,omitempty" doc:"The Thing Model in JSON, with all that it refers to written out"`
	State    string          `json:"state" enum:"wrong,new,version,same,refused"`
	Refused  string          `json:"refused,omitempty" doc:"Why it may not be published as it is"`
	Before   string          `json:"before,omitempty" doc:"The newest published version"`
	Needs    string          `json:"needs,omitempty" doc:"The least version that its changes call for"`
	Changes  []Change        `json:"changes"`
	Devices  int             `json:"devices" doc:"Devices of this model"`
	Rules    []string        `json:"rules" doc:"Rules that would not fit any more, each with the reason"`
}

// Move asks for devices to be given another version of their model.
type Move struct {
	Version string   `json:"version,omitempty" doc:"Empty for the newest"`
	Devices []string `json:"devices,omitempty" doc:"Ids; empty for all that where chooses"`
	Where   string   `json:"where,omitempty" doc:"Selector; empty for every device of the model" example:"label.site == \"Kilnside\""`
	Preview bool     `json:"preview,omitempty" doc:"Say what would happen and change nothing"`
}

// Moved is what a Move did, or would do.
type Moved struct {
	Version string        `json:"version"`
	Devices []DeviceMoved `json:"devices"`
	Changes []Change      `json:"changes" doc:"What is different for them, from the oldest of their versions on"`
	Moved   bool          `json:"moved" doc:"False for a preview"`
	Change  string        `json:"change,omitempty" doc:"The change of many devices that this was, which can be undone"`
}

// DeviceMoved is one device of a Moved.
type DeviceMoved struct {
	Device   string   `json:"device"`
	From     string   `json:"from"`
	Reported string   `json:"reported,omitempty" doc:"The version that the device says it was built for"`
	Loses    []string `json:"loses" doc:"Settings of its override that the other version does not allow"`
}

// Job is work that takes a while.
type Job struct {
	ID        string    `json:"id"`
	Model     string    `json:"model"`
	Devices   int       `json:"devices" doc:"How many devices it is about"`
	Done      int       `json:"done" doc:"How many of them are finished"`
	Readings  int       `json:"readings" doc:"Readings that were stored"`
	StartedAt time.Time `json:"started_at"`
	EndedAt   time.Time `json:"ended_at,omitzero"`
	Error     string    `json:"error,omitempty" doc:"Why it ended before it was done"`
}

// Backfill asks for derived telemetry of the past to be computed.
type Backfill struct {
	Devices []string  `json:"devices,omitempty" doc:"Ids; empty for every device of the model"`
	Since   time.Time `json:"since,omitzero" doc:"How far back; everything where not given"`
}

// FolderFile is one file of a fleet folder.
type FolderFile struct {
	Path string `json:"path" doc:"Below the folder, with slashes"`
	Text string `json:"text,omitempty" doc:"What is in it, where that is text"`
	Data []byte `json:"data,omitempty" doc:"What is in it, where that is no text"`
}

// Folder is a fleet folder to be compared with the service or loaded.
type Folder struct {
	Files   []FolderFile `json:"files"`
	Preview bool         `json:"preview,omitempty" doc:"Compare only, change nothing"`
	AtOnce  bool         `json:"at_once,omitempty" doc:"Devices get what layers give at once, also where they are so many that it should go out in waves"`
}

// FolderItem is one thing of a folder, or of the service, and what it is to the other.
type FolderItem struct {
	Kind    string   `json:"kind" enum:"model,rule,site,layer"`
	Name    string   `json:"name"`
	File    string   `json:"file,omitempty" doc:"Path below the folder; empty for what is in the service only"`
	State   string   `json:"state" enum:"new,changed,same,service" doc:"Service: it is in the service and not in the folder, and stays"`
	Version string   `json:"version,omitempty" doc:"Of a model: the version in the folder"`
	Before  string   `json:"before,omitempty" doc:"Of a model: the newest version in the service"`
	Devices int      `json:"devices,omitempty" doc:"How many devices have the model"`
	Weight  string   `json:"weight,omitempty" enum:"safe,careful,breaking"`
	Changes []Change `json:"changes,omitempty"`
	Lines   []string `json:"lines,omitempty" doc:"Keys of a rule that differ"`
}

// FolderFinding is one thing wrong with a folder.
type FolderFinding struct {
	File     string `json:"file"`
	Line     int    `json:"line"`
	Column   int    `json:"column"`
	Severity string `json:"severity" enum:"error,warning"`
	Sentence string `json:"sentence"`
	Suggest  string `json:"suggest,omitempty"`
}

// FolderOutcome is what loading a folder did, or would do.
type FolderOutcome struct {
	Items    []FolderItem    `json:"items"`
	Changed  int             `json:"changed" doc:"How many models and rules are new or changed"`
	Loaded   bool            `json:"loaded" doc:"Whether they were put in force"`
	Findings []FolderFinding `json:"findings" doc:"What is wrong; with errors nothing is loaded"`
}

// Model returns one model, in its newest version or, as NAME@VERSION, in another.
func (c *Client) Model(ctx context.Context, name string) (Model, error) {
	return get[Model](ctx, c, "/models/"+url.PathEscape(name))
}

// ModelSource returns a model's file as it was published; with whole, all that
// it refers to is written out.
func (c *Client) ModelSource(ctx context.Context, name string, whole bool) (json.RawMessage, error) {
	q := ""
	if whole {
		q = "?whole=true"
	}
	return get[json.RawMessage](ctx, c, "/models/"+url.PathEscape(name)+"/source"+q)
}

// ModelPage returns the page for authors of firmware, as html or markdown.
func (c *Client) ModelPage(ctx context.Context, name, format, device string) ([]byte, error) {
	q := url.Values{"format": {format}, "device": {device}}
	return c.raw(ctx, "/models/"+url.PathEscape(name)+"/page?"+q.Encode())
}

// LoadModel publishes a Thing Model; parts are the files it refers to.
func (c *Client) PublishModel(ctx context.Context, src []byte,
	parts map[string]json.RawMessage) (PublishedModel, error) {
	if len(parts) == 0 {
		return send[PublishedModel](ctx, c, http.MethodPost, "/models", src)
	}
	body, err := json.Marshal(map[string]any{"model": json.RawMessage(src), "parts": parts})
	if err != nil {
		return PublishedModel{}, err
	}
	return send[PublishedModel](ctx, c, http.MethodPost, "/models", body)
}

// PreviewModel says what publishing a text would do.
func (c *Client) PreviewModel(ctx context.Context, t ModelText) (ModelPreview, error) {
	return send[ModelPreview](ctx, c, http.MethodPost, "/models/preview", t)
}

// MoveDevices gives devices of a model another version of it.
func (c *Client) MoveDevices(ctx context.Context, name string, m Move) (Moved, error) {
	return send[Moved](ctx, c, http.MethodPost, "/models/"+url.PathEscape(name)+"/move", m)
}

// BackfillModel computes derived telemetry of the past; Job tells how far it is.
func (c *Client) BackfillModel(ctx context.Context, name string, b Backfill) (Job, error) {
	return send[Job](ctx, c, http.MethodPost, "/models/"+url.PathEscape(name)+"/backfill", b)
}

// Job returns work that was begun since the service started.
func (c *Client) Job(ctx context.Context, id string) (Job, error) {
	return get[Job](ctx, c, "/jobs/"+url.PathEscape(id))
}

// StopJob ends work; what it has done stays.
func (c *Client) StopJob(ctx context.Context, id string) error {
	_, err := send[struct{}](ctx, c, http.MethodDelete, "/jobs/"+url.PathEscape(id), nil)
	return err
}

// Description returns the Thing Description of a device.
func (c *Client) Description(ctx context.Context, id string) (json.RawMessage, error) {
	return get[json.RawMessage](ctx, c, "/devices/"+url.PathEscape(id)+"/description")
}

// LoadFolder compares a fleet folder with the service and loads it.
func (c *Client) LoadFolder(ctx context.Context, f Folder) (FolderOutcome, error) {
	return send[FolderOutcome](ctx, c, http.MethodPost, "/folder", f)
}
