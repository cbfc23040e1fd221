// Package page is the route to any device with a browser: a page of ours plays the films in
// video elements and reports what the browser counts (HTML, W3C Media Playback Quality, Media
// Capabilities and Video Frame Callback).
package page

import (
	"cmp"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"vividstrain/core/chromium"
	"vividstrain/core/clock"
	"vividstrain/core/load"
	"vividstrain/core/route"
	"vividstrain/core/route/films"
	"vividstrain/core/route/link"
	"vividstrain/core/sense"
	"vividstrain/core/sense/linux"
	"vividstrain/core/sense/local"
	"vividstrain/core/tally"
)

// Options are the settings of the route.
type Options struct {
	Listen      string  // address of the page
	Clips       string  // folder of clips, missing ones are built there
	ClipSeconds float64 // length of the clips that are built, 0: two seconds
	Devices     int     // that are measured at the same time, 0: one
	Open        bool    // start this computer's own browser
	Browser     string  // command that starts it; "": one that is found
	Screen      string  // "full" or "window"
	Fit         string  // "fit" or "native"
	Jumps       int     // after the steady window
	Marks       bool    // read the marks of the pictures
	TLS         bool
	Certificate string // file; "": one is made
	Key         string // file
	Link        link.Link
}

// maxDevices is the largest number of devices that are measured at the same time.
const maxDevices = 16

// maxVideos is the largest number of videos on a page.
const maxVideos = 64

// Page is the route.
type Page struct {
	options     Options
	hub         *hub
	maker       *films.Maker
	shaper      *link.Shaper
	fingerprint string
	group       *linux.Group
	sources     []sense.Source

	mu      sync.Mutex
	browser *browser
	seats   []*seat       // one for each device
	changed chan struct{} // closed when anything of a seat changes
	answers map[int][]*tally.Promise
	screen  Screenful // what the page shows
	asked   int       // number of the last question
	played  int       // number of the last attempt
}

// seat is a device under test: the page that is there now, or was there last.
type seat struct {
	conn   *conn
	page   string // of the page that was last loaded
	device string
	ready  bool // it was started by a press
	facts  map[string]string
	lacks  []string
	try    *try // under way
}

// New starts to serve the page.
func New(o Options) (_ *Page, err error) {
	switch {
	case o.Screen != "full" && o.Screen != "window":
		return nil, fmt.Errorf("--screen is full or window, not %q", o.Screen)
	case o.Fit != "fit" && o.Fit != "native":
		return nil, fmt.Errorf("--fit is fit or native, not %q", o.Fit)
	case o.Devices < 0 || o.Devices > maxDevices:
		return nil, fmt.Errorf("1 to %d devices are measured at the same time, not %d", maxDevices, o.Devices)
	case o.Devices > 1 && o.Open:
		return nil, errors.New("--open is for this computer's browser alone; with --devices open the address on each of them")
	case o.Jumps < 0 || o.Jumps > 100:
		return nil, fmt.Errorf("the number of jumps is 0 to 100, not %d", o.Jumps)
	case o.Browser != "" && !o.Open:
		return nil, errors.New("--browser says what --open opens; give both")
	case (o.Certificate == "") != (o.Key == ""):
		return nil, errors.New("--certificate and --key belong together")
	case o.Certificate != "" && !o.TLS:
		return nil, errors.New("--certificate is for --tls")
	}
	if err := o.Link.Check(); err != nil {
		return nil, err
	}
	if o.Open && o.Browser == "" && chromium.Find() == "" {
		return nil, ErrNoBrowser
	}
	p := &Page{options: o, shaper: link.New(o.Link), group: &linux.Group{}}
	p.changed, p.answers = make(chan struct{}), map[int][]*tally.Promise{}
	for range max(1, o.Devices) {
		p.seats = append(p.seats, &seat{})
	}
	var config *tls.Config
	if o.TLS {
		if config, p.fingerprint, err = certificate(o.Certificate, o.Key); err != nil {
			return nil, err
		}
	}
	if p.maker, err = films.New(o.Clips, o.ClipSeconds); err != nil {
		return nil, err
	}
	if p.hub, err = newHub(o.Listen, config, p.shaper); err != nil {
		p.maker.Close()
		return nil, err
	}
	p.hub.joined = p.join
	p.group.SetAside(os.Getpid())
	return p, nil
}

// Close ends the browser and the page.
func (p *Page) Close() error {
	p.mu.Lock()
	b := p.browser
	p.browser = nil
	p.mu.Unlock()
	for _, c := range p.conns() {
		_ = c.send(order{Do: "end"}) // it may have gone
	}
	if b != nil {
		b.close()
	}
	p.hub.close()
	return p.maker.Close()
}

// Kind returns "page".
func (*Page) Kind() string { return Descriptor.Word }

