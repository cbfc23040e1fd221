package simulated

import (
	"container/heap"
	"context"
	"fmt"
	"time"

	"vividstrain/core/media"
	"vividstrain/core/media/registry"
	"vividstrain/core/route"
	"vividstrain/core/tally"
)

// simulation is one attempt on a device: frames queue for cores and blocks, and are shown on one
// screen per stream.
type simulation struct {
	*Device
	plan    route.Plan
	began   time.Time
	streams []*stream
	events  events
	startup time.Duration // when start-up work ends
}

// stream is one of the streams that play.
type stream struct {
	format  media.Format
	cost    Cost
	block   int // -1: the cores
	screen  *tally.Screen
	started time.Duration // when its clock began; negative: not yet
	next    int           // frame to decode next
	slots   int           // free places in the queue
	threads []int         // its free threads
	done    map[int]bool  // decoded, waiting for an earlier frame
	deliver int           // first frame that is neither delivered nor skipped
	skipped map[int]bool
}

// event is a refresh of a stream's screen, or the end of decoding a frame.
type event struct {
	at     time.Duration
	stream *stream
	frame  int // -1: a refresh
	core   int // core that becomes free, -1: the block
	thread int // index into Device.threads
}

// Play simulates one attempt.
func (d *Device) Play(ctx context.Context, p route.Plan, live func(route.Live)) (route.Result, error) {
	s := &simulation{Device: d, plan: p, began: d.clock.Now(), startup: seconds(d.profile.Startup.Seconds)}
	result := route.Result{Decode: route.Software, Began: s.began}
	if failure, refused := s.admit(); failure != "" {
		err := d.clock.Sleep(ctx, time.Second) // giving up takes a moment
		d.memory = d.profile.Memory.Used
		result.Failure, result.Refused, result.Decode = failure, refused, route.Unknown
		return result, err
	}
	if s.streams[0].block >= 0 {
		result.Decode = route.Hardware
	}
	err := s.run(ctx, live)
	d.accrue(d.clock.Now())
	clear(d.busy)
	clear(d.blocks)
	d.reserved, d.threads, d.meters.threads, d.memory = 0, nil, nil, d.profile.Memory.Used
	for _, st := range s.streams {
		start := st.started.Seconds()
		t := tally.Tally{StartDelayS: &start, Windows: st.screen.Finish()}
		if st.started < 0 {
			result.Failure = "it did not start"
		}
		result.Streams = append(result.Streams, t)
	}
	return result, err
}

func seconds(s float64) time.Duration { return time.Duration(s * float64(time.Second)) }

// admit opens the streams, or returns why the device does not.
func (s *simulation) admit() (failure string, refused bool) {
	p := s.profile
	taken := make([]int, len(p.Blocks)) // streams of each block
	for i, l := range s.plan.StreamLoads() {
		f := l.Format
		block := p.block(f)
		software, known := p.Decode[f.Codec]
		pictures := int64(p.Memory.Pictures) * int64(f.Width) * int64(f.Height) * 3 / 2
		if f.Depth > 8 {
			pictures *= 2
		}
		st := &stream{format: f, cost: software, block: -1, started: -1, slots: p.Queue, done: map[int]bool{}, skipped: map[int]bool{}}
		if block >= 0 && taken[block] < p.Blocks[block].Streams {
			taken[block]++
			st.cost, st.block = p.Blocks[block].Cost, block
		} else if !known {
			return fmt.Sprintf("it refused: it has no decoder for %s %s at %d bits", f.Codec, f.SizeRate(), f.Depth), true
		}
		st.screen = tally.NewScreen(tally.ScreenConfig{Refresh: s.options.Refresh, Late: s.options.Late,
			Frames: tally.Constant{Num: f.Rate.Num, Den: f.Rate.Den}, Spans: s.plan.Spans(i)})
		for range p.Threads {
			st.threads = append(st.threads, len(s.threads))
			s.threads = append(s.threads, false)
		}
		s.streams = append(s.streams, st)
		if s.memory += p.Memory.PerStream + pictures; s.memory > p.Memory.Total {
			s.threads = nil
			return fmt.Sprintf("it ran out of memory at stream %d of %d", i+1, s.plan.Streams()), false
		}
	}
	s.meters.threads = make([]float64, len(s.threads))
	s.sampled.threads = nil
	return "", false
}

// run handles event after event until every screen has finished its windows.
func (s *simulation) run(ctx context.Context, live func(route.Live)) error {
	s.reserved = s.profile.Startup.Cores
	if s.reserved > 0 {
		heap.Push(&s.events, event{at: s.startup, frame: -1})
	}
	s.dispatch(0)
	shown := s.began
	for len(s.events) > 0 {
		e := heap.Pop(&s.events).(event)
		at := s.began.Add(e.at)
		s.clock.AdvanceTo(at)
		s.accrue(at)
		if at.Sub(shown) >= time.Second {
			shown = at
			live(s.live(e.at))
			if err := ctx.Err(); err != nil {
				return err
			}
		}
		switch {
		case e.stream == nil:
			s.reserved = 0
		case e.frame >= 0:
			s.finish(e)
		default:
			s.refresh(e)
		}
		if s.over() {
			return nil
		}
		s.dispatch(e.at)
	}
	return nil
}

