// Package link makes connections as slow, as far away and as lossy as a network that is between a
// server and those who watch.
package link

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"net"
	"os"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/time/rate"

	"vividstrain/core/media"
)

// Link is a network between a server and its viewers that is slower than the real one. The zero
// value changes nothing.
type Link struct {
	Rates  []Rate        // in order of time; nil: no limit
	Viewer bool          // the rates are each viewer's own, not shared by all
	Delay  time.Duration // round trip
	Loss   float64       // share of packets, 0 to 1
}

// Rate is the rate of a link from some time after the start of an attempt on.
type Rate struct {
	From time.Duration
	BPS  int64
}

// Parse parses the rates of a link: "20M" for all viewers together, "20M/viewer" for each of
// them, "2M,20M@20s" for rates that change with time.
func Parse(text string) (l Link, err error) {
	if text == "" {
		return l, nil
	}
	rates, of, _ := strings.Cut(text, "/")
	if l.Viewer = of == "viewer"; !l.Viewer && of != "" {
		return l, fmt.Errorf("--link %q: after the slash only \"viewer\" makes sense, like 20M/viewer", text)
	}
	for i, part := range strings.Split(rates, ",") {
		speed, at, timed := strings.Cut(part, "@")
		r := Rate{}
		if r.BPS, err = media.ParseBitrate(speed); err != nil || r.BPS < 8000 {
			return l, fmt.Errorf("--link %q: write it like 20M, 20M/viewer or 2M,20M@20s", text)
		}
		if timed {
			if r.From, err = time.ParseDuration(at); err != nil {
				return l, fmt.Errorf("--link %q: %q is not a time; write 2M,20M@20s", text, at)
			}
		}
		if timed != (i > 0) || i > 0 && r.From <= l.Rates[i-1].From {
			return l, fmt.Errorf("--link %q: the first rate has no time, and each further one a later time, like 2M,20M@20s", text)
		}
		l.Rates = append(l.Rates, r)
	}
	return l, nil
}

// Values are the settings of a link, as route.Values has them.
type Values interface {
	String(name string) string
	Duration(name string) time.Duration
}

// Open returns the link that the settings link, delay and loss state.
func Open(v Values) (l Link, err error) {
	if l, err = Parse(v.String("link")); err != nil {
		return l, err
	}
	l.Delay = v.Duration("delay")
	if text := v.String("loss"); text != "" {
		if l.Loss, err = strconv.ParseFloat(strings.TrimSuffix(text, "%"), 64); err != nil {
			return l, fmt.Errorf("--loss is a share like 0.5%%, not %q", text)
		}
		l.Loss /= 100
	}
	return l, nil
}

// String writes the rates as Parse reads them.
func (l Link) String() string {
	parts := make([]string, len(l.Rates))
	for i, r := range l.Rates {
		parts[i] = media.FormatBitrate(r.BPS)
		if i > 0 {
			parts[i] += "@" + r.From.String()
		}
	}
	text := strings.Join(parts, ",")
	if l.Viewer && text != "" {
		text += "/viewer"
	}
	return text
}

// Check returns what is wrong with the settings.
func (l Link) Check() error {
	switch {
	case l.Delay < 0 || l.Delay > 10*time.Second:
		return fmt.Errorf("--delay is 0s to 10s, not %s", l.Delay)
	case !(l.Loss >= 0 && l.Loss <= 0.5):
		return fmt.Errorf("--loss is 0%% to 50%%, not %g%%", 100*l.Loss)
	case l.Loss > 0 && l.Delay == 0:
		return errors.New("--loss needs --delay: what lost packets do to a connection depends on its round trip")
	}
	return nil
}

// changesNothing reports whether there is no link between.
func (l Link) changesNothing() bool { return len(l.Rates) == 0 && l.Delay == 0 }

// segmentSize is the payload of a TCP segment on Ethernet, in bytes.
const segmentSize = 1460

// LossRate is the rate in bits per second to which a connection that loses packets settles, 0 for
// no limit (M. Mathis, J. Semke, J. Mahdavi, T. Ott: The Macroscopic Behavior of the TCP
// Congestion Avoidance Algorithm, 1997, with C = sqrt(3/2)).
func (l Link) LossRate() float64 {
	if l.Loss == 0 {
		return 0
	}
	return 8 * segmentSize / l.Delay.Seconds() * math.Sqrt(1.5/l.Loss)
}

