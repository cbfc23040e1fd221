// Package route defines what all routes share. Each route has a folder of its own below this
// one.
package route

import (
	"context"
	"fmt"
	"math"
	"time"

	"vividstrain/core/clock"
	"vividstrain/core/load"
	"vividstrain/core/sense"
	"vividstrain/core/tally"
)

// Plan describes one attempt.
type Plan struct {
	Loads    []load.Load   // loads played at the same time
	Hold     time.Duration // how long to play, settling included
	Settle   time.Duration // the start-up part of Hold
	Stagger  time.Duration // time between the starts of streams
	Adaptive bool          // the loads are qualities of one film, among which the device chooses
	Spread   bool          // streams start at different positions in the film
}

// Streams returns the number of streams.
func (p Plan) Streams() (n int) {
	for _, l := range p.Loads {
		n += l.Streams
	}
	return n
}

// StreamLoads returns the load of each stream. Streams of several loads alternate, so that the
// mix is complete from the start.
func (p Plan) StreamLoads() (list []load.Load) {
	total := p.Streams()
	taken := make([]int, len(p.Loads))
	for len(list) < total {
		next := 0
		for i, l := range p.Loads { // the load that is farthest behind its share
			if taken[i]*p.Loads[next].Streams < taken[next]*l.Streams {
				next = i
			}
		}
		taken[next]++
		one := p.Loads[next]
		one.Streams = 1
		list = append(list, one)
	}
	return list
}

// Begin returns when stream i starts after the first one.
func (p Plan) Begin(i int) time.Duration { return time.Duration(i) * p.Stagger }

// Spans returns the windows of stream i: streams that start earlier settle for longer, so that
// all are steady at the same time.
func (p Plan) Spans(i int) []tally.Span {
	early := p.Begin(p.Streams()-1) - p.Begin(i)
	if p.Settle+early <= 0 {
		return []tally.Span{{Kind: tally.Steady, From: 0, To: p.Hold}}
	}
	return []tally.Span{{Kind: tally.Settle, From: 0, To: p.Settle + early}, {Kind: tally.Steady, From: p.Settle + early, To: p.Hold + early}}
}

// Ways in which a device decoded.
const (
	Software = "software"
	Hardware = "hardware"
	Unknown  = "unknown"
	None     = "none" // the device did not decode
)

// Result is the result of an attempt.
type Result struct {
	Began   time.Time     // when playing began: time zero of the windows
	Streams []tally.Tally // one per stream; empty if it failed before playing began
	Decode  string
	Failure string         // why it was not played to the end; empty if it was
	Refused bool           // the device would not even try
	Devices []Part         // of several devices, in the order of Streams; nil: there is one
	Promise *tally.Promise // what the only device promised beforehand, nil where it says nothing
	Notes   []string       // what else there is to say about it
	// ClipBPS is the bitrate of what was played if it is not as ordered, else 0.
	ClipBPS int64
	// Clip is the SHA-256 of the clip, in hexadecimal; empty where it is not known or there are
	// several.
	Clip  string
	Marks *tally.Marks // of the clip; nil where there are none, or several clips
	Later bool         // what was shown is judged by a recording that follows
}

// Part is the share of one of several devices in a result.
type Part struct {
	Device  string
	Streams int            // of Result.Streams
	Failure string         // why it did not play to the end; empty if it did
	Promise *tally.Promise // what it promised beforehand, nil where it says nothing
}

// Unfit is why a load says nothing about the device.
type Unfit int

// The reasons.
const (
	NoClip    Unfit = iota // the clip cannot be made, is damaged or was changed
	NoAddress              // there is nothing at its address
	TooShort               // there is too little of it to judge
	Away                   // the device was not there, or did not attend to it
)

// UnfitError is an error of Prepare or Play for which the device is not responsible.
type UnfitError struct {
	Unfit Unfit
	Err   error
}

func (e *UnfitError) Error() string { return e.Err.Error() }
func (e *UnfitError) Unwrap() error { return e.Err }

// ShortHoldError means that segments are so long that they must be watched for longer than
// planned.
type ShortHoldError struct{ Need time.Duration }

