package server

import (
	"context"
	"os"
	"sync"
	"sync/atomic"
	"time"

	"vividstrain/core/cputime"

	"vividstrain/core/clock"
	"vividstrain/core/route/link"
	"vividstrain/core/sense"
	"vividstrain/core/sense/linux"
	"vividstrain/core/sense/local"
)

// own measures the measuring side: whether viewers wake up in time, how much of this computer
// they take, and whether arriving data are read at once.
type own struct {
	lag    atomic.Int64 // the worst since the last sample, in nanoseconds
	blocks atomic.Int64 // blocks that each viewer may keep of a film in one file
	group  *linux.Group // this program
	shaper *link.Shaper
	host   []sense.Source
	read   []sense.Reading

	mu      sync.Mutex
	clients []*client
	at      time.Time
	cpu     time.Duration
	woken   func(late time.Duration) // nil outside of benchmarks
}

func newOwn() *own {
	o := &own{group: &linux.Group{}, at: time.Now(), cpu: cputime.Process()}
	o.group.Watch(os.Getpid())
	o.host = local.Host(o.group)
	o.blocks.Store(blocksFor(1))
	return o
}

// tick is how often delays are measured.
const tick = 20 * time.Millisecond

// watch measures viewers until ctx ends.
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

// woke records by how much something woke up too late.
func (o *own) woke(late time.Duration) {
	if o.woken != nil {
		o.woken(late)
	}
	for {
		worst := o.lag.Load()
		if int64(late) <= worst || o.lag.CompareAndSwap(worst, int64(late)) {
			return
		}
	}
}

// Kind returns "viewer".
func (*own) Kind() string { return "viewer" }

// Name returns "viewers".
func (*own) Name() string { return "viewers" }

// maxAsked is the largest number of connections whose receive queues are read in a sample.
const maxAsked = 64

// Sample reads the measuring side.
func (o *own) Sample(ctx context.Context, now time.Time, list []sense.Reading) ([]sense.Reading, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	cpu := cputime.Process()
	if elapsed := now.Sub(o.at); elapsed > 0 {
		list = append(list, sense.Reading{Quantity: sense.ViewerCPU, Value: 100 * (cpu - o.cpu).Seconds() / elapsed.Seconds()})
	}
	if pct, known := o.shaper.Used(now.Sub(o.at), now); known {
		list = append(list, sense.Reading{Quantity: sense.NetLink, Label: "between", Value: pct})
	}
	o.at, o.cpu = now, cpu
	list = append(list, sense.Reading{Quantity: sense.ViewerCores, Value: float64(cputime.Cores())},
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

// others reads what the host of this computer and other programs took.
func (o *own) others(ctx context.Context, now time.Time, list []sense.Reading) []sense.Reading {
	o.read = o.read[:0]
	for _, s := range o.host {
		o.read, _ = s.Sample(ctx, now, o.read) // what cannot be read is not known
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