// Shaper makes connections as slow as a link.
type Shaper struct {
	link   Link
	began  atomic.Int64 // start of the attempt, nanoseconds since 1970
	shared *rate.Limiter
	passed atomic.Int64 // bytes since the last sample
}

// New returns a shaper of connections over a link.
func New(l Link) *Shaper {
	return &Shaper{link: l, shared: rate.NewLimiter(rate.Inf, burst)}
}

// burst is how many bytes may pass at once: a few segments, as in a router's queue.
const burst = 16 << 10

// Start starts the time of the rates.
func (s *Shaper) Start() { s.began.Store(time.Now().UnixNano()) }

// rateNow returns the rate of the link at a time, in bits per second; 0 for no limit.
func (s *Shaper) rateNow(now time.Time) (bps float64) {
	since := time.Duration(now.UnixNano() - s.began.Load())
	for _, r := range s.link.Rates {
		if r.From <= since {
			bps = float64(r.BPS)
		}
	}
	return bps
}

// Used returns the share of a shared link that was used since the last call, in percent; false
// where there is none.
func (s *Shaper) Used(elapsed time.Duration, now time.Time) (pct float64, known bool) {
	bytes := s.passed.Swap(0)
	bps := s.rateNow(now)
	if bps == 0 || s.link.Viewer || elapsed <= 0 {
		return 0, false
	}
	return min(100, 100*8*float64(bytes)/bps/elapsed.Seconds()), true
}

// Wrap makes a connection as slow as the link, and as far away.
func (s *Shaper) Wrap(conn net.Conn) net.Conn {
	if s.link.changesNothing() {
		return conn
	}
	if tcp, ok := conn.(*net.TCPConn); ok {
		tcp.SetReadBuffer(64 << 10) // so that the server notices the link
	}
	c := &shapedConn{Conn: conn, lane: s.newLane(), arrived: make(chan parcel, maxParcels), closed: make(chan struct{})}
	go c.receive()
	return c
}

// lane is a connection's way over a link.
type lane struct {
	shaper    *Shaper
	own, loss *rate.Limiter // of this connection: of its own link, and of what loss leaves
}

func (s *Shaper) newLane() lane {
	l := lane{s, rate.NewLimiter(rate.Inf, burst), rate.NewLimiter(rate.Inf, burst)}
	if bps := s.link.LossRate(); bps > 0 {
		l.loss.SetLimit(rate.Limit(bps / 8))
	}
	return l
}

// maxParcels bounds what is on its way on a link, in reads of up to burst bytes.
const maxParcels = 256

// parcel is data on its way.
type parcel struct {
	data []byte
	due  time.Time
	err  error
}

// shapedConn is a connection over a link: what it receives passes the link at its rate and
// arrives a round trip later. The delay of the way there is part of that: a request is followed
// by its answer in any case.
type shapedConn struct {
	net.Conn
	lane
	arrived  chan parcel
	rest     []byte
	failed   error
	closed   chan struct{}
	once     sync.Once
	deadline atomic.Int64
}

// receive moves data over the link.
func (c *shapedConn) receive() {
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	go func() {
		select {
		case <-c.closed:
			cancel()
		case <-ctx.Done():
		}
	}()
	for {
		data := make([]byte, burst)
		n, err := c.Conn.Read(data)
		if n > 0 && c.pass(ctx, n) != nil {
			return
		}
		c.shaper.passed.Add(int64(n))
		select {
		case c.arrived <- parcel{data[:n], time.Now().Add(c.shaper.link.Delay), err}:
		case <-c.closed:
			return
		}
		if err != nil {
			return
		}
	}
}

// pass waits until n bytes have passed the link.
func (l lane) pass(ctx context.Context, n int) error {
	limiter := l.shaper.shared
	if l.shaper.link.Viewer {
		limiter = l.own
	}
	limit := rate.Inf
	if bps := l.shaper.rateNow(time.Now()); bps > 0 {
		limit = rate.Limit(bps / 8)
	}
	if limiter.Limit() != limit {
		limiter.SetLimit(limit)
	}
	return errors.Join(limiter.WaitN(ctx, n), l.loss.WaitN(ctx, n))
}