func (e *ShortHoldError) Error() string {
	return fmt.Sprintf("segments are so long that it must be held for %s", e.Need)
}

// Preparing is a route on which Prepare may take long.
type Preparing interface {
	// Cost returns about how long preparing a load takes, and how many bytes it stores.
	Cost(ctx context.Context, l load.Load) (takes time.Duration, bytes int64)
}

// Reachable is a route to a device that may be out of reach.
type Reachable interface {
	// Reach returns an error if nothing answers at the device's address.
	Reach(ctx context.Context) error
}

// Live is the state of an attempt in progress.
type Live struct {
	Elapsed time.Duration
	Frames  tally.Frames     // so far, of all streams
	Viewers []tally.Standing // where media arrive ahead of playing
}

// Traits are the properties of a route. Other code asks for these, never for the kind of route.
type Traits struct {
	Decodes    bool          // the device under test decodes
	Counts     bool          // frames are counted
	Buffers    bool          // media arrive ahead of their playing
	Jumps      bool          // it can jump in a film
	Adaptive   bool          // its device chooses among qualities of a film
	Many       bool          // it can play several streams at once
	Virtual    bool          // it plays in virtual time, so that this computer's meters say nothing about it
	SameWork   bool          // every attempt at a load takes the same work of the cores
	AnyOrder   bool          // loads come in any order and are sorted by pixels and bits
	Away       time.Duration // how long a lost device is waited for, 0: a minute
	QuietAfter time.Duration // default limit of the wait for a quiet device between attempts
	Streams    int           // the largest number of streams that can be tried, 0: not known
	StreamsWhy string        // what bounds it, and what to do about that
}

// Inviting is a route to a device that must be brought here by a person before a run begins.
type Inviting interface {
	// Waiting returns what to tell that person.
	Waiting() (Invitation, error)
	// Await returns when the device is there.
	Await(ctx context.Context) error
}

// Invitation says how to bring a device here.
type Invitation struct {
	Opened      bool     // a program on this computer was started for it; nothing is to be done
	Addresses   []string // to be opened on the device, the most useful one first
	Fingerprint string   // of the certificate there, "": there is none
}

// Showing is a route whose device shows how the run goes.
type Showing interface{ Show(b Board) }

// Board is what a device shows while nothing plays.
type Board struct {
	Device, Doing string
	Rungs         []BoardRow
	Answer        []string
	Ended         bool
}

// BoardRow is a rung on a board.
type BoardRow struct {
	Name     string
	Verdicts []string
	Result   string
	Now      bool
}

// Offerer is a route to a device that can list its loads.
type Offerer interface {
	// Offered returns a ladder of the loads, for use when none are given.
	Offered(ctx context.Context) (*load.Ladder, error)
}

// Device describes the hardware under test.
type Device struct {
	Name     string
	Identity string // recognises the device in another run
	Spec     map[string]string
}

// Route puts loads on a device.
type Route interface {
	// Kind returns the route's word, for the record.
	Kind() string
	Traits() Traits
	// Options returns the route's settings, for the record.
	Options() map[string]string
	Device() Device
	// Clock returns the clock by which the route plays.
	Clock() clock.Clock
	// Sources returns the route's own sensors.
	Sources() []sense.Source
	// Check returns an error if a load cannot be requested on this route at all; that the device
	// may refuse it is no error.
	Check(l load.Load) error
	// Prepare gets ready to play the load, which may take long. progress may be nil.
	Prepare(ctx context.Context, l load.Load, progress func(done, total int)) error
	// Play makes one attempt. Failures of the device are in the result; an error means that the
	// attempt says nothing about the device, see UnfitError and ShortHoldError.
	Play(ctx context.Context, p Plan, live func(Live)) (Result, error)
}

// JumpPart returns where jump i of several goes, as a share of the film: steps of the golden ratio lead
// everywhere, forwards and back.
func JumpPart(i int) float64 {
	_, part := math.Modf(0.5 + float64(i)*(math.Sqrt(5)-1)/2)
	return part
}
