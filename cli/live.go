package cli

import (
	"context"
	"fmt"
	"os"
	"strings"
	"sync"
	"time"

	tea "charm.land/bubbletea/v2"

	"vividstrain/core/logbook"
	"vividstrain/core/run"
	"vividstrain/core/sense"
	"vividstrain/core/tally"
	"vividstrain/core/verdict"
	"vividstrain/report/model"
	"vividstrain/report/text"
)

// liveRun is the live view of a run that goes on, on the whole terminal. Events and samples are
// only noted; it is drawn twice a second, so that it costs little.
type liveRun struct {
	style     text.Style
	route     string
	keys      keyNotes
	interrupt func()

	mu     sync.Mutex
	state  text.Live
	ends   time.Time
	run    string // its id, once it is known
	before tally.Frames
	recent []sense.Sample // of the last seconds
	typing string

	width, height int
}

// recently is the time whose readings say what the limiter would be called now.
const recently = 2 * time.Second

// liveKeys says what keys do.
const liveKeys = "s stutter seen, p picture fault, n type a note, Ctrl-C ends the run"

// newLiveRun returns a live view, nil where there is no terminal for one. remark stores what is
// noted by keys.
func (a *app) newLiveRun(style text.Style, route string, interrupt func(), remark func(run string, r logbook.Remark) error) *liveRun {
	in, isFile := a.in.(*os.File)
	if !isFile || terminalWidth(in) == 0 || terminalWidth(a.err) == 0 || dumb() {
		return nil
	}
	l := &liveRun{style: style, route: route, interrupt: interrupt}
	l.state.Rung, l.state.Trace = -1, &sense.Trace{Length: 240}
	l.state.Latest = map[sense.Identity]sense.Sample{}
	l.keys = keyNotes{show: func(text string) { l.typing = text }, add: func(r logbook.Remark) {
		if l.run == "" {
			return
		}
		r.At = time.Now()
		said := text.Style{}.Remark(r)
		if err := remark(l.run, r); err != nil {
			said = err.Error()
		}
		l.state.Said = append(l.state.Said, said)
	}}
	return l
}

// start draws the view until stop is called.
func (l *liveRun) start(ctx context.Context, in, out *os.File) (stop func()) {
	program := tea.NewProgram(l, tea.WithInput(in), tea.WithOutput(out), tea.WithoutSignalHandler(), tea.WithContext(ctx))
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		_, _ = program.Run() // without a view the run goes on all the same
	}()
	return sync.OnceFunc(func() {
		program.Quit()
		<-ended
	})
}

// event notes an event of the run.
func (l *liveRun) event(e run.Event) {
	l.mu.Lock()
	defer l.mu.Unlock()
	s := &l.state
	if e.Kind == run.Planned || e.Kind == run.Ended {
		l.ends = time.Now().Add(e.Plan.Time)
	}
	switch e.Kind {
	case run.Planned:
		l.run, s.Title = e.Run, fmt.Sprintf("%s, route %s, %s", e.Name, l.route, model.Plural(e.Plan.Rungs, e.Plan.Unit))
		if e.Repeat != nil {
			s.Title += fmt.Sprintf(", run %d of %d", e.Repeat.Number, e.Repeat.Runs)
		}
		s.Rungs = nil
		for _, title := range e.Titles {
			s.Rungs = append(s.Rungs, text.LiveRung{Title: title})
		}
	case run.Baseline:
		l.now(e, "reading the idle device", -1)
	case run.Resting:
		l.now(e, "resting "+e.Text, -1)
	case run.Warned:
		s.Said = append(s.Said, text.Style{}.Warning(e.Text))
	case run.Building:
		l.now(e, fmt.Sprintf("making the clip of %s, frame %d of %d", e.Title, e.Done, e.Total), e.Rung)
		s.Total = 0
	case run.Playing:
		if s.Rung != e.Rung || s.Frames == nil || e.Live.Elapsed < s.Elapsed {
			s.Seconds, l.before = nil, tally.Frames{}
		}
		l.now(e, e.Title, e.Rung)
		frames := e.Live.Frames
		s.Frames, s.Viewers = &frames, e.Live.Viewers
		if int(e.Live.Elapsed.Seconds()) > len(s.Seconds) {
			s.Seconds = append(s.Seconds, text.Second{Due: frames.Due - l.before.Due, Dropped: frames.Dropped - l.before.Dropped})
			l.before = frames
		}
	case run.Ended:
		r := l.rung(e)
		r.Verdicts, r.Result = append(r.Verdicts, e.Attempt.Verdict), model.AttemptShort(e.Attempt)
		s.Frames, s.Viewers = nil, nil
	}
}

