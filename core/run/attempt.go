package run

import (
	"context"
	"errors"
	"fmt"
	"runtime/debug"
	"slices"
	"time"

	"vividstrain/core/logbook"
	"vividstrain/core/route"
	"vividstrain/core/search"
	"vividstrain/core/sense"
	"vividstrain/core/tally"
	"vividstrain/core/verdict"
)

// attempt makes one attempt at a rung. Problems of the rung are recorded in the attempt; an
// error ends the run. If the run is stopped, the attempt is returned with the error.
func (c *Run) attempt(ctx context.Context, rung int, why search.Purpose) (*logbook.Attempt, error) {
	plan, event := c.kind.Plan(c, rung), c.event(rung)
	plan.Hold = max(plan.Hold, c.heldFor(rung))
	clock := c.Route.Clock()
	a := &logbook.Attempt{Purpose: why, Started: clock.Now().UTC(), Windows: []tally.Window{}, Reasons: []string{}, Use: sense.Use{}, Decode: route.Unknown}
	if err := c.record.Update(); err != nil { // the rung may be a new one
		return nil, err
	}
	cause, err := c.prepare(ctx, plan, event)
	if ctx.Err() != nil {
		return nil, ctx.Err() // nothing was tried yet
	}
	if err != nil {
		a.Started, a.Ended = clock.Now().UTC(), clock.Now().UTC()
		void(a, cause, err.Error())
		return a, c.record.VoidAttempt(rung, *a)
	}
	if !c.Route.Traits().Virtual {
		debug.FreeOSMemory() // so that memory of the attempt before, or of making clips, does not count as this one's
	}
	a.Started = clock.Now().UTC()
	if err := c.record.StartAttempt(rung, why, a.Started); err != nil {
		return nil, err
	}
	c.asleep.Store(false)
	plan, result, err := c.play(ctx, plan, event)
	if err == nil && result.Failure != "" && c.Rest > 0 {
		// The device may have given up at once; its readings show why.
		err = clock.Sleep(ctx, givesUp-clock.Now().Sub(a.Started))
	}
	a.Ended = clock.Now().UTC()
	switch {
	case ctx.Err() != nil:
		var readErr error
		a.Use, readErr = c.use(a.Started, a.Ended)
		void(a, verdict.VoidStopped, "the run was stopped during it")
		return a, errors.Join(ctx.Err(), readErr, c.record.EndAttempt(*a))
	case err != nil:
		void(a, unfit(err), err.Error())
	default:
		if err := c.measure(a, result, plan); err != nil {
			return nil, err
		}
		c.Clock = max(c.Clock, a.Use[sense.Clock].Mean)
		if c.asleep.Load() && a.Verdict != verdict.Smooth {
			void(a, verdict.VoidStopped, "this program or the whole computer stood still during it")
		}
	}
	return a, c.record.EndAttempt(*a)
}

// void marks an attempt as void.
func void(a *logbook.Attempt, cause verdict.VoidCause, reason string) {
	a.Verdict, a.Void, a.Reasons = verdict.Void, cause, []string{reason}
	a.Limiter, a.Evidence = "", ""
}

// unfit returns why an error of a route makes the attempt void.
func unfit(err error) verdict.VoidCause {
	var e *route.UnfitError
	if errors.As(err, &e) {
		switch e.Unfit {
		case route.NoAddress:
			return verdict.VoidAddress
		case route.TooShort:
			return verdict.VoidShort
		case route.Away:
			return verdict.VoidAway
		}
	}
	return verdict.VoidClip
}

// leastFrames is how many frames must be due in the steady window for a verdict.
const leastFrames = 25

// prepare gets ready what is to be played; an error is why the attempt is void.
func (c *Run) prepare(ctx context.Context, plan route.Plan, event Event) (verdict.VoidCause, error) {
	c.record.Enter(logbook.Preparing)
	for _, l := range plan.Loads {
		if err := c.Route.Check(l); err != nil {
			return verdict.VoidCodec, err
		}
		window := plan.Hold - plan.Settle
		if due := window.Seconds() * l.Rate.Hz(); l.Rate.Num > 0 && due < leastFrames {
			return verdict.VoidShort, fmt.Errorf("only %.0f frames are due in the %s that are judged; --hold %.0fs or more is enough", due, window, (plan.Settle.Seconds() + leastFrames/l.Rate.Hz() + 0.5))
		}
		err := c.Route.Prepare(ctx, l, func(done, total int) {
			e := event
			e.Kind, e.Title, e.Done, e.Total = Building, l.Title(), done, total
			c.watch(e)
		})
		if err != nil {
			return unfit(err), err
		}
		delete(c.costs, one(l))
	}
	return "", nil
}