// Traits returns that the device decodes and that frames are counted.
func (*Page) Traits() route.Traits {
	return route.Traits{Decodes: true, Counts: true, Buffers: true, Jumps: true, Many: true, Adaptive: true, Away: 5 * time.Minute}
}

// Options returns the settings, for the record.
func (p *Page) Options() map[string]string {
	o := p.options
	m := map[string]string{"devices": strconv.Itoa(max(1, o.Devices)), "listen": o.Listen, "screen": o.Screen, "fit": o.Fit, "jumps": strconv.Itoa(o.Jumps), "clips": o.Clips}
	for name, is := range map[string]bool{"open": o.Open, "no_marks": !o.Marks, "tls": o.TLS} {
		if is {
			m[name] = "true"
		}
	}
	for name, value := range map[string]string{"browser": o.Browser, "certificate": o.Certificate, "key": o.Key, "link": o.Link.String()} {
		if value != "" {
			m[name] = value
		}
	}
	if o.Link.Delay > 0 {
		m["delay_s"] = strconv.FormatFloat(o.Link.Delay.Seconds(), 'g', -1, 64)
	}
	if o.Link.Loss > 0 {
		m["loss"] = strconv.FormatFloat(o.Link.Loss, 'g', -1, 64)
	}
	return m
}

// Device describes the device by what its browser says, and by what is found of this computer if
// the browser is on it.
func (p *Page) Device() route.Device {
	p.mu.Lock()
	defer p.mu.Unlock()
	d := route.Device{Name: "a browser", Spec: map[string]string{}}
	if p.isHere() {
		identity, spec := local.Machine()
		d.Name, d.Identity = "this computer's browser", identity+" browser"
		maps.Copy(d.Spec, spec)
	} else if len(p.seats) == 1 && p.seats[0].conn != nil {
		d.Name, d.Identity = p.seats[0].name(), p.seats[0].identity()
	} else if p.there() {
		d.Name = fmt.Sprintf("%d devices", len(p.seats))
	}
	for i, s := range p.seats {
		if len(p.seats) > 1 { // what each of them is
			d.Identity += s.identity() + " "
			d.Spec[fmt.Sprintf("device_%d", i+1)] = s.name()
			continue
		}
		maps.Copy(d.Spec, s.facts)
		if len(s.lacks) > 0 {
			d.Spec["not_measured"] = strings.Join(s.lacks, "; ")
		}
	}
	return d
}

// name returns what a device is called that has no name.
func (s *seat) name() string {
	if s.conn == nil {
		return "a browser"
	}
	return cmp.Or(s.facts["browser"], "browser") + " at " + s.conn.remote
}

// identity recognises a device.
func (s *seat) identity() string {
	if s.conn == nil {
		return ""
	}
	return hashed(cmp.Or(s.device, s.conn.remote+s.facts["browser"]))
}

// conns returns the connections of the pages that are there.
func (p *Page) conns() (list []*conn) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, s := range p.seats {
		if s.conn != nil && s.conn.alive() {
			list = append(list, s.conn)
		}
	}
	return list
}

func hashed(s string) string {
	sum := sha256.Sum256([]byte(s))
	return "page " + hex.EncodeToString(sum[:8])
}

// Clock returns the computer's clock.
func (*Page) Clock() clock.Clock { return clock.Real{} }

// Sources returns the account of what is sent, and the sensors of this computer if the browser
// is on it, with its processes watched.
func (p *Page) Sources() []sense.Source {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.sources == nil {
		if p.isHere() {
			p.sources = local.Local(p.group)
		}
		p.sources = append(p.sources, p.hub.delivery)
	}
	return p.sources
}

// isHere reports whether the only device is this computer. The lock is held.
func (p *Page) isHere() bool {
	return p.options.Open || len(p.seats) == 1 && p.seats[0].conn != nil && isHere(p.seats[0].conn.remote)
}

// Check returns an error unless clips of this load can be made.
func (*Page) Check(l load.Load) error {
	switch {
	case l.Goal != nil:
		return fmt.Errorf("load line %q: a browser plays, it does not convert", l)
	case l.Streams > maxVideos:
		return fmt.Errorf("load line %q: a page plays at most %d videos", l, maxVideos)
	}
	return films.Check(l)
}

// Prepare makes the load's clip unless it is there.
func (p *Page) Prepare(ctx context.Context, l load.Load, progress func(done, total int)) error {
	return p.maker.Prepare(ctx, l, progress)
}

// Cost returns about how long making the clip of a load takes, and how large it is.
func (p *Page) Cost(ctx context.Context, l load.Load) (takes time.Duration, bytes int64) {
	return p.maker.Cost(ctx, l)
}

