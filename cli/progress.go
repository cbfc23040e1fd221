package cli

import (
	"fmt"
	"io"
	"strings"
	"sync"
	"time"
	"vividstrain/report/model"

	tea "charm.land/bubbletea/v2"
)

// progress shows the state of long work: on a terminal one live line with a bar, elsewhere only
// the lines that report results. It writes to standard error.
type progress struct {
	out  io.Writer
	live bool
	// width is the width of the longest title that is expected.
	width int
	left  string    // how much time is left, after the status
	told  time.Time // without a terminal: when a line was printed last

	mu      sync.Mutex
	program *tea.Program // while there is a live line
	ended   chan struct{}
	label   string
	status  string
	share   float64 // done, of 1
}

func (a *app) newProgress() *progress {
	return &progress{out: a.err, live: terminalWidth(a.err) > 0 && !dumb()}
}

// set updates the live line: what is being done, how much of it, and how it
// goes.
func (p *progress) set(label string, done, total int, status string) {
	status += p.left
	if !p.live {
		p.tell(label, done, total, status)
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.label, p.status = model.Printable(label), model.Printable(status)
	p.share = float64(min(done, total)) / float64(max(total, 1))
	if p.program != nil {
		return
	}
	// No input: keys belong to others, and the terminal is asked nothing.
	p.program = tea.NewProgram(liveLine{p}, tea.WithInput(nil), tea.WithOutput(p.out), tea.WithoutSignalHandler())
	p.ended = make(chan struct{})
	go func(program *tea.Program, ended chan struct{}) {
		defer close(ended)
		_, _ = program.Run() // without a live line the work goes on all the same
	}(p.program, p.ended)
}

// liveLine draws the live line.
type liveLine struct{ *progress }

// Init starts drawing.
func (l liveLine) Init() tea.Cmd { return drawLater() }

// Update draws again after a while.
func (l liveLine) Update(m tea.Msg) (tea.Model, tea.Cmd) {
	if _, again := m.(drawAgain); again {
		return l, drawLater()
	}
	return l, nil
}

// barWidth is the width of the bar in columns.
const barWidth = 24

// View draws the line.
func (l liveLine) View() tea.View {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.program == nil {
		return tea.NewView("") // it has ended
	}
	full := int(barWidth * l.share)
	line := l.label + " " + strings.Repeat("━", full) + strings.Repeat("─", barWidth-full) + " " + l.status
	return tea.NewView(line)
}

// tellEvery is how often the state of long work is printed where there is no terminal.
const tellEvery = 10 * time.Second

// tell prints the state of long work where there is no terminal, if it was not printed lately.
func (p *progress) tell(label string, done, total int, status string) {
	if p.told.IsZero() {
		p.told = time.Now()
	}
	if time.Since(p.told) < tellEvery {
		return
	}
	p.told = time.Now()
	share := ""
	if total > 0 && done > 0 {
		share = fmt.Sprintf(" %d %%", 100*done/total)
	}
	fmt.Fprintln(p.out, model.Printable(fmt.Sprintf("... %s%s, %s", label, share, status)))
}

// stop removes the live line.
func (p *progress) stop() {
	p.mu.Lock()
	program, ended := p.program, p.ended
	p.program = nil
	p.mu.Unlock()
	if program != nil {
		program.Quit()
		<-ended
	}
}

// line reports a result on a line of its own.
func (p *progress) line(text string) {
	p.stop()
	p.told = time.Now()
	fmt.Fprintln(p.out, text)
}

func (p *progress) close() { p.stop() }
