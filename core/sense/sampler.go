package sense

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"vividstrain/core/cputime"

	"vividstrain/core/clock"
)

// Poller is a source that is read separately, at its own interval, because reading may take
// long: a meter that is reached over a network.
type Poller interface {
	Source
	// Every returns the interval, and the time limit of one reading.
	Every() (interval, timeout time.Duration)
}

// Gap is a time in which a source failed.
type Gap struct {
	Source Identity
	From   time.Time
	To     time.Time // zero: not yet over
	Reason string
}

// Cost is the cost of reading one source.
type Cost struct {
	Source  Identity
	Samples int
	CPU     time.Duration // processor time in all
	Longest time.Duration // longest sample
}

// Sampler reads sources at a fixed rate.
type Sampler struct {
	out    func(Sample)
	rounds func() // stops the rounds in which quick sources are read
	from   time.Time
	ranks  map[Identity]int // of the sources

	given  sync.Mutex // held during calls of out
	mu     sync.Mutex
	cancel func()         // stops the goroutines of separately read sources
	apart  sync.WaitGroup // those goroutines
	cost   time.Duration  // processor time spent on sampling
	costs  map[Identity]*Cost
	gaps   []Gap
	open   map[Identity]int // gaps that are not over
	late   int
	slow   map[Identity]int // number of slow samples of a source
	latest map[Identity]Sample
}

// slowSample is the duration of a sample from which a source is read separately.
const slowSample = 20 * time.Millisecond

// quickAgain is how many quick samples in a row bring a source back: the device may have been
// saturated for a while.
const quickAgain = 5

// Start reads all sources every interval of the clock and passes the samples to out, one at a
// time, until Stop; out may keep them but not change them. Pollers, and sources that turn out to
// be slow, are read by goroutines of their own. A source that fails leaves a gap.
func Start(ctx context.Context, c clock.Clock, interval time.Duration, sources []Source, out func(Sample)) *Sampler {
	_, wall := c.(clock.Real)
	s := &Sampler{out: out, from: c.Now(),
		costs: map[Identity]*Cost{}, open: map[Identity]int{}, slow: map[Identity]int{}, ranks: map[Identity]int{}, latest: map[Identity]Sample{}}
	ctx, s.cancel = context.WithCancel(ctx)
	var quick []Source
	for i, source := range sources {
		s.ranks[Identify(source)] = i
	}
	for _, source := range sources {
		p, polls := source.(Poller)
		switch {
		case polls && wall:
			every, timeout := p.Every()
			s.alone(ctx, source, every, timeout, nil)
		case polls: // it measures in real time, which has no meaning in virtual time
		default:
			quick = append(quick, source)
		}
	}
	back := make(chan Source, len(quick)) // sources that are quick again
	buffers := make(map[Source][]Reading, len(quick))
	s.rounds = c.Every(interval, func(now time.Time) {
		runtime.LockOSThread() // so that cputime.Thread is of one thread
		defer runtime.UnlockOSThread()
		if wall && time.Since(now) > interval/2 {
			s.mu.Lock()
			s.late++
			s.mu.Unlock()
		}
		for len(back) > 0 {
			quick = append(quick, <-back)
		}
		var slow []Source
		for _, source := range quick {
			list, took := s.sample(ctx, source, now, buffers[source][:0])
			if buffers[source] = list; wall && took > slowSample {
				slow = append(slow, source)
			}
		}
		for _, source := range slow {
			if s.slowAgain(Identify(source)) {
				quick = slices.DeleteFunc(quick, func(q Source) bool { return q == source })
				s.alone(ctx, source, max(interval, time.Second), 10*time.Second, back)
			}
		}
	})
	return s
}

// slowAgain reports whether a source was slow for the third time: a single slow sample may be
// chance.
func (s *Sampler) slowAgain(source Identity) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.slow[source]++; s.slow[source] < 3 {
		return false
	}
	s.slow[source] = 0
	return true
}

