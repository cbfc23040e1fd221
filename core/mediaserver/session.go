package mediaserver

import (
	"bytes"
	"context"
	"errors"
	"math"
	"sync"
	"time"

	"vividstrain/core/media"
	"vividstrain/core/media/registry"
)

// session is one conversion for one viewer: it makes segments ahead of requests, then waits; a
// request elsewhere in the film restarts it there.
type session struct {
	id     string
	server *Server
	film   *film
	goal   media.Goal
	cost   int64 // reserved memory, bytes

	mu       sync.Mutex
	changed  chan struct{} // closed when anything changes
	init     []byte        // initialisation segment of the result
	segments map[int][]byte
	next     int // number of the segment being made
	asked    int // number of the last requested segment
	err      error
	used     time.Time
	waiting  int // requests in progress
	stop     context.CancelFunc
	stopped  chan struct{} // closed when the previous conversion has ended; nil: there was none
	running  sync.WaitGroup
}

// kept is how many segments are kept after they were requested.
const kept = 3

// newSession reserves the memory that a conversion needs.
func (b *Server) newSession(f *film, g media.Goal) (*session, error) {
	s := &session{id: newID(), server: b, film: f, goal: g, segments: map[int][]byte{}, changed: make(chan struct{}), used: time.Now(), stop: func() {}}
	in := f.track.Format
	picture := int64(in.Width) * int64(in.Height) * 3 / 2
	if in.Depth > 8 {
		picture *= 2
	}
	// Pictures of decoder and encoder, and the segments made ahead.
	need := 8*picture + 10*int64(g.Width)*int64(g.Height)*3/2 + int64(float64(g.Bitrate)/8*b.options.Ahead.Seconds())
	const steps = 16 // memory fills up gradually
	for range steps {
		if err := b.hold.charge(need / steps); err != nil {
			taken := s.cost
			time.AfterFunc(2*time.Second, func() { b.hold.free(taken) })
			return nil, err
		}
		s.cost += need / steps
	}
	return s, nil
}

// count returns the number of segments of the result.
func (s *session) count() int {
	return max(1, int(math.Ceil(s.film.length()/s.server.options.Segment.Seconds()-1e-6)))
}

// lasts returns the duration of segment n in seconds.
func (s *session) lasts(n int) float64 {
	length := s.server.options.Segment.Seconds()
	return min(length, s.film.length()-float64(n)*length)
}

// get returns a segment when it is made; -1 is the initialisation segment.
func (s *session) get(ctx context.Context, n int) ([]byte, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.used = time.Now()
	s.waiting++
	defer func() { s.waiting-- }()
	switch {
	case n >= s.count():
		return nil, errNoSegment
	case n >= 0:
		s.ask(n)
	case s.init == nil:
		s.ask(0)
	}
	for {
		data := s.init
		if n >= 0 {
			data = s.segments[n]
		}
		if data != nil || s.err != nil {
			s.used = time.Now()
			return data, s.err
		}
		if err := s.await(ctx); err != nil {
			return nil, err
		}
	}
}

// await waits until something changes. The lock is held, except while waiting.
func (s *session) await(ctx context.Context) error {
	changed := s.changed
	s.mu.Unlock()
	defer s.mu.Lock()
	select {
	case <-changed:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

var errEnded = errors.New("this session has ended")

var errNoSegment = errors.New("the film has no such segment")

// ask requests a segment: unless it is one of the next few, the conversion restarts there. The
// lock is held.
func (s *session) ask(n int) {
	if s.segments[n] == nil && (s.stopped == nil || n < s.next || n > s.next+2) {
		s.restart(n)
	}
	s.asked = n
	for k := range s.segments {
		if k < n-kept {
			delete(s.segments, k)
		}
	}
	s.wake()
}

func (s *session) wake() {
	close(s.changed)
	s.changed = make(chan struct{})
}

// restart restarts the conversion at a segment. The lock is held.
func (s *session) restart(n int) {
	s.stop()
	ctx, cancel := context.WithCancel(s.server.ctx)
	s.stop, s.next = cancel, n
	before, done := s.stopped, make(chan struct{})
	s.stopped = done
	s.running.Go(func() {
		defer close(done)
		if before != nil {
			<-before
		}
		err := s.run(ctx, n)
		s.mu.Lock()
		defer s.mu.Unlock()
		if err != nil && ctx.Err() == nil {
			s.err = err
		}
		s.wake()
	})
}

// run converts from segment n on.
func (s *session) run(ctx context.Context, n int) error {
	from := float64(n) * s.server.options.Segment.Seconds()
	source, err := s.film.from(from)
	if err != nil {
		return err
	}
	c, err := s.server.converter(source, s.film, s.goal, s.film.begins+from)
	if err != nil {
		return err
	}
	var buffer bytes.Buffer
	tracks := c.Tracks()
	muxer, err := registry.MP4.ContinueFragmented(&buffer, tracks)
	if err != nil {
		return err
	}
	s.mu.Lock()
	s.init = bytes.Clone(buffer.Bytes())
	s.wake()
	s.mu.Unlock()
	buffer.Reset()
	scale := float64(tracks[0].Timescale)
	made := n
	err = c.Run(ctx, func(p *media.Packet) error {
		q := *p
		shift := int64(math.Round(from * float64(tracks[p.Track].Timescale)))
		q.PTS, q.DTS = q.PTS+shift, q.DTS+shift
		if p.Track == 0 && p.Key && float64(q.PTS)/scale >= float64(made+1)*s.server.options.Segment.Seconds()-1e-6 {
			if err := muxer.Close(); err != nil { // writes what is buffered
				return err
			}
			if err := s.put(ctx, made, &buffer); err != nil {
				return err
			}
			made++
		}
		return muxer.WritePacket(&q)
	})
	if err != nil {
		return err
	}
	if err := muxer.Close(); err != nil {
		return err
	}
	return s.put(ctx, made, &buffer)
}

// put stores a segment, and waits while enough are made ahead.
func (s *session) put(ctx context.Context, n int, b *bytes.Buffer) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if ctx.Err() != nil {
		return ctx.Err()
	}
	s.segments[n], s.next = bytes.Clone(b.Bytes()), n+1
	b.Reset()
	s.wake()
	ahead := max(1, int(s.server.options.Ahead/s.server.options.Segment))
	for s.next > s.asked+ahead {
		if err := s.await(ctx); err != nil {
			return err
		}
	}
	return nil
}

// close ends the session.
func (s *session) close() {
	s.mu.Lock()
	s.stop()
	if s.err == nil {
		s.err = errEnded
	}
	s.wake()
	s.mu.Unlock()
	s.running.Wait()
	s.server.hold.free(s.cost)
}
