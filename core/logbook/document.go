// Package logbook stores runs: the run document, and the database in which a run is kept while
// it grows.
package logbook

import (
	"encoding/json"
	"slices"
	"time"

	"vividstrain/core/load"
	"vividstrain/core/search"
	"vividstrain/core/sense"
	"vividstrain/core/tally"
	"vividstrain/core/verdict"
)

// Schema identifies the form of the run document.
const Schema = "vividstrain.run/1"

// Document is the record of one run (docs/run-document.md).
type Document struct {
	Schema     string           `json:"schema"`
	ID         string           `json:"id"`
	Name       string           `json:"name,omitempty"` // given by the user
	Tags       []string         `json:"tags,omitempty"`
	Sets       []string         `json:"sets,omitempty"` // of runs that belong together, such as a review
	Kind       string           `json:"kind"`
	Complete   bool             `json:"complete"`
	Started    time.Time        `json:"started"`
	Ended      *time.Time       `json:"ended,omitempty"`
	Tool       Tool             `json:"tool"`
	Repeat     *Repeat          `json:"repeat,omitempty"` // one of several runs of the same
	Device     Device           `json:"device"`
	Route      Route            `json:"route"`
	Ladder     string           `json:"ladder"`
	Criteria   verdict.Criteria `json:"criteria"`
	Plan       Plan             `json:"plan"`
	Conditions Conditions       `json:"conditions"`
	Baseline   Baseline         `json:"baseline"`
	After      *Baseline        `json:"after,omitempty"` // the idle device again, after the last rung
	Rungs      []Rung           `json:"rungs"`
	Ceiling    *Ceiling         `json:"ceiling" jsonschema:"nullable"`
	Crowd      *Crowd           `json:"crowd,omitempty"`      // result of a crowd
	Conversion *Conversion      `json:"conversion,omitempty"` // result of a conversion
	Map        []MapField       `json:"map,omitempty"`        // result of a map
	Notes      []string         `json:"notes"`
	Recording  string           `json:"recording,omitempty"` // in which the frames that were shown were counted afterwards
	Doubts     []verdict.Doubt  `json:"doubts,omitempty"`    // those notes that make the result doubtful, and what to do about them
	Remarks    []Remark         `json:"remarks,omitempty"`   // remarks by people, in order of time
	Gaps       []Gap            `json:"gaps,omitempty"`      // times in which a sensor failed
	Readings   []Reading        `json:"readings,omitempty"`  // all of them, in order of time; only in an exported document
	ResumedAt  []time.Time      `json:"resumed_at,omitempty"`
}

// NewWatch returns a document for readings without a ladder: all of them are in its baseline.
func NewWatch(started time.Time, version string) *Document {
	return &Document{Schema: Schema, ID: NewID(started), Kind: "watch", Started: started.UTC(), Tool: Tool{Version: version},
		Device: Device{Name: "this computer", Spec: map[string]string{}}, Route: Route{Kind: "none", Options: map[string]string{}},
		Plan: Plan{Columns: []load.Column{}}, Rungs: []Rung{}, Notes: []string{}, Criteria: verdict.Default()}
}

// NoteGaps adds the times in which sensors failed.
func (d *Document) NoteGaps(gaps []sense.Gap) {
	for _, g := range gaps {
		gap := Gap{Kind: g.Source.Kind, Source: g.Source.Name, FromS: g.From.Sub(d.Started).Seconds(), Reason: g.Reason}
		if !g.To.IsZero() {
			to := g.To.Sub(d.Started).Seconds()
			gap.ToS = &to
		}
		d.Gaps = append(d.Gaps, gap)
	}
}

// Conversion is how fast a device converts a file.
type Conversion struct {
	File    string  `json:"file"`
	Source  string  `json:"source"` // format of the video: "h264 1080p30"
	Goal    string  `json:"goal"`
	Copies  int     `json:"copies"`   // at once
	LengthS float64 `json:"length_s"` // of the film
	// AheadS is how far each copy ran ahead of its viewer at most; 0: as fast as it could.
	AheadS float64 `json:"ahead_s,omitempty"`
	// Library is the folder whose films would be converted, with their number and length.
	Library  string          `json:"library,omitempty"`
	Films    int             `json:"films,omitempty"`
	LibraryS float64         `json:"library_s,omitempty"`
	Tries    []ConversionTry `json:"tries"`
}

