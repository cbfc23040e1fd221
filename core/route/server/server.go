// Package server puts loads on an HTTP media server: virtual viewers fetch films as players do,
// by progressive HTTP, HLS (RFC 8216) and DASH (ISO/IEC 23009-1), play them against a media
// clock, and check what arrives. Audio that is separate from the pictures is not fetched.
// AES-128 is the only supported encryption.
package server

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"net"
	"os"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"vividstrain/core/clock"
	"vividstrain/core/load"
	"vividstrain/core/media"
	"vividstrain/core/route"
	"vividstrain/core/route/link"
	"vividstrain/core/sense"
	"vividstrain/core/tally"
)

// Options are the settings of the route.
type Options struct {
	// URL is the address of films, with placeholders ({clip}, {goal}, {height} and so on, see
	// Fill); empty where List has a load's address.
	URL      string
	List     []Entry
	Login    string        // name and password, separated by a colon
	Token    string        // bearer token
	CA       string        // file of further trusted certificates, may be empty
	ListFile string        // file from which List was read, for the record
	Jumps    int           // seeks after the steady window
	Verify   float64       // share of the segments that are decoded, 0 to 1
	Seed     uint64        // of jumps and the choice of segments to decode
	Ahead    time.Duration // how far viewers fetch ahead, 0: half a minute
	Timeout  time.Duration // longest time without data, 0: 20 s
	Name     string        // of the device, empty: the server's host
	Link     link.Link     // the network between
	// Dial makes connections; nil means the usual way.
	Dial func(ctx context.Context, network, address string) (net.Conn, error)
}

// Entry is a load and its address.
type Entry struct {
	Load load.Load `yaml:"load"`
	URL  string    `yaml:"url"`
}

// Server is the route.
type Server struct {
	options Options
	tls     *tls.Config
	host    string          // host of the last address, which names the device
	origins map[origin]bool // origins of all addresses: credentials are sent nowhere else
	checks  *checks
	shaper  *link.Shaper
	own     *own
	buffers *buffers
}

// New checks the options.
func New(o Options) (*Server, error) {
	if o.Ahead == 0 {
		o.Ahead = tally.ViewerBound
	}
	if o.Dial == nil {
		o.Dial = (&net.Dialer{Timeout: 10 * time.Second}).DialContext
	}
	if o.Timeout == 0 {
		o.Timeout = 20 * time.Second
	}
	s := &Server{options: o, tls: &tls.Config{}, checks: newChecks(), own: newOwn(), buffers: newBuffers(), shaper: link.New(o.Link), origins: map[origin]bool{}}
	addresses := []string{o.URL}
	for _, e := range o.List {
		addresses = append(addresses, e.URL)
	}
	for i, address := range addresses {
		if address == "" && i == 0 && len(addresses) > 1 {
			continue
		}
		u, err := checkAddress(address)
		if err != nil {
			return nil, err
		}
		s.host = u.Host
		s.origins[originOf(u)] = true
	}
	s.own.shaper = s.shaper
	if err := o.Link.Check(); err != nil {
		return nil, err
	}
	switch {
	case o.Jumps < 0 || o.Jumps > 1000:
		return nil, fmt.Errorf("the number of jumps is 0 to 1000, not %d", o.Jumps)
	case !(o.Verify >= 0 && o.Verify <= 1):
		return nil, fmt.Errorf("the share to verify is 0%% to 100%%, not %g%%", 100*o.Verify)
	case o.Ahead < tally.ViewerStart || o.Ahead > time.Hour:
		return nil, fmt.Errorf("viewers fetch %s to 1h ahead, not %s", tally.ViewerStart, o.Ahead)
	}
	if o.CA != "" {
		pool, err := trusted(o.CA)
		if err != nil {
			return nil, err
		}
		s.tls.RootCAs = pool
	}
	return s, nil
}

// trusted returns the system's certificates and those in a file.
func trusted(path string) (*x509.CertPool, error) {
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	pool, err := x509.SystemCertPool()
	if err != nil {
		pool = x509.NewCertPool()
	}
	if !pool.AppendCertsFromPEM(data) {
		return nil, fmt.Errorf("%s: it holds no certificates in PEM form", path)
	}
	return pool, nil
}