// Waiting returns what a person must be told to bring the device here, and starts this computer's
// browser if that is wanted.
func (p *Page) Waiting() (route.Invitation, error) {
	v := route.Invitation{Addresses: p.hub.addresses(), Fingerprint: p.fingerprint}
	if !p.options.Open {
		return v, nil
	}
	b, err := openBrowser(p.options.Browser, p.hub.local()+"?go", p.options.Screen, keyPin(p.hub.tls))
	if err != nil {
		return v, err
	}
	p.group.Watch(b.Cmd.Process.Pid)
	p.mu.Lock()
	p.browser = b
	p.mu.Unlock()
	return route.Invitation{Opened: true}, nil
}

// browserStart is how long a browser that was opened here has for its page.
const browserStart = time.Minute

// Await waits until the device is there and was started.
func (p *Page) Await(ctx context.Context) error {
	if p.options.Open {
		var cancel context.CancelFunc
		ctx, cancel = context.WithTimeoutCause(ctx, browserStart, fmt.Errorf("the browser did not open the page within %s", browserStart))
		defer cancel()
	}
	for {
		p.mu.Lock()
		there, changed, b := p.there(), p.changed, p.browser
		p.mu.Unlock()
		if there {
			return nil
		}
		ended := make(chan struct{})
		if b != nil {
			ended = b.Ended
		}
		select {
		case <-changed:
		case <-ended:
			return errors.New("the browser ended before it had opened the page")
		case <-ctx.Done():
			return context.Cause(ctx)
		}
	}
}

// there reports whether the pages of all devices are connected and were started. The lock is
// held.
func (p *Page) there() bool {
	for _, s := range p.seats {
		if s.conn == nil || !s.conn.alive() || !s.ready {
			return false
		}
	}
	return true
}

// Reach returns an error if the page is not there. A browser of this computer that has ended is
// started again.
func (p *Page) Reach(ctx context.Context) error {
	p.mu.Lock()
	there, b := p.there(), p.browser
	p.mu.Unlock()
	if there {
		return nil
	}
	if b != nil {
		select {
		case <-b.Ended:
			b.close()
			if _, err := p.Waiting(); err != nil {
				return err
			}
			return p.Await(ctx)
		default:
		}
	}
	return errors.New("the page is not open on the device")
}

// seatFor returns the seat of a page that has said hello: where it was before, or its device; else
// a free one; nil where other devices have them all. The lock is held.
func (p *Page) seatFor(c *conn) *seat {
	free := func(s *seat) bool { return s.conn == nil }
	gone := func(s *seat) bool { return !s.conn.alive() }
	for _, fits := range []func(s *seat) bool{
		func(s *seat) bool { return s.page != "" && s.page == c.hello.Page },
		func(s *seat) bool {
			return s.conn != nil && c.hello.Device != "" && s.device == c.hello.Device && (len(p.seats) == 1 || gone(s))
		},
		free, gone,
		func(s *seat) bool { return len(p.seats) == 1 && c.remote == s.conn.remote && c.agent == s.conn.agent },
	} {
		for _, s := range p.seats {
			if fits(s) {
				return s
			}
		}
	}
	return nil
}

// join gives a page that has said hello a seat, unless other devices have them.
func (p *Page) join(c *conn) {
	p.mu.Lock()
	defer p.mu.Unlock()
	s := p.seatFor(c)
	if s == nil {
		go func() {
			_ = c.send(order{Do: "view", Screenful: Screenful{Doing: "Another device is being measured at this address.", Ended: true}})
			c.socket.Close(4000, "taken")
		}()
		return
	}
	if t := s.try; t != nil {
		if c.hello.Page == s.page {
			t.end("", "the connection to the page was lost and came back")
		} else {
			t.end(fmt.Sprintf("the page was loaded anew %.1f s into the rung: the browser or the device began again", t.elapsed().Seconds()), "")
		}
	}
	if s.conn != nil {
		old := s.conn
		go old.socket.CloseNow()
	}
	again := c.hello.Page != s.page
	s.conn, s.page, s.facts, s.lacks = c, c.hello.Page, c.hello.Facts, c.hello.Lacks
	nameBrowser(s.facts)
	s.device = cmp.Or(c.hello.Device, s.device)
	// A page that was started and is loaded again, as after a crash, goes on without a press.
	s.ready = c.hello.Ready || s.ready && again
	if !p.options.Open && len(p.seats) == 1 && isHere(c.remote) {
		if pid := browserOf(c.port); pid > 0 {
			p.group.Watch(pid)
		}
	}
	c.heard = func(m *message) { p.hear(c, m) }
	view, started := p.screen, s.ready
	go func() {
		_ = c.send(order{Do: "welcome", Screen: p.options.Screen, Started: started})
		_ = c.send(order{Do: "view", Screenful: view})
	}()
	p.wake()
}

// wake tells those who wait that something has changed. The lock is held.
func (p *Page) wake() {
	close(p.changed)
	p.changed = make(chan struct{})
}