// heldFor returns how long a rung's load was held, if longer than planned, else 0: a second
// attempt need not find out again that segments are long, for which a server would have to start
// in vain.
func (c *Run) heldFor(rung int) (held time.Duration) {
	one := func(r *logbook.Rung) string {
		l := r.Load
		l.Streams = 1
		return l.String()
	}
	for i := range c.Doc.Rungs {
		r := &c.Doc.Rungs[i]
		if one(r) != one(&c.Doc.Rungs[rung]) {
			continue
		}
		for _, a := range r.Attempts {
			held = max(held, Duration(a.HoldS))
		}
	}
	return held
}

// longestHold is how far a hold grows for long segments.
const longestHold = 10 * time.Minute

// play plays a plan, for longer than planned where segments are long, and returns what was
// played.
func (c *Run) play(ctx context.Context, plan route.Plan, event Event) (route.Plan, route.Result, error) {
	for {
		total := plan.Hold + plan.Begin(plan.Streams()-1)
		c.playing.begin()
		result, err := c.Route.Play(ctx, plan, func(live route.Live) {
			c.playing.update(live)
			e := event
			e.Kind, e.Live, e.Done, e.Total = Playing, live, int(live.Elapsed.Milliseconds()), int(total.Milliseconds())
			c.watch(e)
		})
		if s, counted := c.playing.final(result, c.Route.Clock().Now()); counted {
			c.record.Sample(s)
		}
		c.playing.end()
		var short *route.ShortHoldError
		if !errors.As(err, &short) || short.Need <= plan.Hold {
			return plan, result, err
		}
		if short.Need > longestHold {
			return plan, result, &route.UnfitError{Unfit: route.TooShort, Err: fmt.Errorf("its segments are so long that it would have to be held for %s", short.Need)}
		}
		plan.Hold = short.Need
		if err := c.rest(ctx); err != nil {
			return plan, result, err
		}
	}
}

// measure summarises the readings and judges.
func (c *Run) measure(a *logbook.Attempt, result route.Result, plan route.Plan) (err error) {
	from, to := a.Started, a.Ended
	if len(result.Streams) > 0 && result.Failure == "" {
		from, to = result.Began.Add(plan.Settle), result.Began.Add(plan.Hold)
		if startedLate(result, c.Criteria) {
			from, to = a.Started, result.Began // what was at its limit before the first picture, not after it
		}
	}
	if plan.Hold != c.Hold {
		a.HoldS = plan.Hold.Seconds()
	}
	// A reading covers the interval before it: the first one completely inside the window is one
	// interval after its start.
	if a.Use, err = c.use(from.Add(SampleEvery), to.Add(SampleEvery/2)); err != nil {
		return err
	}
	a.ClipBPS, a.Clip, a.Marks, a.Promise, a.Notes = result.ClipBPS, result.Clip, result.Marks, result.Promise, result.Notes
	if err := c.judgeJumps(result, plan); err != nil {
		return err
	}
	c.judge(a, result, plan)
	switch {
	case result.Later && result.Failure == "":
		void(a, verdict.VoidLater, "a recording of the screen is to show how it was played")
	case a.Verdict != verdict.Smooth && !result.Refused:
		disturbed(a, result.Failure)
	}
	return nil
}

// disturbed voids an attempt that was not smooth if others took so much of the computer that it says
// nothing.
func disturbed(a *logbook.Attempt, failure string) {
	cause, why := verdict.Disturbed(a.Use)
	if cause == "" {
		return
	}
	why = fmt.Sprintf("%s; without them it may be better than %s", why, a.Verdict)
	if failure != "" {
		why += ": " + failure
	}
	void(a, cause, why)
}

// startedLate reports whether a stream took so long to start that this alone fails the attempt.
func startedLate(result route.Result, criteria verdict.Criteria) bool {
	return slices.ContainsFunc(result.Streams, func(t tally.Tally) bool {
		return t.StartDelayS != nil && *t.StartDelayS > criteria.Marginal.StartDelayS
	})
}

// judge grades an attempt by its worst stream.
func (c *Run) judge(a *logbook.Attempt, result route.Result, plan route.Plan) {
	c.judgeDecode(a, result, plan)
	c.judgeDevices(a, result)
	streams := plan.StreamLoads()
	for i, t := range result.Streams {
		grade, reasons := c.Criteria.Judge(t)
		f := t.Steady()
		if i == 0 || grade.Worse(a.Verdict) || grade == a.Verdict && worse(t, f, a) {
			a.Verdict, a.Reasons, a.Frames, a.StartS, a.Speed, a.Buffer, a.Delivered, a.Early, a.Checked, a.Adaptive, a.Watching, a.Jumps = grade, reasons, f, t.StartDelayS, t.Speed, t.Buffer, t.Delivered, t.Early, t.Checked, t.Adaptive, t.Watching, t.Jumps
			if a.Windows = t.Windows; a.Windows == nil {
				a.Windows = []tally.Window{}
			}
			if len(plan.Loads) > 1 && len(streams) > 0 && len(result.Streams) == len(streams) {
				a.Worst = streams[i].String()
			}
		}
		if len(result.Streams) > 1 && i < maxStreams && f != nil {
			a.Streams = append(a.Streams, *f)
		}
	}
	if result.Failure != "" || len(result.Streams) == 0 {
		a.Verdict, a.Reasons = verdict.Failed, []string{result.Failure}
	}
	if a.Verdict == verdict.Smooth {
		return
	}
	if a.Limiter, a.Evidence = verdict.FindLimiter(verdict.Window{Use: a.Use, Clock: c.Clock, Buffer: a.Buffer, Frames: a.Frames}); result.Refused {
		a.Limiter, a.Evidence = verdict.Refused, "the device gave up while it was idle"
	}
}

