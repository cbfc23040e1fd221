// Package tally keeps the account of one stream: which frames were due, which reached the screen
// and when, and how media arrived.
package tally

import "time"

// Late is what happens to a frame that is not decoded in time.
type Late string

// The policies for late frames.
const (
	Drop Late = "drop" // the media clock runs on; frames that come too late are dropped
	Wait Late = "wait" // nothing is dropped; the media clock waits: slow motion
)

// Kinds of windows.
const (
	Settle = "settle" // start-up
	Steady = "steady"
	Jump   = "jump" // after a seek
)

// Frames is the account of the frames of one window.
type Frames struct {
	Due     int `json:"due"`     // frames that a perfect player would have shown
	Shown   int `json:"shown"`   // frames that reached a refresh of the display
	Dropped int `json:"dropped"` // due frames that never did
	Late    int `json:"late"`    // shown more than one refresh after they were due
	Repeats int `json:"repeats"` // refreshes that repeated a picture although a new one was due
	Freezes int `json:"freezes"` // pictures held for three frame durations or longer
	// Hidden frames are too close together for the refresh rate: no player could show them. They
	// do not count as due.
	Hidden int `json:"hidden,omitempty"`
	// Uneven pictures were held for more or fewer refreshes than an even cadence has at this frame
	// and refresh rate: it shows as judder, though nothing was dropped.
	Uneven int `json:"uneven,omitempty"`
	// Unread frames may have been shown or dropped: the screen was not looked at in time.
	Unread          int     `json:"unread,omitempty"`
	Damaged         int     `json:"damaged,omitempty"` // frames that could not be decoded whole
	Wrong           int     `json:"wrong,omitempty"`   // frames that showed another picture than they should
	LongestFreezeMS float64 `json:"longest_freeze_ms"` // longest of the freezes, 0 without one
	ShownRate       float64 `json:"shown_rate"`        // frames shown per second
	Speed           float64 `json:"speed"`             // media seconds played per second
	// Told is what the player itself counts in this window, where it says so.
	Told *Told `json:"told,omitempty"`
}

// Told is a player's own count.
type Told struct {
	Due     int `json:"due"` // frames that it had to show, dropped ones included
	Dropped int `json:"dropped"`
}

// Promise is what a player says of a format before it plays it. Smooth and Efficient are nil where
// it only says whether it plays the format.
type Promise struct {
	Supported bool  `json:"supported"`
	Smooth    *bool `json:"smooth,omitempty"`
	Efficient *bool `json:"efficient,omitempty"`
}

// Adaptive is which of several qualities of a film a player showed, easiest first.
type Adaptive struct {
	Qualities []string  `json:"qualities"` // load lines
	Seconds   []float64 `json:"seconds"`   // for how long each was shown in the steady window
	Settled   int       `json:"settled"`   // the one shown for the longest in the second half of it
	Changes   int       `json:"changes"`   // in the steady window
	Steps     []Step    `json:"steps"`
}

// Watching is how a screen was watched.
type Watching struct {
	Looks    int     `json:"looks"`
	Blank    int     `json:"blank"`          // looks in which no marks could be read, after the first picture
	WidestMS float64 `json:"widest_ms"`      // the longest time between two looks
	CPUPct   float64 `json:"cpu_pct"`        // that it took, of one core
	Torn     int     `json:"torn,omitempty"` // pictures whose upper and lower parts were of two frames
}

// Step is a change of quality.
type Step struct {
	AtS     float64 `json:"at_s"` // from the first picture on
	Quality int     `json:"quality"`
	Why     string  `json:"why"`
}

// Early is the account of the first seconds of playing, settling included.
type Early struct {
	S       float64 `json:"s"`
	Due     int     `json:"due"`
	Dropped int     `json:"dropped"`
}

// DroppedPct returns the share of due frames that were dropped, in percent.
func (f Frames) DroppedPct() float64 {
	if f.Due == 0 {
		return 0
	}
	return 100 * float64(f.Dropped) / float64(f.Due)
}

// Window is a part of an attempt with its own account. Times are in seconds from the start of
// playing.
type Window struct {
	Kind   string  `json:"kind"`
	FromS  float64 `json:"from_s"`
	ToS    float64 `json:"to_s"`
	Frames *Frames `json:"frames" jsonschema:"nullable"` // nil where frames could not be counted
}

// Buffer is the account of media that arrive ahead of playing.
type Buffer struct {
	StartDelayS float64 `json:"start_delay_s"` // from the request to the first picture
	Stalls      int     `json:"stalls"`
	StallS      float64 `json:"stall_s"`    // seconds stalled in all
	MinLeadS    float64 `json:"min_lead_s"` // least media in hand while playing
	// BuildRate is the number of media seconds received per second while the buffer is not full;
	// nil where too little was fetched to tell. If media arrive in bursts, it is uncertain by
	// BuildRateError to both sides.
	BuildRate      *float64 `json:"build_rate" jsonschema:"nullable"`
	BuildRateError float64  `json:"build_rate_error,omitempty"`
	// StallExpectedAtS is when a longer film would stall, in seconds of the film; nil if the
	// build rate is at least 1.
	StallExpectedAtS *float64 `json:"stall_expected_at_s,omitempty"`
	Jumps            []Seek   `json:"jumps,omitempty"`
}