// hear takes what the page says.
func (p *Page) hear(c *conn, m *message) {
	p.mu.Lock()
	defer p.mu.Unlock()
	i := slices.IndexFunc(p.seats, func(s *seat) bool { return s.conn == c })
	if i < 0 {
		return
	}
	s := p.seats[i]
	switch m.Say {
	case "ready":
		s.ready = true
		p.wake()
	case "promises":
		p.answers[m.ID] = m.Promises
		p.wake()
	case "tick", "event":
		if t := s.try; t != nil && t.number == m.Attempt {
			t.take(m)
		}
	}
}

// Screenful is what the page shows while nothing plays.
type Screenful struct {
	Device string   `json:"device"`
	Doing  string   `json:"doing"`
	Rungs  []Row    `json:"rungs"`
	Answer []string `json:"answer"`
	Ended  bool     `json:"ended"`
}

// Row is a rung on the page.
type Row struct {
	Name     string   `json:"name"`
	Verdicts []string `json:"verdicts"`
	Result   string   `json:"result"`
	Now      bool     `json:"now"`
}

// Show shows on the device how the run goes.
func (p *Page) Show(v route.Board) {
	s := Screenful{Device: v.Device, Doing: v.Doing, Answer: v.Answer, Ended: v.Ended}
	for _, r := range v.Rungs {
		s.Rungs = append(s.Rungs, Row{r.Name, r.Verdicts, r.Result, r.Now})
	}
	p.mu.Lock()
	p.screen = s
	playing := slices.ContainsFunc(p.seats, func(s *seat) bool { return s.try != nil })
	p.mu.Unlock()
	if playing {
		return // drawing would be a load of its own
	}
	for _, c := range p.conns() {
		_ = c.send(order{Do: "view", Screenful: s}) // it may have gone
	}
}

// order is what the page is told.
type order struct {
	Do string `json:"do"`
	Screenful
	Screen  string     `json:"screen,omitempty"`
	Started bool       `json:"started,omitempty"`
	ID      int        `json:"id,omitempty"`
	Items   []question `json:"items,omitempty"`

	Attempt int           `json:"attempt,omitempty"`
	Fit     string        `json:"fit,omitempty"`
	Jumps   int           `json:"jumps"`
	Films   []orderedFilm `json:"films,omitempty"`
}

// orderedFilm is a film to be played.
type orderedFilm struct {
	Name   string  `json:"name"`
	Port   int     `json:"port"` // 0: that of the page
	Width  int     `json:"width"`
	Height int     `json:"height"`
	Rate   float64 `json:"rate"`
	Marks  bool    `json:"marks"`
	HoldMS int64   `json:"hold_ms"`
	// DelayMS is how long after the first film this one begins, From the place where it begins.
	DelayMS int64   `json:"delay_ms,omitempty"`
	From    float64 `json:"from,omitempty"` // seconds
	// Levels are the qualities among which the page chooses, easiest first; none: it plays Name.
	Levels []quality `json:"levels,omitempty"`
}

// question asks what a browser promises of a format.
type question struct {
	Type     string  `json:"type"`
	Width    int     `json:"width"`
	Height   int     `json:"height"`
	Bitrate  int64   `json:"bitrate"`
	Rate     float64 `json:"rate"`
	Transfer string  `json:"transfer"`
}

// promised asks what the browser of each device promises of films. A nil answer means that it says
// nothing.
func (p *Page) promised(ctx context.Context, films []*films.Film, loads []load.Load) [][]*tally.Promise {
	var items []question
	for i, f := range films {
		t := f.Track.Format
		items = append(items, question{Type: f.ContentType(), Width: t.Width, Height: t.Height, Bitrate: max(loads[i].Bitrate, 1), Rate: t.Rate.Hz(), Transfer: string(t.Transfer)})
	}
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	lists := make([][]*tally.Promise, len(p.seats))
	var asked sync.WaitGroup
	for i := range p.seats {
		asked.Go(func() {
			lists[i] = make([]*tally.Promise, len(films))
			copy(lists[i], p.ask(ctx, i, items))
		})
	}
	asked.Wait()
	return lists
}

// ask asks one device's browser, and returns nil if it does not answer in time.
func (p *Page) ask(ctx context.Context, seat int, items []question) []*tally.Promise {
	p.mu.Lock()
	c := p.seats[seat].conn
	p.asked++
	id := p.asked
	p.mu.Unlock()
	if c == nil || c.send(order{Do: "ask", ID: id, Items: items}) != nil {
		return nil
	}
	for {
		p.mu.Lock()
		answers, there := p.answers[id]
		delete(p.answers, id)
		changed := p.changed
		p.mu.Unlock()
		if there {
			return answers
		}
		select {
		case <-changed:
		case <-ctx.Done():
			return nil
		}
	}
}
