package cli

import (
	"context"
	"fmt"
	"io"
	"strings"

	"rsc.io/qr"

	"vividstrain/core/logbook"
	"vividstrain/core/route"
	"vividstrain/core/run"
	"vividstrain/report/model"
	"vividstrain/report/text"
)

// invite tells how to bring the device of a route here, and waits until it is there.
func (a *app) invite(ctx context.Context, r route.Route, style text.Style, p *progress) error {
	host, inviting := r.(route.Inviting)
	if !inviting {
		return nil
	}
	v, err := host.Waiting()
	if err != nil {
		return usage(err)
	}
	if !v.Opened {
		p.line(invitation(v, style, p.live) + "\nWaiting for the device; Ctrl-C gives up.")
	}
	return host.Await(ctx)
}

// invitation says where the page is, on a terminal also as a picture for cameras.
func invitation(v route.Invitation, style text.Style, terminal bool) string {
	var b strings.Builder
	fmt.Fprintf(&b, "Open this address in the browser of the device, and press Start there:\n\n   %s\n", style.Bold(v.Addresses[0]))
	for _, other := range v.Addresses[1:] {
		fmt.Fprintf(&b, "   %s\n", other)
	}
	if v.Fingerprint != "" {
		fmt.Fprintf(&b, "\nIts certificate is not known to browsers; its SHA-256 fingerprint is\n%s\n", v.Fingerprint)
	}
	if terminal {
		if code, err := qr.Encode(v.Addresses[0], qr.L); err == nil {
			b.WriteString("\n" + codeText(code, style))
		}
	}
	return b.String()
}

// codeText draws a QR code with half blocks, two rows to a line, and a margin of two modules.
func codeText(code *qr.Code, style text.Style) string {
	const margin = 2
	dark := func(x, y int) bool { return code.Black(x-margin, y-margin) }
	var b strings.Builder
	for y := 0; y < code.Size+2*margin; y += 2 {
		line := ""
		for x := range code.Size + 2*margin {
			// Light modules are drawn: most terminals are dark.
			switch upper, lower := !dark(x, y), !dark(x, y+1); {
			case upper && lower:
				line += "█"
			case upper:
				line += "▀"
			case lower:
				line += "▄"
			default:
				line += " "
			}
		}
		b.WriteString("   " + style.Code(line) + "\n")
	}
	return b.String()
}

// board shows on the device how a run goes, by its events.
type board struct {
	route.Board
	to route.Showing
}

// showBoard makes the device of a route show the run, if it can, and returns what to call for its
// events and with its result.
func showBoard(r route.Route, watch func(run.Event)) (func(run.Event), func(*logbook.Document)) {
	to, can := r.(route.Showing)
	if !can {
		return watch, func(*logbook.Document) {}
	}
	b := &board{to: to}
	return func(e run.Event) {
		b.event(e)
		watch(e)
	}, b.finish
}

// event notes an event of the run and shows what changed.
func (b *board) event(e run.Event) {
	before := b.Doing
	switch e.Kind {
	case run.Planned:
		b.Device, b.Doing, b.Rungs = e.Name, "The run begins.", nil
		for _, title := range e.Titles {
			b.Rungs = append(b.Rungs, route.BoardRow{Name: title})
		}
	case run.Baseline:
		b.Doing = "Reading the idle device."
	case run.Resting:
		b.Doing = "Resting " + e.Text + "."
	case run.Building:
		b.Doing = "Making the clip of " + e.Title + "."
		b.now(e)
	case run.Playing:
		b.now(e)
		b.Doing = "Playing " + e.Title + "."
		return // the film has the device for itself
	case run.Ended:
		row := b.now(e)
		row.Verdicts, row.Result, row.Now = append(row.Verdicts, string(e.Attempt.Verdict)), model.AttemptShort(e.Attempt), false
		b.Doing = "Getting the next rung ready."
		before = ""
	default:
		return
	}
	if b.Doing != before {
		b.to.Show(b.Board)
	}
}

// now marks the rung of an event, which may be a new one, and returns it.
func (b *board) now(e run.Event) *route.BoardRow {
	for len(b.Rungs) <= e.Rung {
		b.Rungs = append(b.Rungs, route.BoardRow{Name: e.Title})
	}
	for i := range b.Rungs {
		b.Rungs[i].Now = i == e.Rung
	}
	return &b.Rungs[e.Rung]
}

// finish shows the result.
func (b *board) finish(doc *logbook.Document) {
	b.Doing, b.Ended = "Finished. The device is free.", true
	if doc == nil {
		b.Doing = "The run has ended."
	} else {
		for _, line := range model.Answer(doc) {
			if line.About == "" || line.About == "next" || line.About == "why" {
				b.Answer = append(b.Answer, map[string]string{"next": "Next: ", "why": "Why: "}[line.About]+line.Text)
			}
		}
	}
	for i := range b.Rungs {
		b.Rungs[i].Now = false
	}
	b.to.Show(b.Board)
}

// closeRoute ends what a route has started.
func closeRoute(r route.Route) {
	if c, closes := r.(io.Closer); closes {
		_ = c.Close() // what was measured is kept
	}
}
