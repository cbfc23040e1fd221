package server

import (
	"context"
	"os"
	"runtime"
	"sync"
	"sync/atomic"
	"time"

	"vividstrain/core/cputime"

	"vividstrain/core/clock"
	"vividstrain/core/sense"
	"vividstrain/core/sense/linux"
	"vividstrain/core/sense/local"
)

// own watches the measuring side: whether viewers wake up in time, what they
// take of this computer, and whether what arrives is taken at once.
type own struct {
	lag    atomic.Int64 // the worst since the last sample, in nanoseconds
	blocks atomic.Int64 // that each viewer may keep of a film in one file
	group  *linux.Group // this program
	host   []sense.Source
	read   []sense.Reading

	mu      sync.Mutex
	clients []*client
	at      time.Time
	cpu     time.Duration
}

func newOwn() *own {
	o := &own{group: &linux.Group{}, at: time.Now(), cpu: cputime.Process()}
	o.group.Watch(os.Getpid())
	o.host = local.Host(o.group)
	o.blocks.Store(blocksFor(1))
	return o
}

// tick is how often it is looked whether things happen in time.
const tick = 20 * time.Millisecond

// watch looks after viewers until ctx ends.
func (o *own) watch(ctx context.Context, viewers []*viewer) {
	clients := make([]*client, len(viewers))
	for i, v := range viewers {
		clients[i] = v.client
	}
	o.mu.Lock()
	o.clients = clients
	o.mu.Unlock()
	go func() {
		for due := time.Now().Add(tick); (clock.Real{}).Sleep(ctx, time.Until(due)) == nil; due = time.Now().Add(tick) {
			o.woke(time.Since(due))
		}
	}()
}

// woke takes down by how much somebody woke up too late.
func (o *own) woke(late time.Duration) {
	for {
		worst := o.lag.Load()
		if int64(late) <= worst || o.lag.CompareAndSwap(worst, int64(late)) {
			return
		}
	}
}

// Kind is that of the source.
func (*own) Kind() string { return "viewer" }

// Name is the name of the measuring side as a source of readings.
func (*own) Name() string { return "viewers" }

// maxAsked bounds the connections whose queues are read in a sample.
const maxAsked = 64

// Sample reads the measuring side.
func (o *own) Sample(ctx context.Context, now time.Time, list []sense.Reading) ([]sense.Reading, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	cpu := cputime.Process()
	if elapsed := now.Sub(o.at); elapsed > 0 {
		list = append(list, sense.Reading{Quantity: sense.ViewerCPU, Value: 100 * (cpu - o.cpu).Seconds() / elapsed.Seconds()})
	}
	o.at, o.cpu = now, cpu
	list = append(list, sense.Reading{Quantity: sense.ViewerCores, Value: float64(runtime.GOMAXPROCS(0))},
		sense.Reading{Quantity: sense.ViewerLag, Value: float64(o.lag.Swap(0)) / 1e6})
	list = o.others(ctx, now, list)
	worst, known := 0, false
	for _, c := range o.clients[:min(len(o.clients), maxAsked)] {
		if n, ok := unread(c.conn.Load()); ok {
			worst, known = max(worst, n), true
		}
	}
	if known {
		list = append(list, sense.Reading{Quantity: sense.ViewerUnread, Value: float64(worst)})
	}
	return list, nil
}

// others reads what the host of this computer and other programs took of it.
func (o *own) others(ctx context.Context, now time.Time, list []sense.Reading) []sense.Reading {
	o.read = o.read[:0]
	for _, s := range o.host {
		o.read, _ = s.Sample(ctx, now, o.read) // what cannot be read here is not known
	}
	for _, r := range o.read {
		switch r.Quantity {
		case sense.CPUSteal:
			r.Quantity = sense.ViewerSteal
		case sense.OthersCPU:
			r.Quantity = sense.ViewerOthers
		case sense.OtherCPU:
			r.Quantity = sense.ViewerOther
		default:
			continue
		}
		list = append(list, r)
	}
	return list
}
