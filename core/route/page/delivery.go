package page

import (
	"context"
	"net/http"
	"sync"
	"time"

	"vividstrain/core/sense"
)

// delivery measures what is sent to pages, and for how long sending had to wait.
type delivery struct {
	mu      sync.Mutex
	hungry  bool // a page has little in hand and wants more
	writing int  // writes under way
	since   time.Time
	waited  time.Duration // in writes, since the last sample
	bytes   int64         // since the last sample
	sampled time.Time

	hungryFor, starved time.Duration // of the attempt: little in hand, and while the network was waited for
}

// Kind returns "delivery".
func (*delivery) Kind() string { return "delivery" }

// Name returns "delivery".
func (*delivery) Name() string { return "delivery" }

// advance counts the time for which writes have been under way.
func (d *delivery) advance(now time.Time) {
	if d.writing > 0 {
		d.waited += now.Sub(d.since)
	}
	if d.hungry {
		d.hungryFor += now.Sub(d.since)
		if d.writing > 0 {
			d.starved += now.Sub(d.since)
		}
	}
	d.since = now
}

// write is called before and after each write.
func (d *delivery) write(begin bool, n int) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.advance(time.Now())
	if begin {
		d.writing++
	} else {
		d.writing--
		d.bytes += int64(n)
	}
}

// wants notes whether a page has little in hand and would take more.
func (d *delivery) wants(hungry bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.advance(time.Now())
	d.hungry = hungry
}

// begin begins the account of an attempt.
func (d *delivery) begin() {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.since, d.hungryFor, d.starved = time.Now(), 0, 0
}

// playersFault reports whether a page had little in hand for long although what was sent did not
// wait for the network: the player did not fetch.
func (d *delivery) playersFault(hold time.Duration) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.hungryFor > hold/2 && d.starved < d.hungryFor/2
}

// Sample reads how much was sent, and, while a page has little in hand, the share of the time for
// which sending waited for the network: a full link.
func (d *delivery) Sample(_ context.Context, now time.Time, list []sense.Reading) ([]sense.Reading, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	at := time.Now()
	d.advance(at)
	if elapsed := at.Sub(d.sampled); !d.sampled.IsZero() && elapsed > 0 {
		list = append(list, sense.Reading{Quantity: sense.NetSend, Label: "page", Value: 8 * float64(d.bytes) / elapsed.Seconds()})
		if d.hungry {
			list = append(list, sense.Reading{Quantity: sense.NetLink, Label: "to the page", Value: sense.Percent(d.waited.Seconds() / elapsed.Seconds())})
		}
	}
	d.sampled, d.waited, d.bytes = at, 0, 0
	return list, nil
}

// measured counts what is written through it. It hides other interfaces of the writer, so that
// every byte passes here.
type measured struct {
	http.ResponseWriter
	delivery *delivery
}

func (m measured) Write(p []byte) (n int, err error) {
	m.delivery.write(true, 0)
	n, err = m.ResponseWriter.Write(p)
	m.delivery.write(false, n)
	return n, err
}