// ConversionTry is one time that a file was converted.
type ConversionTry struct {
	TookS      float64 `json:"took_s"`
	MediaS     float64 `json:"media_s"` // of one copy
	Bytes      int64   `json:"bytes"`   // of one copy
	BitrateBPS float64 `json:"bitrate_bps"`
	Speed      float64 `json:"speed"`        // media seconds per second, of the slowest copy
	CPUPct     float64 `json:"cpu_core_pct"` // 100: one core
	PeakBytes  int64   `json:"peak_bytes"`   // growth of memory, of all copies
}

// Speed returns the lowest and the highest speed of the tries, 0 without any.
func (c *Conversion) Speed() (least, most float64) {
	for i, t := range c.Tries {
		if i == 0 || t.Speed < least {
			least = t.Speed
		}
		most = max(most, t.Speed)
	}
	return least, most
}

// NewDocument returns the document of a run of a kind that puts no load on a route.
func NewDocument(kind string, started time.Time, version string) *Document {
	d := NewWatch(started, version)
	d.Kind = kind
	return d
}

// Repeat says that a run is one of several of the same.
type Repeat struct {
	Of     string `json:"of"`     // what the ids of all of them begin with
	Number int    `json:"number"` // from 1
	Runs   int    `json:"runs"`   // how many were planned
}

// Tool is the program that measured.
type Tool struct {
	Version       string  `json:"version"`
	InstrumentCPU float64 `json:"instrument_cpu_pct"` // use of one core by sampling, in percent
	LateSamples   int     `json:"late_samples"`       // rounds of readings that began more than half an interval late
}

// Device is the hardware under test.
type Device struct {
	Name     string            `json:"name"`
	Identity string            `json:"identity,omitempty"` // recognises the device in another run
	Spec     map[string]string `json:"spec"`
	Facts    map[string]string `json:"facts,omitempty"` // stated by the user: price, version, cooling...
}

// Route is how the load reached the device.
type Route struct {
	Kind    string            `json:"kind"`
	Options map[string]string `json:"options"`
}

// oldKinds maps the words of routes in earlier documents to today's.
var oldKinds = map[string]string{"standin": "simulated"}

// UnmarshalJSON also reads the words that routes had in earlier documents.
func (r *Route) UnmarshalJSON(text []byte) error {
	type plain Route
	if err := json.Unmarshal(text, (*plain)(r)); err != nil {
		return err
	}
	if kind, old := oldKinds[r.Kind]; old {
		r.Kind = kind
	}
	return nil
}

// Plan is what a run was told to do: all that is needed to resume it.
type Plan struct {
	HoldS     float64 `json:"hold_s"`
	SettleS   float64 `json:"settle_s"`
	BaselineS float64 `json:"baseline_s"`
	RestS     float64 `json:"rest_s,omitempty"`   // the longest wait between attempts
	Adaptive  bool    `json:"adaptive,omitempty"` // the rungs of a column are qualities of one film
	All       bool    `json:"all"`                // go on after two rungs that are not smooth
	Once      bool    `json:"once,omitempty"`     // there were no second attempts
	Quick     bool    `json:"quick,omitempty"`    // rungs were passed over that should be smooth if the ladder is in order
	// RefinePct is how near the limit is closed in on between the ceiling and the next rung, in
	// percent; 0: it is not.
	RefinePct float64 `json:"refine_pct,omitempty"`
	// Sensors are the addresses of meters that were read beside the device's own sensors,
	// without credentials.
	Sensors      []string      `json:"sensors,omitempty"`
	SensorsToken bool          `json:"sensors_token,omitempty"` // they were asked with a token
	Columns      []load.Column `json:"columns"`
	// Goals are the columns of a matrix of sources and goals; nil: the columns are a ladder's.
	Goals []string `json:"goals,omitempty"`
	// Files are the files to play on those rungs that are not just any clip, by the rung's index
	// from 0.
	Files map[int]string `json:"files,omitempty"`
	Crowd *CrowdPlan     `json:"crowd,omitempty"`
}