// over reports whether all screens have finished.
func (s *simulation) over() bool {
	for _, st := range s.streams {
		if _, more := st.screen.Next(); more {
			return false
		}
	}
	return true
}

func (s *simulation) live(at time.Duration) route.Live {
	l := route.Live{Elapsed: at}
	for _, st := range s.streams {
		f := st.screen.Sum()
		l.Frames.Due, l.Frames.Shown, l.Frames.Dropped = l.Frames.Due+f.Due, l.Frames.Shown+f.Shown, l.Frames.Dropped+f.Dropped
	}
	return l
}

// refresh performs one refresh of a screen and schedules the next.
func (s *simulation) refresh(e event) {
	e.stream.slots += e.stream.screen.Refresh()
	if next, more := e.stream.screen.Next(); more {
		e.at = e.stream.started + next
		heap.Push(&s.events, e)
	}
}

// finish passes a decoded frame, and later ones that waited for it, to the screen.
func (s *simulation) finish(e event) {
	st := e.stream
	if e.core >= 0 {
		s.busy[e.core] = false
	} else {
		s.blocks[st.block] = false
	}
	s.threads[e.thread] = false
	st.threads = append(st.threads, e.thread)
	st.done[e.frame] = true
	for ; st.done[st.deliver] || st.skipped[st.deliver]; st.deliver++ {
		if st.done[st.deliver] {
			at := time.Duration(-1)
			if st.started >= 0 {
				at = e.at - st.started
			}
			st.screen.Decoded(st.deliver, at)
		}
		delete(st.done, st.deliver)
		delete(st.skipped, st.deliver)
	}
	if st.started < 0 && st.deliver >= s.profile.Queue {
		st.started = e.at
		heap.Push(&s.events, event{at: e.at, stream: st, frame: -1})
	}
}

// dispatch assigns the frame that is due first to free cores and blocks.
func (s *simulation) dispatch(now time.Duration) {
	for {
		var first *stream
		var due time.Duration
		for _, st := range s.streams {
			s.skip(st, now)
			if st.slots == 0 || len(st.threads) == 0 || s.server(st) < -1 {
				continue
			}
			if at := st.started + st.screen.Due(st.next); first == nil || at < due {
				first, due = st, at
			}
		}
		if first == nil {
			return
		}
		s.start(first, now)
	}
}

// skip skips the frames of a stream that are too late to decode.
func (s *simulation) skip(st *stream, now time.Duration) {
	for st.started >= 0 && st.slots > 0 && st.screen.TooLate(st.next, now-st.started) {
		if st.skipped[st.next] = true; st.deliver == st.next && !st.done[st.next] {
			delete(st.skipped, st.next)
			st.deliver++
		}
		st.next++
	}
}

// server returns what is free to decode for a stream: a core, -1 for its block, or -2 for
// nothing.
func (s *simulation) server(st *stream) int {
	if st.block >= 0 {
		if s.blocks[st.block] {
			return -2
		}
		return -1
	}
	for i, busy := range s.busy[:len(s.busy)-s.reserved] {
		if !busy {
			return i
		}
	}
	return -2
}

// start starts to decode the next frame of a stream.
func (s *simulation) start(st *stream, now time.Duration) {
	core := s.server(st)
	cost := st.cost.seconds(st.format, frameBits(st.format, st.next)) * s.noise()
	thread := st.threads[len(st.threads)-1]
	st.threads = st.threads[:len(st.threads)-1]
	if core >= 0 {
		s.busy[core], s.threads[thread] = true, true
		cost /= s.speed
	} else { // the thread sleeps meanwhile
		s.blocks[st.block] = true
	}
	if free := s.profile.Memory.Total - s.memory; free < s.profile.Memory.Total/20 {
		cost *= 3 // pages are reclaimed all the time
	}
	heap.Push(&s.events, event{at: now + max(seconds(cost), 1), stream: st, frame: st.next, core: core, thread: thread})
	st.slots--
	st.next++
}

// frameBits returns the size of a frame: with codecs that refer to other pictures, every other
// second begins with a key frame of four times the mean size.
func frameBits(f media.Format, frame int) float64 {
	mean := float64(f.Bitrate) / f.Rate.Hz()
	period := int(2*f.Rate.Hz() + 0.5)
	if registry.IntraOnly(f.Codec) || period < 8 {
		return mean
	}
	if frame%period == 0 {
		return 4 * mean
	}
	return mean * float64(period-4) / float64(period-1)
}

// events is a heap, earliest first; of simultaneous events, ends of decoding come before
// refreshes.
type events []event

func (e events) Len() int { return len(e) }
func (e events) Less(i, j int) bool {
	if e[i].at != e[j].at {
		return e[i].at < e[j].at
	}
	return e[i].frame > e[j].frame
}
func (e events) Swap(i, j int) { e[i], e[j] = e[j], e[i] }
func (e *events) Push(x any)   { *e = append(*e, x.(event)) }
func (e *events) Pop() any {
	last := (*e)[len(*e)-1]
	*e = (*e)[:len(*e)-1]
	return last
}
