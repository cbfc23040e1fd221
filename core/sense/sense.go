// Package sense reads what a device is doing: sources of readings, and a
// sampler that reads them at a fixed rate.
package sense

import (
	"cmp"
	"context"
	"math"
	"runtime"
	"slices"
	"sync"
	"time"

	"vividstrain/core/clock"
)

// The quantities that are known by name. The unit is in the name.
const (
	CPU         = "cpu_pct"             // all cores together, 100: all busy
	CPUCore     = "cpu_core_pct"        // one core, 100: busy; the label is its number
	GroupCPU    = "group_cpu_pct"       // the watched processes, 100: one core busy
	ThreadMax   = "thread_max_pct"      // busiest thread of the watched processes, 100: one core
	MemUsed     = "mem_used_bytes"      // in use on the whole device
	MemFree     = "mem_available_bytes" // to be had without swapping
	MemTotal    = "mem_total_bytes"
	SwapRate    = "swap_bps" // bytes a second swapped in and out
	GroupMem    = "group_mem_bytes"
	BlockUse    = "gpu_decode_pct" // fixed-function decoder, 100: busy
	Temperature = "temp_c"
	Power       = "power_w"
	Clock       = "clock_pct" // of the full clock
)

// Reading is one value of one quantity.
type Reading struct {
	Quantity string
	Label    string // which one, where there are several: a core's number
	Value    float64
}

// Key is the quantity with its label: "cpu_core_pct:3".
func (r Reading) Key() string {
	if r.Label == "" {
		return r.Quantity
	}
	return r.Quantity + ":" + r.Label
}

// Source is something readings come from.
type Source interface {
	Name() string
	// Sample appends what the source reads now to list. Rates are since
	// the sample before; the first sample of a source lacks them.
	Sample(ctx context.Context, now time.Time, list []Reading) ([]Reading, error)
}

// Sample is what one source read at one time.
type Sample struct {
	At       time.Time
	Source   string
	Readings []Reading
}

// Sampler reads sources at a fixed rate.
type Sampler struct {
	stop func()
	mu   sync.Mutex
	cost time.Duration // processor time spent on sampling
	from time.Time
}

// Start reads all sources every interval of the clock and hands the samples to
// out, one at a time, until Stop. A source that fails is left out of that round.
func Start(ctx context.Context, c clock.Clock, interval time.Duration, sources []Source, out func(Sample)) *Sampler {
	s := &Sampler{from: c.Now()}
	buffers := make([][]Reading, len(sources))
	s.stop = c.Every(interval, func(now time.Time) {
		runtime.LockOSThread() // so that threadTime is of one thread
		defer runtime.UnlockOSThread()
		begun := threadTime()
		for i, source := range sources {
			list, err := source.Sample(ctx, now, buffers[i][:0])
			if buffers[i] = list; err == nil && len(list) > 0 {
				out(Sample{At: now, Source: source.Name(), Readings: list})
			}
		}
		s.mu.Lock()
		s.cost += threadTime() - begun
		s.mu.Unlock()
	})
	return s
}

// Stop ends the sampling.
func (s *Sampler) Stop() { s.stop() }

// CostPct is the processor time that sampling has taken up to now, in percent
// of one core.
func (s *Sampler) CostPct(now time.Time) float64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	if elapsed := now.Sub(s.from); elapsed > 0 {
		return 100 * s.cost.Seconds() / elapsed.Seconds()
	}
	return 0
}

// Stat sums up the values of one quantity over a window.
type Stat struct {
	Mean float64 `json:"mean"`
	P95  float64 `json:"p95"` // nearest rank
	Max  float64 `json:"max"`
	Min  float64 `json:"min"`
	N    int     `json:"n"` // how many readings
}

// Use is what a device used in a window, by the key of the reading.
type Use map[string]Stat

// Summarise sums up the samples from one time up to, not including, another.
func Summarise(samples []Sample, from, to time.Time) Use {
	values := map[string][]float64{}
	for _, s := range samples {
		if s.At.Before(from) || !s.At.Before(to) {
			continue
		}
		for _, r := range s.Readings {
			values[r.Key()] = append(values[r.Key()], r.Value)
		}
	}
	use := Use{}
	for key, list := range values {
		use[key] = stat(list)
	}
	return use
}

// stat sums up values, at least one; it puts them in order.
func stat(values []float64) Stat {
	slices.SortFunc(values, cmp.Compare[float64])
	sum := 0.0
	for _, v := range values {
		sum += v
	}
	n := len(values)
	rank := int(math.Ceil(0.95*float64(n))) - 1
	return Stat{Mean: sum / float64(n), P95: values[rank], Min: values[0], Max: values[n-1], N: n}
}
