package cli

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/urfave/cli/v3"

	"vividstrain/core/clock"
	"vividstrain/core/logbook"
	"vividstrain/core/route"
	"vividstrain/core/run"
	"vividstrain/core/sense"
	"vividstrain/core/sense/local"
	"vividstrain/core/sense/meter"
	"vividstrain/core/sense/video"
	"vividstrain/report/text"
)

func (a *app) watchCommand() *cli.Command {
	return command(&cli.Command{
		Name:  "watch",
		Usage: "show live what this computer is doing",
		Description: "Bars and short histories of cores, memory, graphics engines, heat, power, disks and links, and of\n" +
			"the processes that are watched. Where there is no terminal, it prints a line a second. With --listen\n" +
			"another computer can read this one: VIVIDSTRAIN_TOKEN=... vividstrain climb --sensors http://THIS:9600.",
		Flags: append(slices.Concat(groupFlags(), a.identityFlags(), a.sensorFlags()),
			&secondsFlag{Name: "for", Usage: "end after `TIME`", DefaultText: "until q or an interrupt"},
			&cli.BoolFlag{Name: "record", Usage: "keep the readings in the logbook"},
			&cli.StringFlag{Name: "listen", Usage: "serve the readings at `ADDR`, for example :9600, to those who have the token"},
			&cli.BoolFlag{Name: "page", Usage: "follow the video of any page, with a script that a page of ours offers"},
			&secondsFlag{Name: "sample", Usage: "read the sensors every `TIME`", Value: run.SampleEvery},
		),
		Action: a.watch,
	}, "vividstrain watch", "vividstrain watch --process player --for 60s --record", "VIVIDSTRAIN_TOKEN=gangway vividstrain watch --listen :9600", "vividstrain watch --page --record")
}

// watching is a live view in progress.
type watching struct {
	*app
	style    text.Style
	title    string
	foot     string
	sampler  *sense.Sampler
	sources  []sense.Source
	follower *video.Follower // of a page's video, nil: none
	trace    sense.Trace

	mu     sync.Mutex
	record *logbook.Recorder
}