// Kind returns "server".
func (*Server) Kind() string { return Descriptor.Word }

// Traits returns that virtual viewers play what a server sends: it may continue work that nobody
// watches, and its offers come in any order.
func (*Server) Traits() route.Traits {
	t := route.Traits{Counts: true, Buffers: true, Jumps: true, Many: true, AnyOrder: true, QuietAfter: 30 * time.Second}
	if open := maxOpen(); open > 0 && open < math.MaxInt32 {
		t.Streams = max(1, int(open)-ownFiles)
		t.StreamsWhy = fmt.Sprintf("this computer lets a program have %d files open, and each viewer needs a connection; \"ulimit -n NUMBER\" before the command allows more", open)
	}
	return t
}

// ownFiles is how many files the program itself may have open while viewers watch: the logbook,
// sensors, and connections that are made anew before the old ones are closed.
const ownFiles = 100

// Options returns the settings, without credentials.
func (s *Server) Options() map[string]string {
	list := map[string]string{
		"jumps": strconv.Itoa(s.options.Jumps), "verify_pct": strconv.FormatFloat(100*s.options.Verify, 'g', -1, 64),
		"seed": strconv.FormatUint(s.options.Seed, 10), "ahead_s": strconv.FormatFloat(s.options.Ahead.Seconds(), 'g', -1, 64),
		"timeout_s": strconv.FormatFloat(s.options.Timeout.Seconds(), 'g', -1, 64),
	}
	if l := s.options.Link; l.Delay > 0 {
		list["delay_s"] = strconv.FormatFloat(l.Delay.Seconds(), 'g', -1, 64)
	}
	if l := s.options.Link; l.Loss > 0 {
		list["loss_pct"] = strconv.FormatFloat(100*l.Loss, 'g', -1, 64)
		list["loss_bps"] = strconv.FormatFloat(math.Round(l.LossRate()), 'f', -1, 64)
	}
	for name, value := range map[string]string{"list": s.options.ListFile, "ca": s.options.CA, "name": s.options.Name, "link": s.options.Link.String()} {
		if value != "" {
			list[name] = value
		}
	}
	switch {
	case s.options.Token != "":
		list["signed_in"] = "bearer"
	case s.options.Login != "":
		list["signed_in"] = "login"
	}
	if s.options.URL != "" {
		if list["url"] = redact(s.options.URL); list["url"] != s.options.URL {
			list["url_incomplete"] = "yes"
		}
	}
	return list
}

// Device returns the server's host.
func (s *Server) Device() route.Device {
	d := route.Device{Name: s.options.Name, Identity: "server " + s.host, Spec: map[string]string{"address": s.host}}
	if d.Name == "" {
		d.Name = s.host
	}
	return d
}

// Clock returns the computer's clock.
func (*Server) Clock() clock.Clock { return clock.Real{} }

// Sources returns the sensors of the measuring side.
func (s *Server) Sources() []sense.Source { return []sense.Source{s.own} }

// Check returns an error unless the address of a load is known.
func (s *Server) Check(l load.Load) error {
	if s.address(l) == "" {
		return fmt.Errorf("load line %q: no address for this load; give --url or a list of load lines and addresses", l)
	}
	if t := s.Traits(); t.Streams > 0 && l.Streams > t.Streams {
		return fmt.Errorf("load line %q: at most %d streams can be tried: %s", l, t.Streams, t.StreamsWhy)
	}
	return nil
}

// address returns the address of a load.
func (s *Server) address(l load.Load) string {
	l.Streams, l.File = 1, ""
	for _, e := range s.options.List {
		if e.Load.String() == l.String() {
			return Fill(e.URL, l)
		}
	}
	return Fill(s.options.URL, l)
}

// Prepare does nothing: the films are on the server.
func (*Server) Prepare(context.Context, load.Load, func(done, total int)) error { return nil }

