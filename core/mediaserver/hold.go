package mediaserver

import (
	"context"
	"errors"
	"net/http"
	"runtime"
	"sync"
	"sync/atomic"
	"time"

	"vividstrain/core/cputime"

	"golang.org/x/time/rate"

	"vividstrain/core/clock"
	"vividstrain/core/sense"
)

// hold limits the server to its share of processor, memory and link, and measures how much of it
// is used.
type hold struct {
	cores  float64 // 0: no limit
	memory int64   // bytes, 0: no limit
	link   *rate.Limiter
	bits   float64 // a second, of the link

	conversions atomic.Int64 // begun so far

	mu      sync.Mutex
	credit  time.Duration // processor time that may be spent
	counted time.Time
	spent   time.Duration // processor time of the program at that time
	charged int64
	sent    int64
	sampled usage
}

// usage is what was used up to a time.
type usage struct {
	at   time.Time
	cpu  time.Duration
	sent int64
}

// own is the memory of the server without conversions, bytes.
const own = 30 << 20

// chunk is how much is sent at once over a limited link, bytes.
const chunk = 16 << 10

func newHold(o Options) *hold {
	h := &hold{cores: o.Cores, memory: o.Memory, bits: float64(o.Link), counted: time.Now(), spent: cputime.Process(), charged: own}
	h.sampled = usage{at: h.counted, cpu: h.spent}
	if o.Link > 0 {
		h.link = rate.NewLimiter(rate.Limit(o.Link/8), 2*chunk)
	}
	return h
}

// gate waits until the server may use its processor again.
func (h *hold) gate(ctx context.Context) error {
	if h.cores <= 0 {
		return ctx.Err()
	}
	for {
		wait := h.overdrawn()
		if wait <= 0 {
			return ctx.Err()
		}
		if err := (clock.Real{}).Sleep(ctx, min(wait, 100*time.Millisecond)); err != nil {
			return err
		}
	}
}

// overdrawn returns how long it takes until there is credit again. Unused time is saved up for a
// quarter of a second.
func (h *hold) overdrawn() time.Duration {
	h.mu.Lock()
	defer h.mu.Unlock()
	now, spent := time.Now(), cputime.Process()
	gained := time.Duration(float64(now.Sub(h.counted)) * h.cores)
	h.credit = min(h.credit+gained-(spent-h.spent), time.Duration(h.cores*float64(250*time.Millisecond)))
	h.counted, h.spent = now, spent
	return time.Duration(float64(-h.credit) / h.cores)
}

// errMemory means that there is too little memory for another conversion.
var errMemory = errors.New("the server has no memory for another conversion")

// charge reserves memory, all or nothing.
func (h *hold) charge(n int64) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.memory > 0 && h.charged+n > h.memory {
		return errMemory
	}
	h.charged += n
	return nil
}

// free releases memory.
func (h *hold) free(n int64) {
	h.mu.Lock()
	h.charged -= n
	h.mu.Unlock()
}

// writer sends over the limited link.
type writer struct {
	http.ResponseWriter
	ctx  context.Context
	hold *hold
}

func (w writer) Write(p []byte) (n int, err error) {
	for len(p) > 0 && err == nil {
		piece := p[:min(len(p), chunk)]
		if w.hold.link != nil {
			if err = w.hold.link.WaitN(w.ctx, len(piece)); err != nil {
				return n, err
			}
		}
		var sent int
		sent, err = w.ResponseWriter.Write(piece)
		n, p = n+sent, p[sent:]
		w.hold.mu.Lock()
		w.hold.sent += int64(sent)
		w.hold.mu.Unlock()
	}
	return n, err
}

// Unwrap gives http.ResponseController access to flushing and deadlines.
func (w writer) Unwrap() http.ResponseWriter { return w.ResponseWriter }

// Kind returns "server".
func (h *hold) Kind() string { return "server" }

// Name returns "box".
func (h *hold) Name() string { return "box" }

// Sample reads the server's use of its share, as if the share were the whole device.
func (h *hold) Sample(_ context.Context, now time.Time, list []sense.Reading) ([]sense.Reading, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	u := usage{at: now, cpu: cputime.Process(), sent: h.sent}
	elapsed := now.Sub(h.sampled.at).Seconds()
	if elapsed <= 0 {
		return list, nil
	}
	busy := 100 * (u.cpu - h.sampled.cpu).Seconds() / elapsed
	list = append(list, sense.Reading{Quantity: sense.GroupCPU, Value: busy}, sense.Reading{Quantity: sense.GroupMem, Value: float64(h.charged)})
	list = append(list, sense.Reading{Quantity: sense.Conversions, Value: float64(h.conversions.Load())})
	cores := float64(runtime.NumCPU())
	if h.cores > 0 {
		cores = h.cores
		list = append(list, sense.Reading{Quantity: sense.GroupCPULimit, Value: 100 * cores})
	}
	list = append(list, sense.Reading{Quantity: sense.CPU, Value: min(100, busy/cores)})
	if h.memory > 0 {
		list = append(list, sense.Reading{Quantity: sense.MemTotal, Value: float64(h.memory)}, sense.Reading{Quantity: sense.MemUsed, Value: float64(h.charged)},
			sense.Reading{Quantity: sense.MemFree, Value: float64(h.memory - h.charged)},
			sense.Reading{Quantity: sense.GroupMemLimit, Value: float64(h.memory)}, sense.Reading{Quantity: sense.GroupCharged, Value: float64(h.charged)})
	}
	if h.bits > 0 {
		list = append(list, sense.Reading{Quantity: sense.NetLink, Label: "port", Value: 100 * 8 * float64(u.sent-h.sampled.sent) / elapsed / h.bits})
	}
	h.sampled = u
	return list, nil
}