func (a *app) watch(ctx context.Context, c *cli.Command) (err error) {
	if err := noArguments(c); err != nil {
		return err
	}
	every := c.Duration("sample")
	if every < 50*time.Millisecond || every > time.Minute {
		return usagef("--sample must be 50ms to 1m, not %s", every)
	}
	sources, names, done, err := a.sources(c)
	if err != nil {
		return err
	}
	defer done()
	w := &watching{app: a, style: a.style(c), title: "this computer", sources: sources, trace: sense.Trace{Length: 240}}
	if c.Bool("page") {
		w.follower = video.NewFollower()
		w.sources = append(w.sources, w.follower)
	}
	if names != "" {
		w.title += ", watching " + names
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	if period := c.Duration("for"); period > 0 {
		var done context.CancelFunc
		ctx, done = context.WithTimeout(ctx, period)
		defer done()
	}
	if c.Bool("record") {
		finish, keepErr := w.keep(c)
		if keepErr != nil {
			return keepErr
		}
		defer func() { err = errors.Join(err, finish()) }()
	}
	w.sampler = sense.Start(ctx, clock.Real{}, every, w.sources, w.sample)
	defer w.sampler.Stop()
	if address := c.String("listen"); address != "" || w.follower != nil {
		stop, err := w.serve(cmp.Or(address, "127.0.0.1:0"), address != "", c.String("token"))
		if err != nil {
			return err
		}
		defer stop()
	}
	return w.show(ctx)
}

// sample handles a sample.
func (w *watching) sample(s sense.Sample) {
	w.trace.Add(s)
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.record != nil {
		w.record.Sample(s)
	}
}

// keep starts a run in the logbook that records the readings.
func (w *watching) keep(c *cli.Command) (finish func() error, err error) {
	book, err := w.openBook(c)
	if err != nil {
		return nil, err
	}
	now := time.Now()
	doc := logbook.NewWatch(now, built().short())
	var config run.Config
	device := route.Device{Name: doc.Device.Name}
	device.Identity, device.Spec = local.Machine()
	if err := w.identify(c, book, &config, device); err != nil {
		return nil, errors.Join(err, book.Close())
	}
	doc.Device = logbook.Device{Name: cmp.Or(config.Name, device.Name), Identity: device.Identity, Spec: device.Spec, Facts: config.Facts}
	doc.Conditions = logbook.Conditions{Facts: sense.States(w.sources), Absent: sense.Absences(w.sources)}
	if w.record, err = book.Record(doc, nil); err != nil {
		return nil, errors.Join(err, book.Close())
	}
	return func() error {
		w.mu.Lock()
		record := w.record
		w.record = nil
		w.mu.Unlock()
		ended := time.Now().UTC()
		doc.Ended, doc.Complete = &ended, true
		doc.Tool.InstrumentCPU, doc.Tool.LateSamples = w.sampler.CostPct(ended), w.sampler.Late()
		doc.NoteGaps(w.sampler.Gaps())
		err := cmp.Or(record.Close(), book.Close())
		if err == nil {
			fmt.Fprintf(w.err, "The readings are run %s; \"vividstrain show\" shows them.\n", doc.ID)
		}
		return err
	}, nil
}

// serve serves the readings to other computers.
func (w *watching) serve(address string, readings bool, token string) (stop func(), err error) {
	if token == "" {
		token = strings.ToLower(rand.Text()[:12])
	}
	listener, err := listen("listen", address)
	if err != nil {
		return nil, err
	}
	mux := http.NewServeMux()
	server := &http.Server{Handler: mux, ReadHeaderTimeout: 5 * time.Second, IdleTimeout: time.Minute, MaxHeaderBytes: 16 << 10}
	go server.Serve(listener)
	host, _ := os.Hostname()
	bound, port, _ := net.SplitHostPort(listener.Addr().String())
	if ip := net.ParseIP(bound); ip != nil && ip.IsLoopback() {
		host = "localhost"
	}
	if w.follower != nil {
		mux.Handle(w.follower.Path(), w.follower)
		w.foot = fmt.Sprintf("To follow a video, open http://%s:%s%s", host, port, w.follower.Path())
		fmt.Fprintln(w.err, w.foot)
	}
	if readings {
		mux.Handle("/", http.TimeoutHandler(meter.Serve(token, w.sampler.Latest), 10*time.Second, "it took too long"))
		w.foot = fmt.Sprintf("Served to others: VIVIDSTRAIN_TOKEN=%s vividstrain climb --sensors http://%s:%s", token, host, port)
		fmt.Fprintln(w.err, w.foot)
	}
	return func() { server.Close() }, nil
}

// watched returns what the view shows now.
func (w *watching) watched() *text.Watched {
	v := &text.Watched{Title: w.title, Time: time.Now().Format("15:04:05"), Latest: w.sampler.Latest(), Trace: &w.trace, Absent: sense.Absences(w.sources), Foot: "q ends"}
	if w.foot != "" {
		v.Foot += ". " + w.foot
	}
	for _, g := range w.sampler.Gaps() {
		if g.To.IsZero() {
			v.Gaps = append(v.Gaps, g)
		}
	}
	return v
}

// show draws the view until it is ended.
func (w *watching) show(ctx context.Context) error {
	in, isFile := w.in.(*os.File)
	if w.style.Width == 0 || !isFile || terminalWidth(in) == 0 {
		return w.lines(ctx)
	}
	program := tea.NewProgram(&view{w: w, width: w.style.Width, height: 24}, tea.WithContext(ctx), tea.WithInput(in), tea.WithOutput(w.out), tea.WithoutSignalHandler())
	_, err := program.Run()
	if ended(ctx, err) {
		return nil
	}
	return err
}

// ended reports whether a view ended because its time was over, or by q.
func ended(ctx context.Context, err error) bool {
	return err == nil || errors.Is(ctx.Err(), context.DeadlineExceeded)
}

// lines prints a line every second.
func (w *watching) lines(ctx context.Context) error {
	for {
		if err := (clock.Real{}).Sleep(ctx, time.Second); err != nil {
			if ended(ctx, err) {
				return nil
			}
			return err
		}
		if err := w.print(w.watched().Plain() + "\n"); err != nil {
			return err
		}
	}
}

// view is the model of the live view for the terminal library.
type view struct {
	w             *watching
	width, height int
}

// drawAgain is the message to redraw.
type drawAgain struct{}

func drawLater() tea.Cmd {
	return tea.Tick(500*time.Millisecond, func(time.Time) tea.Msg { return drawAgain{} })
}

func (v *view) Init() tea.Cmd { return drawLater() }

func (v *view) Update(m tea.Msg) (tea.Model, tea.Cmd) {
	switch m := m.(type) {
	case tea.KeyPressMsg:
		switch m.String() {
		case "q", "ctrl+c", "esc":
			return v, tea.Quit
		}
	case tea.WindowSizeMsg:
		v.width, v.height = m.Width, m.Height
	case drawAgain:
		return v, drawLater()
	}
	return v, nil
}

func (v *view) View() tea.View {
	screen := tea.NewView(v.w.style.Watch(v.w.watched(), v.width, v.height))
	screen.AltScreen = true
	return screen
}