// CrowdPlan is what a crowd was told to do.
type CrowdPlan struct {
	Mix         []load.Load `json:"mix"` // what is multiplied
	Files       []string    `json:"files,omitempty"`
	Most        int         `json:"most"`
	ReservePct  float64     `json:"reserve_pct"`
	Need        int         `json:"need,omitempty"`
	NeedReserve bool        `json:"need_reserve,omitempty"` // the need is met only if the reserve is left
	StaggerS    float64     `json:"stagger_s"`
	Spread      bool        `json:"spread"`            // streams begin at different places of the film
	Numbers     []int       `json:"numbers,omitempty"` // multiples of the mix that were tried, one per rung
}

// Crowd is how many streams a device can play.
type Crowd struct {
	Highest int `json:"highest"` // multiple of the mix that is smooth for every viewer; 0: none
	Streams int `json:"streams"` // number of streams in that
	// Comfortable is the multiple of the mix that leaves the reserve of the limiter; null where
	// it is not known, for the reason in ComfortableWhy.
	Comfortable    *int            `json:"comfortable" jsonschema:"nullable"`
	ComfortableWhy string          `json:"comfortable_why,omitempty"`
	Confirmed      bool            `json:"confirmed"`
	Limiter        verdict.Limiter `json:"limiter"` // what ran out; empty: the limit was not reached
	Evidence       string          `json:"evidence,omitempty"`
	Next           int             `json:"next,omitempty"` // the lowest number that is not smooth
	NextVerdict    verdict.Grade   `json:"next_verdict,omitempty"`
	NextReason     string          `json:"next_reason,omitempty"`
	Headroom       *float64        `json:"headroom_pct" jsonschema:"nullable"`
	HeadroomOf     verdict.Limiter `json:"headroom_of,omitempty"`
	Predicted      *Prediction     `json:"predicted,omitempty"`        // from the first numbers
	CostCPU        *float64        `json:"cost_core_pct,omitempty"`    // cost of one more mix in real time, 100: one core
	CostMemory     *float64        `json:"cost_mem_bytes,omitempty"`   // cost of one more mix
	Met            *bool           `json:"met,omitempty"`              // whether the need is met
	WithReserve    *bool           `json:"met_with_reserve,omitempty"` // whether it is met with the reserve left; absent where not known
}

// UnmarshalJSON also reads earlier documents, in which the cost of a mix had no unit in its
// name, and the comfortable number was 0 where it was not known.
func (c *Crowd) UnmarshalJSON(text []byte) error {
	type plain Crowd
	old := struct {
		*plain
		CostCPU *float64 `json:"cost_cpu_pct"`
	}{plain: (*plain)(c)}
	if err := json.Unmarshal(text, &old); err != nil {
		return err
	}
	if old.CostCPU != nil && c.CostCPU == nil {
		c.CostCPU = old.CostCPU
	}
	return nil
}

// Prediction is the number of streams expected from the readings with few streams.
type Prediction struct {
	From    int             `json:"from"`   // multiple of the mix that it is based on
	Number  int             `json:"number"` // multiple of the mix that fits
	Limiter verdict.Limiter `json:"limiter"`
}

// Baseline is the readings of the idle device, before the first rung or after
// the last.
type Baseline struct {
	FromS    float64   `json:"from_s"`         // seconds since the run started
	ToS      float64   `json:"to_s,omitempty"` // 0: it was interrupted
	CPUPct   float64   `json:"cpu_pct"`
	MemUsed  float64   `json:"mem_used_bytes"`
	Readings []Reading `json:"readings"`
}