// Play lets viewers watch the loads' films at the same time.
func (s *Server) Play(ctx context.Context, p route.Plan, live func(route.Live)) (route.Result, error) {
	s.own.blocks.Store(blocksFor(p.Streams()))
	s.shaper.Start()
	inner, cancel := context.WithCancel(ctx)
	defer cancel()
	ordered := time.Now()
	var viewers []*viewer
	for i, l := range p.StreamLoads() {
		viewers = append(viewers, s.newViewer(i, l, p))
	}
	s.own.watch(inner, viewers)
	stop := clock.Real{}.Every(250*time.Millisecond, func(now time.Time) {
		l := route.Live{Elapsed: now.Sub(ordered), Viewers: make([]tally.Standing, 0, len(viewers))}
		for _, v := range viewers {
			v.live(&l)
		}
		live(l)
	})
	defer stop()
	var wait sync.WaitGroup
	var failed atomic.Int32
	for i, v := range viewers {
		wait.Go(func() {
			if v.err = (clock.Real{}).Sleep(inner, p.Begin(i)); v.err != nil {
				return
			}
			if v.err = v.watch(inner); v.err != nil && failed.Add(1) == 1 {
				v.first = true
				cancel() // this number of streams fails; the others need not go on
			}
		})
	}
	wait.Wait()
	return s.gather(ctx, p, viewers)
}

// gather combines the viewers' accounts.
func (s *Server) gather(ctx context.Context, p route.Plan, viewers []*viewer) (route.Result, error) {
	result := route.Result{Decode: route.None}
	for _, l := range p.Loads {
		if l.Goal != nil { // the server decodes what it converts
			result.Decode = route.Unknown
		}
	}
	if err := ctx.Err(); err != nil {
		return result, err
	}
	for i, v := range viewers {
		if v.first {
			var short *route.ShortHoldError
			var unfit *route.UnfitError
			if errors.As(v.err, &short) || errors.As(v.err, &unfit) {
				return result, v.err
			}
			var refusal *StatusError
			if errors.As(v.err, &refusal) && refusal.forbids() && v.began.IsZero() {
				return result, &route.UnfitError{Unfit: route.NoAddress, Err: v.err} // this says nothing about the device's ability
			}
			var certificate *tls.CertificateVerificationError
			if errors.As(v.err, &certificate) {
				return result, &route.UnfitError{Unfit: route.NoAddress, Err: v.err}
			}
			result.Failure = v.err.Error()
			if len(viewers) > 1 {
				result.Failure = fmt.Sprintf("viewer %d of %d: %s", i+1, len(viewers), result.Failure)
			}
			result.Refused = refusal != nil && refusal.refuses()
		}
		if v.account != nil {
			result.Streams = append(result.Streams, *v.account)
			if began := v.began.Add(p.Begin(len(viewers)-1) - p.Begin(i)); began.After(result.Began) {
				result.Began = began
			}
		}
	}
	return result, nil
}

// newViewer returns viewer i of a plan.
func (s *Server) newViewer(i int, l load.Load, p route.Plan) *viewer {
	spans := p.Spans(i)
	v := &viewer{server: s, asked: l, hold: spans[len(spans)-1].To, plan: p, random: rand.New(rand.NewPCG(s.options.Seed, uint64(i))),
		buffer: tally.NewViewer(tally.ViewerConfig{Start: tally.ViewerStart, Bound: s.options.Ahead, Spans: spans})}
	if p.Spread {
		v.from = float64(i) / float64(p.Streams())
	}
	v.client = s.newClient()
	v.hz = l.Rate.Hz()
	if l.Goal != nil && l.Goal.Rate.Num > 0 {
		v.hz = l.Goal.Rate.Hz()
	}
	return v
}

// wanted returns the format that should arrive, and whether the server has to convert for it.
func wanted(l load.Load) (f media.Format, converted bool) {
	f = l.Format
	if l.Goal == nil {
		return f, false
	}
	g := l.Goal
	f = media.Format{Codec: g.Codec, Width: g.Width, Height: g.Height, Interlaced: g.Interlaced, Rate: g.Rate, Bitrate: g.Bitrate}
	if f.Rate.Num == 0 {
		f.Rate = l.Rate
	}
	return f, true
}