// Seek is one jump to another position in the film.
type Seek struct {
	Kind   JumpKind `json:"kind"`
	AtS    float64  `json:"at_s"`    // when, from the start of playing
	DelayS float64  `json:"delay_s"` // to the first picture after it
	// BeganAnew is whether the server began its work anew for it, nil where nothing shows that;
	// ShownBy is what shows it.
	BeganAnew *bool    `json:"began_anew,omitempty"`
	ShownBy   Evidence `json:"shown_by,omitempty"`
}

// Evidence is what shows whether a server began anew after a jump.
type Evidence string

// The evidence.
const (
	ByTimeStamps Evidence = "time stamps" // they began anew
	ByPlaylist   Evidence = "playlist"    // it is another one
	ByReadings   Evidence = "readings"    // the server counts the conversions that it begins
)

// JumpKind is where a jump goes.
type JumpKind string

// The kinds of jumps.
const (
	Forward JumpKind = "forward" // beyond what was fetched
	Back    JumpKind = "back"    // to before the present position
	Inside  JumpKind = "inside"  // to a position that was fetched and not yet played
)

// beyond is the build rate above which it only means that media came at once.
const beyond = 20

// Pace returns the build rate as a measure of work: how many times real time the device
// delivered. It is false where that is not known, and where viewers waited only for free space
// in their buffers. A nil Buffer has none.
func (b *Buffer) Pace() (rate float64, known bool) {
	if b == nil || b.BuildRate == nil || *b.BuildRate <= 0 || *b.BuildRate >= beyond {
		return 0, false
	}
	return *b.BuildRate, true
}

// Tally is the account of one stream in one attempt. What a route cannot know is nil.
type Tally struct {
	StartDelayS *float64 // from the request to the first picture
	Windows     []Window
	// Speed is media seconds per second of the steady window, from the player's position or the
	// duration of the film, where frames are not counted.
	Speed  *float64
	Buffer *Buffer // of media that arrive ahead of playing
	Jumps  []Seek  // where nothing arrives; else they are in Buffer
	// Checked is how many of the pictures that were shown were checked by their marks, nil where
	// they have none; reading them all may cost too much time.
	Checked  *int
	Adaptive *Adaptive // where a player chose among qualities
	Watching *Watching // where the screen was watched
	Early    []Early   // the first 15, 30 and 60 seconds, as far as it was played
	// Delivered is what a server sent.
	Delivered *Delivered
}

// Delivered describes what a server sent for a stream.
type Delivered struct {
	Treatment string   `json:"treatment"` // "as-is", "converted" or "not what was asked"
	Format    string   `json:"format"`    // as in a load line, without its bitrate
	Bitrate   float64  `json:"bitrate_bps"`
	Bytes     int64    `json:"bytes"`
	Pieces    int      `json:"pieces"`          // segments, or 0 for a film in one piece
	Checked   int      `json:"checked"`         // segments that were checked
	Decoded   int      `json:"decoded"`         // segments that were decoded
	Notes     []string `json:"notes,omitempty"` // irregularities
}

// Steady returns the account of the frames of the steady window, nil where they could not be
// counted. A window that was not reached has an empty account.
func (t Tally) Steady() *Frames {
	for _, w := range t.Windows {
		if w.Kind == Steady {
			return w.Frames
		}
	}
	if len(t.Windows) > 0 && t.Windows[0].Frames == nil || t.Speed != nil {
		return nil
	}
	return &Frames{}
}

// Timeline returns when each frame is due, from the start of playing. Frames are numbered in
// display order; their times never decrease.
type Timeline interface {
	At(frame int) time.Duration
}

// Constant is the timeline of a constant frame rate of Num/Den frames per second.
type Constant struct{ Num, Den int }

// Listed is the timeline of frames at the given times, which never decrease, and of their
// repetitions, each Length after the one before.
type Listed struct {
	Times  []time.Duration
	Length time.Duration
}

// At returns the time of a frame in the first or a later repetition.
func (l Listed) At(frame int) time.Duration {
	n := len(l.Times)
	return l.Times[frame%n] + time.Duration(frame/n)*l.Length
}

// At returns frame x Den / Num seconds.
func (c Constant) At(frame int) time.Duration {
	whole, rest := frame/c.Num, frame%c.Num // in pieces, so that nothing overflows
	return time.Duration(whole)*time.Duration(c.Den)*time.Second +
		time.Duration(rest)*time.Duration(c.Den)*time.Second/time.Duration(c.Num)
}