// Read returns what has arrived over the link.
func (c *shapedConn) Read(p []byte) (int, error) {
	for len(c.rest) == 0 {
		if c.failed != nil {
			return 0, c.failed
		}
		select {
		case next := <-c.arrived:
			if err := c.sleep(time.Until(next.due)); err != nil {
				return 0, err
			}
			c.rest, c.failed = next.data, next.err
		case <-c.closed:
			return 0, net.ErrClosed
		case <-c.timeout():
			return 0, os.ErrDeadlineExceeded
		}
	}
	n := copy(p, c.rest)
	c.rest = c.rest[n:]
	return n, nil
}

// sleep waits, unless the connection is closed.
func (c *shapedConn) sleep(d time.Duration) error {
	if d <= 0 {
		return nil
	}
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-timer.C:
		return nil
	case <-c.closed:
		return io.ErrClosedPipe
	}
}

// timeout returns what ends a read at its deadline, nil where it has none.
func (c *shapedConn) timeout() <-chan time.Time {
	at := c.deadline.Load()
	if at == 0 {
		return nil
	}
	return time.After(time.Until(time.Unix(0, at)))
}

// SetReadDeadline sets when reads fail.
func (c *shapedConn) SetReadDeadline(t time.Time) error {
	if t.IsZero() {
		c.deadline.Store(0)
	} else {
		c.deadline.Store(t.UnixNano())
	}
	return nil
}

// SetDeadline sets when reads and writes fail.
func (c *shapedConn) SetDeadline(t time.Time) error {
	return errors.Join(c.SetReadDeadline(t), c.Conn.SetWriteDeadline(t))
}

// Close closes the connection.
func (c *shapedConn) Close() error {
	c.once.Do(func() { close(c.closed) })
	return c.Conn.Close()
}

// Listen returns a listener whose connections send over the link.
func (s *Shaper) Listen(l net.Listener) net.Listener {
	if s.link.changesNothing() {
		return l
	}
	return &shapedListener{l, s}
}

type shapedListener struct {
	net.Listener
	shaper *Shaper
}

// Accept waits for the next connection.
func (l *shapedListener) Accept() (net.Conn, error) {
	conn, err := l.Listener.Accept()
	if err != nil {
		return nil, err
	}
	if tcp, ok := conn.(*net.TCPConn); ok {
		tcp.SetWriteBuffer(64 << 10) // so that the link, not the buffer, is what is waited for
	}
	return l.shaper.sender(conn), nil
}

// sender makes what is sent over a connection pass the link.
func (s *Shaper) sender(conn net.Conn) net.Conn {
	c := &sendingConn{Conn: conn, lane: s.newLane()}
	c.ctx, c.cancel = context.WithCancel(context.Background())
	return c
}

// sendingConn is a connection whose writes pass a link. A request waits for the round trip.
type sendingConn struct {
	net.Conn
	lane
	ctx    context.Context
	cancel context.CancelFunc
	asked  atomic.Int64 // when something was last received, nanoseconds; 0: answered since
}

// Read notes that something was asked for.
func (c *sendingConn) Read(p []byte) (int, error) {
	n, err := c.Conn.Read(p)
	if n > 0 {
		c.asked.Store(time.Now().UnixNano())
	}
	return n, err
}

// Write sends over the link; the first write after something was received comes a round trip
// after it.
func (c *sendingConn) Write(p []byte) (sent int, err error) {
	if at := c.asked.Swap(0); at > 0 && c.shaper.link.Delay > 0 {
		timer := time.NewTimer(time.Until(time.Unix(0, at).Add(c.shaper.link.Delay)))
		defer timer.Stop()
		select {
		case <-timer.C:
		case <-c.ctx.Done():
			return 0, net.ErrClosed
		}
	}
	for len(p) > 0 {
		part := p[:min(len(p), burst)]
		if err := c.pass(c.ctx, len(part)); err != nil {
			return sent, err
		}
		c.shaper.passed.Add(int64(len(part)))
		n, err := c.Conn.Write(part)
		if sent += n; err != nil {
			return sent, err
		}
		p = p[len(part):]
	}
	return sent, nil
}

// Close closes the connection.
func (c *sendingConn) Close() error {
	c.cancel()
	return c.Conn.Close()
}