// Conditions are the state of the device when the run began, and what of it makes the result
// doubtful.
type Conditions struct {
	Facts    map[string]string `json:"facts,omitempty"` // governor, supply, ...
	Warnings []string          `json:"warnings,omitempty"`
	Remedies []string          `json:"remedies,omitempty"` // what to do about each warning
	Absent   []sense.Absence   `json:"absent,omitempty"`   // what could not be read, and why
}

// Remark is an observation by a person.
type Remark struct {
	At       time.Time          `json:"at"`
	AtS      float64            `json:"at_s"` // seconds since the run started
	Kind     RemarkKind         `json:"kind"`
	Text     string             `json:"text,omitempty"`
	Readings map[string]float64 `json:"readings,omitempty"` // by quantity
	Load     string             `json:"load,omitempty"`     // being played at that time
}

// RemarkKind is the kind of a remark.
type RemarkKind string

// The kinds of remarks.
const (
	Note    RemarkKind = "note"
	Stutter RemarkKind = "stutter" // stutter was seen
	Picture RemarkKind = "picture" // a fault of the picture was seen
)

// Gap is a time in which a sensor failed.
type Gap struct {
	Kind   string   `json:"kind,omitempty"` // of the source, absent in older documents
	Source string   `json:"source"`
	FromS  float64  `json:"from_s"`                     // seconds since the run started
	ToS    *float64 `json:"to_s" jsonschema:"nullable"` // null: up to the end
	Reason string   `json:"reason"`
}

// Reading is one value at one time.
type Reading struct {
	AtS      float64 `json:"at_s"`           // seconds since the run started
	Kind     string  `json:"kind,omitempty"` // of the source, absent in older documents
	Source   string  `json:"source"`
	Quantity string  `json:"quantity"` // followed by a colon and its label, if it has one
	Value    float64 `json:"value"`
	Phase    Phase   `json:"phase,omitempty"`
}

// Phase is what the run was doing at a reading.
type Phase string

// The phases.
const (
	Idle      Phase = "idle"    // the device before the first rung
	Preparing Phase = "prepare" // clips were being made
	Trying    Phase = "attempt"
	Resting   Phase = "rest"
	Afterward Phase = "after" // the idle device after the last rung
)

// Rung is one load of the ladder and the attempts at it.
type Rung struct {
	Load     load.Load   `json:"load"`
	File     string      `json:"file,omitempty"` // the file that is played
	Column   string      `json:"column"`
	Order    int         `json:"order"`         // place in its column, from 1
	Mix      []load.Load `json:"mix,omitempty"` // all loads of a crowd with several
	Attempts []Attempt   `json:"attempts"`
}

// Attempt is one attempt at a rung.
type Attempt struct {
	Purpose   search.Purpose    `json:"purpose"`
	Started   time.Time         `json:"started"`
	Ended     time.Time         `json:"ended,omitzero"`
	Verdict   verdict.Grade     `json:"verdict"`
	Void      verdict.VoidCause `json:"void,omitempty"` // why a void attempt says nothing about the device
	Reasons   []string          `json:"reasons"`
	HoldS     float64           `json:"hold_s,omitempty"`                    // how long it was held, if longer than planned
	ClipBPS   int64             `json:"clip_bitrate_bps,omitempty"`          // bitrate of its clip, if not as ordered
	Clip      string            `json:"clip_sha256,omitempty"`               // of its clip, if it was made
	Marks     *tally.Marks      `json:"marks,omitempty"`                     // of its clip's pictures
	Limiter   verdict.Limiter   `json:"limiter"`                             // empty for a smooth attempt
	Evidence  string            `json:"evidence,omitempty"`                  // for the limiter
	Decode    string            `json:"decode"`                              // hardware, software, unknown, or none where the device does not decode
	StartS    *float64          `json:"start_delay_s" jsonschema:"nullable"` // from the request to the first picture; null where not known
	Speed     *float64          `json:"speed,omitempty"`                     // media seconds per second, where frames could not be counted
	Frames    *tally.Frames     `json:"frames" jsonschema:"nullable"`        // steady window of the worst stream; null where frames could not be counted
	Buffer    *tally.Buffer     `json:"buffer" jsonschema:"nullable"`        // of the worst stream
	Jumps     []tally.Seek      `json:"jumps,omitempty"`                     // of the worst stream, where there is no buffer that has them
	Windows   []tally.Window    `json:"windows"`                             // of the worst stream
	Streams   []tally.Frames    `json:"streams,omitempty"`                   // steady window of each, where there are several, 100 at most
	Worst     string            `json:"worst,omitempty"`                     // load of the worst stream, where there are several
	Delivered *tally.Delivered  `json:"delivered,omitempty"`                 // what a server sent for the worst stream
	Promise   *tally.Promise    `json:"promise,omitempty"`                   // what the only device promised beforehand
	Early     []tally.Early     `json:"early,omitempty"`                     // the first 15, 30 and 60 seconds of the worst stream
	Devices   []DevicePart      `json:"devices,omitempty"`                   // of several devices at the same time
	Adaptive  *tally.Adaptive   `json:"adaptive,omitempty"`                  // which of several qualities the device chose
	Checked   *int              `json:"checked,omitempty"`                   // pictures that were checked by their marks
	Watching  *tally.Watching   `json:"watching,omitempty"`                  // how the screen was watched
	Notes     []string          `json:"notes,omitempty"`                     // what else there is to say about it
	Use       sense.Use         `json:"use"`                                 // readings of the steady window
}

