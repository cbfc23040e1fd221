// Package route says what all ways of putting a load on a device have in
// common. Each way has a folder of its own below this one.
package route

import (
	"context"
	"time"

	"vividstrain/core/clock"
	"vividstrain/core/load"
	"vividstrain/core/sense"
	"vividstrain/core/tally"
)

// Plan is one attempt to be made.
type Plan struct {
	Load   load.Load
	Hold   time.Duration // how long to play, settling included
	Settle time.Duration // how much of it is start-up
}

// Spans are the windows of the attempt.
func (p Plan) Spans() []tally.Span {
	if p.Settle <= 0 {
		return []tally.Span{{Kind: tally.Steady, From: 0, To: p.Hold}}
	}
	return []tally.Span{{Kind: tally.Settle, From: 0, To: p.Settle}, {Kind: tally.Steady, From: p.Settle, To: p.Hold}}
}

// How a device decoded.
const (
	Software = "software"
	Hardware = "hardware"
	Unknown  = "unknown"
)

// Result is what came of an attempt.
type Result struct {
	Began   time.Time     // when playing began: the zero of the windows
	Streams []tally.Tally // one each; empty if Failure is set before playing began
	Decode  string
	Failure string // why it could not be played to the end; empty if it was
	Refused bool   // the device would not even try
}

// Live is how an attempt stands while it runs.
type Live struct {
	Elapsed time.Duration
	Frames  tally.Frames // due, shown and dropped so far, of all streams
}

// Device describes the hardware under test.
type Device struct {
	Name string
	Spec map[string]string
}

// Route puts loads on one device.
type Route interface {
	// Kind is the route's word: "engine", "standin", ...
	Kind() string
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
	// an error means that the attempt says nothing about the device.
	Play(ctx context.Context, p Plan, live func(Live)) (Result, error)
}