// judgeDevices grades each of several devices by its worst stream.
func (c *Run) judgeDevices(a *logbook.Attempt, result route.Result) {
	at := 0
	for _, part := range result.Devices {
		d := logbook.DevicePart{Device: part.Device, Verdict: verdict.Failed, Reasons: []string{part.Failure}, Promise: part.Promise}
		for i, t := range result.Streams[at : at+part.Streams] {
			if grade, reasons := c.Criteria.Judge(t); part.Failure == "" && (i == 0 || grade.Worse(d.Verdict)) {
				d.Verdict, d.Reasons, d.Frames = grade, reasons, t.Steady()
			}
		}
		at += part.Streams
		a.Devices = append(a.Devices, d)
	}
}

// countedWithin is the longest time around a jump in which a server's count is looked for.
const countedWithin = 3 * time.Second

// judgeJumps records which jumps a server began anew for, where its readings show it: it counts
// the conversions that it begins. Between the last count before a jump and the first count after
// its picture either none was begun, or at least as many as there were jumps meanwhile; otherwise
// it remains unknown.
func (c *Run) judgeJumps(result route.Result, plan route.Plan) error {
	type jump struct {
		*tally.Seek
		from, to time.Time
	}
	var jumps []jump
	for i, t := range result.Streams {
		if t.Buffer == nil {
			continue
		}
		for k := range t.Buffer.Jumps {
			s := &t.Buffer.Jumps[k]
			from := result.Began.Add(plan.Begin(i) + time.Duration(s.AtS*1e9))
			jumps = append(jumps, jump{s, from, from.Add(time.Duration(s.DelayS * 1e9))})
		}
	}
	for _, j := range jumps {
		var before, after sense.Sample
		err := c.record.ReadBack(j.from.Add(-countedWithin), j.to.Add(countedWithin), func(s *sense.Sample) {
			if _, counts := s.Value(sense.Conversions); counts && !s.At.After(j.from) {
				before = *s
			} else if counts && after.At.IsZero() && !s.At.Before(j.to) {
				after = *s
			}
		})
		if err != nil {
			return err
		}
		last, known := before.Value(sense.Conversions)
		count, counted := after.Value(sense.Conversions)
		if !known || !counted {
			continue
		}
		meanwhile := 0
		for _, other := range jumps {
			if other.from.Before(after.At) && other.to.After(before.At) {
				meanwhile++
			}
		}
		if anew := count > last; !anew || count-last >= float64(meanwhile) {
			j.BeganAnew, j.ShownBy = &anew, tally.ByReadings
		}
	}
	return nil
}

// judgeDecode records how the device decoded, if it did.
func (c *Run) judgeDecode(a *logbook.Attempt, result route.Result, plan route.Plan) {
	a.Decode = result.Decode
	if a.Decode != route.Unknown || result.Failure != "" {
		return
	}
	pixels := 0.0
	for _, l := range plan.Loads {
		pixels += l.PixelRate()
	}
	if slices.ContainsFunc(result.Streams, workedAhead) {
		pixels = 0 // the work was not done in the window, so that its time says nothing
	}
	if hardware, known, _ := verdict.InferDecode(a.Use, c.Idle, pixels); known && hardware {
		a.Decode = route.Hardware
	} else if known {
		a.Decode = route.Software
	}
}

// workedAhead reports whether the media of a stream arrived much faster than they were played.
func workedAhead(t tally.Tally) bool {
	return t.Buffer != nil && t.Buffer.BuildRate != nil && *t.Buffer.BuildRate > 2
}

// givesUp is the shortest time for which a server that gives up is measured.
const givesUp = 2 * time.Second

// maxStreams is the largest number of streams whose accounts are stored separately.
const maxStreams = 100

// worse reports whether a stream with the same grade did worse than the worst so far: by dropped
// frames, stalls, and the rate at which its media arrived.
func worse(t tally.Tally, f *tally.Frames, a *logbook.Attempt) bool {
	dropped := func(f *tally.Frames) int {
		if f == nil {
			return 0
		}
		return f.Dropped
	}
	if d, so := dropped(f), dropped(a.Frames); d != so || t.Buffer == nil || a.Buffer == nil {
		return d > so
	}
	if t.Buffer.StallS != a.Buffer.StallS {
		return t.Buffer.StallS > a.Buffer.StallS
	}
	x, y := t.Buffer.BuildRate, a.Buffer.BuildRate
	return x != nil && (y == nil || *x < *y)
}