// DevicePart is what one of several devices did in an attempt.
type DevicePart struct {
	Device  string         `json:"device"`
	Verdict verdict.Grade  `json:"verdict"`
	Reasons []string       `json:"reasons"`
	Frames  *tally.Frames  `json:"frames" jsonschema:"nullable"` // steady window of its worst stream
	Promise *tally.Promise `json:"promise,omitempty"`            // what it promised beforehand
}

// FramesDue returns how many frames were due in the steady window, 0 where they were not
// counted.
func (a *Attempt) FramesDue() int {
	if a.Frames == nil {
		return 0
	}
	return a.Frames.Due
}

// Jumped returns the jumps of the worst stream.
func (a *Attempt) Jumped() []tally.Seek {
	if a.Buffer != nil && len(a.Buffer.Jumps) > 0 {
		return a.Buffer.Jumps
	}
	return a.Jumps
}

// Displayed reports whether frames were counted where they reached a display: only they show what
// a device drops. Of media that merely arrived, the buffer tells more.
func (a *Attempt) Displayed() bool {
	return a.Frames != nil && (a.Buffer == nil || a.Frames.Told != nil)
}

// Ceiling is the highest smooth rung.
type Ceiling struct {
	Load      *load.Load `json:"load" jsonschema:"nullable"` // null: no rung was smooth
	Confirmed bool       `json:"confirmed"`                  // by a second attempt at it and at the next rung
	Headroom  *float64   `json:"headroom_pct" jsonschema:"nullable"`
	// HeadroomOf is what the headroom is of: the limiter, or what has the least left
	// at the ceiling where the limiter of the next rung is not in use there.
	HeadroomOf verdict.Limiter `json:"headroom_of,omitempty"`
	Limiter    verdict.Limiter `json:"limiter"`
	Evidence   string          `json:"evidence,omitempty"`
	Room       *verdict.Room   `json:"room,omitempty"`             // how many streams of the load fit
	Next       *Next           `json:"next" jsonschema:"nullable"` // the rung above; null: it was not tried
	LadderEnd  bool            `json:"ladder_end,omitempty"`       // there is no rung above
	Untried    []load.Load     `json:"untried,omitempty"`          // easier rungs at which no attempt counted
	Columns    []ColumnCeiling `json:"columns"`
}

// MapField is the highest smooth bitrate of a size and a frame rate.
type MapField struct {
	Size     string          `json:"size"`
	Rate     string          `json:"rate"`
	Load     *load.Load      `json:"load" jsonschema:"nullable"` // the highest smooth one; null: none was
	Next     *load.Load      `json:"next,omitempty"`             // the lowest that was not smooth; absent: the limit was not reached
	Limiter  verdict.Limiter `json:"limiter,omitempty"`          // what ran out at Next
	Evidence string          `json:"evidence,omitempty"`
	Found    bool            `json:"found"`             // nothing between is to be tried any more
	Skipped  bool            `json:"skipped,omitempty"` // an easier field had no smooth load
}

