package cli

import (
	"fmt"
	"io"
	"sync"
	"time"

	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"

	"vividstrain/report/text"
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

	mu     sync.Mutex
	bars   *mpb.Progress // while there is a live line
	bar    *mpb.Bar
	label  string
	status string
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
	bar := p.relabel(label, status)
	// The bar calls label and status while it applies these, so that the lock must be free.
	bar.SetTotal(int64(max(total, done+1)), false)
	bar.SetCurrent(int64(done))
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
	fmt.Fprintln(p.out, text.Printable(fmt.Sprintf("... %s%s, %s", label, share, status)))
}

// relabel sets the texts beside the bar, and creates the bar if there is none.
func (p *progress) relabel(label, status string) *mpb.Bar {
	label, status = text.Printable(label), text.Printable(status)
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.bar == nil {
		p.bars = mpb.New(mpb.WithOutput(p.out), mpb.WithWidth(24))
		text := func(s *string) func(decor.Statistics) string {
			return func(decor.Statistics) string {
				p.mu.Lock()
				defer p.mu.Unlock()
				return *s
			}
		}
		// A bar of unknown length can get a new length at any time, and is never complete.
		p.bar = p.bars.New(0, mpb.BarStyle().Lbound("").Rbound("").Filler("━").Tip("━").Padding("─"),
			mpb.PrependDecorators(decor.Any(text(&p.label), decor.WC{C: decor.DindentRight | decor.DextraSpace})),
			mpb.AppendDecorators(decor.Any(text(&p.status))))
	}
	p.label, p.status = label, status
	return p.bar
}

// stop removes the live line.
func (p *progress) stop() {
	p.mu.Lock()
	bars, bar := p.bars, p.bar
	p.bars, p.bar = nil, nil
	p.mu.Unlock()
	if bar != nil {
		bar.Abort(true)
		bars.Wait()
	}
}

// line reports a result on a line of its own.
func (p *progress) line(text string) {
	p.stop()
	p.told = time.Now()
	fmt.Fprintln(p.out, text)
}

func (p *progress) close() { p.stop() }
