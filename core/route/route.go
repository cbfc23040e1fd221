// Package route says what all ways of putting a load on a device have in
// common. Each way has a folder of its own below this one.
package route

import (
	"context"
	"fmt"
	"time"

	"vividstrain/core/clock"
	"vividstrain/core/load"
	"vividstrain/core/sense"
	"vividstrain/core/tally"
)

// Plan is one attempt to be made.
type Plan struct {
	Loads   []load.Load   // to be put on the device at once
	Hold    time.Duration // how long to play, settling included
	Settle  time.Duration // how much of it is start-up
	Stagger time.Duration // from the start of one stream to that of the next
	Spread  bool          // streams begin at different places of the film
}

// Streams is how many streams are played.
func (p Plan) Streams() (n int) {
	for _, l := range p.Loads {
		n += l.Streams
	}
	return n
}

// StreamLoads lists the load of each stream; those of several loads take turns,
// so that a mix is there from the start.
func (p Plan) StreamLoads() (list []load.Load) {
	total := p.Streams()
	taken := make([]int, len(p.Loads))
	for len(list) < total {
		next := 0
		for i, l := range p.Loads { // the one that is farthest behind its share
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

// Begin is when stream i is to begin after the first one.
func (p Plan) Begin(i int) time.Duration { return time.Duration(i) * p.Stagger }

// Spans are the windows of stream i: what begins earlier settles for longer, so
// that all are steady at the same time.
func (p Plan) Spans(i int) []tally.Span {
	early := p.Begin(p.Streams()-1) - p.Begin(i)
	if p.Settle+early <= 0 {
		return []tally.Span{{Kind: tally.Steady, From: 0, To: p.Hold}}
	}
	return []tally.Span{{Kind: tally.Settle, From: 0, To: p.Settle + early}, {Kind: tally.Steady, From: p.Settle + early, To: p.Hold + early}}
}

// How a device decoded.
const (
	Software = "software"
	Hardware = "hardware"
	Unknown  = "unknown"
	None     = "none" // the device did not decode
)

// Result is what came of an attempt.
type Result struct {
	Began   time.Time     // when playing began: the zero of the windows
	Streams []tally.Tally // one each; empty if Failure is set before playing began
	Decode  string
	Failure string // why it could not be played to the end; empty if it was
	Refused bool   // the device would not even try
	// ClipBPS is the bitrate of what was played, where it is not what was ordered; 0 else.
	ClipBPS int64
}

// Unfit says why a load says nothing about the device.
type Unfit int

// The reasons.
const (
	NoClip    Unfit = iota // what is to be played cannot be made, is broken or was changed
	NoAddress              // it is not where it was asked for
	TooShort               // there is too little of it to tell
)

// UnfitError is an error of Prepare or Play that is not the device's.
type UnfitError struct {
	Unfit Unfit
	Err   error
}

func (e *UnfitError) Error() string { return e.Err.Error() }
func (e *UnfitError) Unwrap() error { return e.Err }

// ShortHoldError says that media come in segments so long that they must be watched for
// longer than was planned.
type ShortHoldError struct{ Need time.Duration }

func (e *ShortHoldError) Error() string {
	return fmt.Sprintf("segments are so long that it must be held for %s", e.Need)
}

// Reachable is a route whose device may be out of reach.
type Reachable interface {
	// Reach returns an error if nothing answers where the device should be.
	Reach(ctx context.Context) error
}

// Live is the state of an attempt while it runs.
type Live struct {
	Elapsed time.Duration
	Frames  tally.Frames     // due, shown and dropped so far, of all streams
	Viewers []tally.Standing // where media arrive ahead of their playing
}

// Traits are what a route can do and tell. They are asked for, never which route it is.
type Traits struct {
	Decodes    bool          // the device under test decodes
	Counts     bool          // frames are counted
	Buffers    bool          // media arrive ahead of their playing
	Jumps      bool          // it can jump in a film
	Many       bool          // it can play several streams at once
	Virtual    bool          // it plays in virtual time: no meter of this computer says anything about it
	SameWork   bool          // the same frames take the same work of the cores at every attempt
	AnyOrder   bool          // loads come in any order and are put in order of their pixels and bits
	QuietAfter time.Duration // how long to wait between attempts for the device to be quiet, where nothing else is asked
}

// Offerer is a route whose device says what loads there are.
type Offerer interface {
	// Offered is a ladder of the loads, for where none are given.
	Offered(ctx context.Context) (*load.Ladder, error)
}

// Device describes the hardware under test.
type Device struct {
	Name string
	Spec map[string]string
}

// Route puts loads on one device.
type Route interface {
	// Kind is the route's word, for the record.
	Kind() string
	Traits() Traits
	// Options are the route's settings, for the record.
	Options() map[string]string
	Device() Device
	// Clock is the time in which the route plays.
	Clock() clock.Clock
	// Sources are the sensors that the route brings along.
	Sources() []sense.Source
	// Check tells at once whether a load can be asked of this route at
	// all; a device that refuses it is no error.
	Check(l load.Load) error
	// Prepare makes ready what playing the load needs, which may take long.
	// Progress may be nil.
	Prepare(ctx context.Context, l load.Load, progress func(done, total int)) error
	// Play makes one attempt. What the device fails at is in the result;
	// an error means that the attempt says nothing about the device; see
	// UnfitError and ShortHoldError.
	Play(ctx context.Context, p Plan, live func(Live)) (Result, error)
}