// Next is the first rung above the ceiling that was not smooth.
type Next struct {
	Load    load.Load     `json:"load"`
	Verdict verdict.Grade `json:"verdict"`
	Reason  string        `json:"reason,omitempty"` // first reason of its worst attempt
}

// ColumnCeiling is the highest smooth rung of one column.
type ColumnCeiling struct {
	Column    string     `json:"column"`
	Load      *load.Load `json:"load" jsonschema:"nullable"` // null: no rung was smooth
	Confirmed bool       `json:"confirmed"`
	Headroom  *float64   `json:"headroom_pct" jsonschema:"nullable"`
	// HeadroomOf is what the headroom is of: the limiter, or what has the least left
	// at the ceiling where the limiter of the next rung is not in use there.
	HeadroomOf verdict.Limiter `json:"headroom_of,omitempty"`
	Limiter    verdict.Limiter `json:"limiter"`
	Evidence   string          `json:"evidence,omitempty"`
	Room       *verdict.Room   `json:"room,omitempty"` // how many streams of the load fit
	Next       *Next           `json:"next" jsonschema:"nullable"`
	LadderEnd  bool            `json:"ladder_end,omitempty"` // there is no rung above
	Untried    []load.Load     `json:"untried,omitempty"`    // easier rungs at which no attempt counted
	Skipped    []load.Load     `json:"skipped,omitempty"`    // easier rungs that were passed over
	Refined    []Refined       `json:"refined,omitempty"`    // between the ceiling and the next rung
}

// Refined is how far a device goes beyond a ceiling in one respect, the others being the ceiling's.
type Refined struct {
	By   string     `json:"by"`                                   // bitrate, rate or size
	Load load.Load  `json:"load"`                                 // the hardest smooth one
	Next *load.Load `json:"next,omitempty" jsonschema:"nullable"` // the easiest that was not smooth
}

// Attempts returns the number of attempts at all rungs.
func (d *Document) Attempts() (n int) {
	for i := range d.Rungs {
		n += len(d.Rungs[i].Attempts)
	}
	return n
}

// MostSmooth reports whether most of some attempts were smooth, see [search.Majority].
func MostSmooth(attempts []Attempt) bool {
	smooth := make([]bool, len(attempts))
	for i, a := range attempts {
		smooth[i] = a.Verdict == verdict.Smooth
	}
	return search.Majority(smooth)
}

// Counted returns the attempts of a rung that are not void.
func (r *Rung) Counted() (list []Attempt) {
	for _, a := range r.Attempts {
		if a.Verdict != verdict.Void {
			list = append(list, a)
		}
	}
	return list
}

// Counted returns the number of attempts at all rungs that are not void.
func (d *Document) Counted() (n int) {
	for i := range d.Rungs {
		n += len(d.Rungs[i].Counted())
	}
	return n
}

// Waiting returns the number of attempts that a recording of the screen is to judge.
func (d *Document) Waiting() (n int) {
	for i := range d.Rungs {
		for _, a := range d.Rungs[i].Attempts {
			if a.Void == verdict.VoidLater {
				n++
			}
		}
	}
	return n
}

// Loads returns the mix repeated so many times.
func (p *CrowdPlan) Loads(times int) []load.Load {
	loads := slices.Clone(p.Mix)
	for i := range loads {
		loads[i].Streams *= times
		if i < len(p.Files) {
			loads[i].File = p.Files[i]
		}
	}
	return loads
}

// Rung returns the rung of the i-th number that was tried.
func (p *CrowdPlan) Rung(i int) Rung {
	loads := p.Loads(p.Numbers[i])
	r := Rung{Load: loads[0], File: loads[0].File, Column: "crowd", Order: i + 1, Attempts: []Attempt{}}
	if len(loads) > 1 {
		r.Mix = loads
	}
	return r
}