// alone reads a source from a goroutine of its own. When the source is quick again it is sent to
// back, unless back is nil.
func (s *Sampler) alone(ctx context.Context, source Source, every, timeout time.Duration, back chan<- Source) {
	s.apart.Go(func() {
		runtime.LockOSThread()
		defer runtime.UnlockOSThread()
		ticker := time.NewTicker(every)
		defer ticker.Stop()
		var buffer []Reading
		for inRow := 0; ; {
			limited, done := context.WithTimeout(ctx, timeout)
			var took time.Duration
			buffer, took = s.sample(limited, source, time.Now(), buffer[:0])
			done()
			if inRow++; took > slowSample {
				inRow = 0
			}
			if back != nil && inRow >= quickAgain {
				back <- source
				return
			}
			select {
			case <-ticker.C:
			case <-ctx.Done():
				return
			}
		}
	})
}

// Timed is a source whose readings are older than the moment at which it is read.
type Timed interface{ ReadAt() time.Time }

// sample reads one source and returns how long that took.
func (s *Sampler) sample(ctx context.Context, source Source, now time.Time, list []Reading) ([]Reading, time.Duration) {
	begun, cpu := time.Now(), cputime.Thread()
	list, err := source.Sample(ctx, now, list)
	took := time.Since(begun)
	used := cputime.Thread() - cpu
	if t, ok := source.(Timed); ok && !t.ReadAt().IsZero() {
		now = t.ReadAt()
	}
	id := Identify(source)
	if ctx.Err() != nil && errors.Is(err, context.Canceled) {
		return list, took // the sampler was stopped
	}
	s.mu.Lock()
	s.cost += used
	c := s.costs[id]
	if c == nil {
		c = &Cost{Source: id}
		s.costs[id] = c
	}
	c.Samples++
	c.CPU += used
	c.Longest = max(c.Longest, took)
	s.mark(id, now, err)
	kept := Sample{now, id, s.ranks[id], slices.Clone(list)}
	if len(list) > 0 {
		s.latest[id] = kept
	}
	s.mu.Unlock()
	if len(list) > 0 {
		s.given.Lock()
		s.out(kept)
		s.given.Unlock()
	}
	return list, took
}

// maxGaps is the largest number of gaps that are kept.
const maxGaps = 1000

// mark begins the gap of a source that failed, or ends it.
func (s *Sampler) mark(source Identity, now time.Time, err error) {
	i, open := s.open[source]
	switch {
	case err == nil && open:
		s.gaps[i].To = now
		delete(s.open, source)
	case err != nil && !open && len(s.gaps) < maxGaps:
		s.open[source] = len(s.gaps)
		s.gaps = append(s.gaps, Gap{Source: source, From: now, Reason: Reason(err)})
	}
}

// Reason describes in a few words why something could not be read.
func Reason(err error) string {
	var path *fs.PathError
	switch {
	case errors.Is(err, context.DeadlineExceeded):
		return "it did not answer in time"
	case errors.As(err, &path) && errors.Is(err, fs.ErrNotExist):
		return fmt.Sprintf("there is no %s", path.Path)
	case errors.As(err, &path) && errors.Is(err, fs.ErrPermission):
		return fmt.Sprintf("%s may not be read", path.Path)
	}
	return strings.Join(strings.Fields(err.Error()), " ")
}

// Stop stops the sampling.
func (s *Sampler) Stop() {
	s.rounds()
	s.cancel()
	s.apart.Wait()
}

// Gaps returns the times in which sources failed.
func (s *Sampler) Gaps() []Gap {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.gaps)
}

// Late returns the number of rounds of samples that began more than half an interval late.
func (s *Sampler) Late() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.late
}

// Costs returns the cost of reading each source, by name.
func (s *Sampler) Costs() (list []Cost) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, c := range s.costs {
		list = append(list, *c)
	}
	slices.SortFunc(list, func(a, b Cost) int {
		return cmp.Or(cmp.Compare(a.Source.Name, b.Source.Name), cmp.Compare(a.Source.Kind, b.Source.Kind))
	})
	return list
}

// Latest returns the last sample of each source.
func (s *Sampler) Latest() map[Identity]Sample {
	s.mu.Lock()
	defer s.mu.Unlock()
	list := make(map[Identity]Sample, len(s.latest))
	maps.Copy(list, s.latest)
	return list
}

// CostPct returns the processor time spent on sampling so far, in percent of one core.
func (s *Sampler) CostPct(now time.Time) float64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	if elapsed := now.Sub(s.from); elapsed > 0 {
		return 100 * s.cost.Seconds() / elapsed.Seconds()
	}
	return 0
}