// now notes what the run does.
func (l *liveRun) now(e run.Event, doing string, rung int) {
	s := &l.state
	s.Doing, s.Rung = doing, rung
	s.Elapsed, s.Total = time.Duration(e.Done)*time.Millisecond, time.Duration(e.Total)*time.Millisecond
	if rung >= 0 {
		l.rung(e)
	}
	if e.Kind != run.Playing {
		s.Frames, s.Viewers = nil, nil
	}
}

// rung returns the rung of an event, which may be a new one.
func (l *liveRun) rung(e run.Event) *text.LiveRung {
	for len(l.state.Rungs) <= e.Rung {
		l.state.Rungs = append(l.state.Rungs, text.LiveRung{Title: e.Title})
	}
	return &l.state.Rungs[e.Rung]
}

// sample notes a sample.
func (l *liveRun) sample(s sense.Sample) {
	l.state.Trace.Add(s)
	l.mu.Lock()
	defer l.mu.Unlock()
	l.state.Latest[s.Source] = s
	l.recent = append(l.recent, s)
	for len(l.recent) > 0 && s.At.Sub(l.recent[0].At) > recently {
		l.recent = l.recent[1:]
	}
}

func (l *liveRun) Init() tea.Cmd { return drawLater() }

func (l *liveRun) Update(m tea.Msg) (tea.Model, tea.Cmd) {
	switch m := m.(type) {
	case tea.KeyPressMsg:
		switch m.String() {
		case "ctrl+c":
			l.interrupt()
		case "ctrl+z":
			return l, tea.Suspend
		default:
			l.press(m)
		}
	case tea.WindowSizeMsg:
		l.width, l.height = m.Width, m.Height
	case drawAgain:
		return l, drawLater()
	}
	return l, nil
}

// press takes a key as a note, or a part of one.
func (l *liveRun) press(m tea.KeyPressMsg) {
	keys := m.Text
	switch m.String() {
	case "enter":
		keys = "\r"
	case "esc":
		keys = "\x1b"
	case "backspace":
		keys = "\x7f"
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, key := range []byte(keys) {
		l.keys.press(key)
	}
}

func (l *liveRun) View() tea.View {
	screen := tea.NewView(l.draw(time.Now()))
	screen.AltScreen = true
	return screen
}

// draw draws the view as it is at a time.
func (l *liveRun) draw(now time.Time) string {
	l.mu.Lock()
	defer l.mu.Unlock()
	s := l.state
	s.Time, s.Foot = now.Format("15:04:05"), liveKeys
	if l.typing != "" {
		s.Foot = l.typing + "█"
	}
	if left := l.ends.Sub(now); left > 0 {
		s.Left = "about " + model.Span(left.Seconds()) + " left"
	}
	if s.Frames != nil {
		var sum sense.Summary
		for i := range l.recent {
			sum.Add(&l.recent[i])
		}
		s.Limiter = text.LimiterNow(verdict.FindLimiter(verdict.Window{Use: sum.Use()}))
	}
	s.Latest = map[sense.Identity]sense.Sample{}
	for id, sample := range l.state.Latest {
		s.Latest[id] = sample
	}
	return strings.TrimRight(l.style.Live(&s, l.width, l.height), "\n")
}
