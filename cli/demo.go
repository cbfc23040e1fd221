package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/urfave/cli/v3"

	"vividstrain/core/load"
	"vividstrain/core/logbook"
	"vividstrain/core/partial"
	"vividstrain/core/route"
	"vividstrain/core/route/engine"
	"vividstrain/core/route/page"
	"vividstrain/core/route/simulated"
	"vividstrain/core/run"
	"vividstrain/core/run/climb"
	"vividstrain/core/tally"
	"vividstrain/core/verdict"
	"vividstrain/report/model"
	"vividstrain/report/text"
)

// demoDevices are the simulated devices of the demo.
var demoDevices = []string{"skerry-s1", "breakwater-n2"}

func (a *app) demoCommand() *cli.Command {
	return command(&cli.Command{
		Name:  "demo",
		Usage: "make a few small clips, climb on this computer, in its browser, on two simulated devices and on a media box, and compare",
		Description: "A small-island ferry line is choosing the boxes for its lounges. This shows how one would judge\n" +
			"them, in about a minute. The run documents and the clips stay in the folder given with --out.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "out", Aliases: []string{"o"}, Usage: "leave run documents and clips in `DIR`", Value: "vividstrain-demo"},
		},
		Action: a.demo,
	}, "vividstrain demo", "vividstrain demo --out ferry")
}

func (a *app) demo(ctx context.Context, c *cli.Command) error {
	if err := noArguments(c); err != nil {
		return err
	}
	dir := c.String("out")
	if err := os.MkdirAll(dir, 0o777); err != nil {
		return usage(err)
	}
	book, err := logbook.Open(filepath.Join(dir, "vividstrain.db"))
	if err != nil {
		return err
	}
	defer book.Close()
	ladder, err := load.Named("quick")
	if err != nil {
		return err
	}
	style := a.style(c)
	var docs []model.Measured
	// A problem with one device is reported and does not stop the others.
	keep := func(list *[]model.Measured, name string, doc *logbook.Document, err error) error {
		if err != nil && (ctx.Err() != nil || doc == nil && errors.Is(err, logbook.ErrBusy)) {
			return err
		}
		if err != nil {
			fmt.Fprintf(a.err, "%s: %s\n", name, oneLine(err))
		}
		if doc == nil {
			return nil
		}
		readings, err := book.Readings(doc)
		if err != nil {
			return err
		}
		*list = append(*list, model.Measured{Docs: []*logbook.Document{doc}, Readings: [][]logbook.Reading{readings}})
		return writeJSON(filepath.Join(dir, doc.ID+".json"), doc)
	}
	clips := filepath.Join(dir, "clips")
	for _, device := range append([]string{"this computer", "browser"}, demoDevices...) {
		var doc *logbook.Document
		if device == "browser" {
			doc, err = a.demoPage(ctx, c, book, ladder, clips)
		} else {
			doc, err = a.demoClimb(ctx, c, book, ladder, device, clips)
		}
		if err := keep(&docs, device, doc, err); err != nil {
			return err
		}
	}
	var served []model.Measured
	doc, err := a.demoBox(ctx, c, book, dir)
	if err := keep(&served, "the media box", doc, err); err != nil {
		return err
	}
	out := "\n"
	for _, group := range [][]model.Measured{docs, served} {
		if len(group) > 0 {
			out += style.Draw(model.Compare(group).Table) + "\n"
		}
	}
	docs = append(docs, served...)
	var reports []*model.Report
	for _, m := range docs {
		out += style.Answer(model.Answer(m.Docs[0])) + "\n"
		reports = append(reports, model.NewReport(m.Docs[0], m.Readings[0], false))
	}
	page := filepath.Join(dir, "report.html")
	if err := writePage(page, reports, docs[:len(docs)-len(served)]); err != nil {
		return err
	}
	out += fmt.Sprintf("\nThe report with everything over time is %s: open it in a browser.\n", page)
	out += fmt.Sprintf("The run documents, the clips and a logbook are in %s; look around with\n  vividstrain --logbook %s runs\n",
		dir, filepath.Join(dir, "vividstrain.db"))
	return a.print(out)
}

// demoClimb climbs on this computer or on a simulated device.
func (a *app) demoClimb(ctx context.Context, c *cli.Command, book *logbook.Book, l *load.Ladder, device, clips string) (*logbook.Document, error) {
	o := engine.Default()
	o.Clips, o.ClipSeconds = clips, 1
	var r route.Route
	var err error
	if device == "this computer" {
		r, err = engine.New(o)
	} else {
		r, err = simulated.SwitchOn(simulated.Options{Refresh: o.Refresh, Late: tally.Drop, Seed: 1, Profile: device})
	}
	if err != nil {
		return nil, err
	}
	progress := a.newProgress()
	defer progress.close()
	progress.line(fmt.Sprintf("Climbing on %s, %d rungs:", r.Device().Name, len(loads(l))))
	return a.demoRun(ctx, c, book, l, r, progress, false)
}

// demoPage climbs in this computer's browser, if it has one.
func (a *app) demoPage(ctx context.Context, c *cli.Command, book *logbook.Book, l *load.Ladder, clips string) (*logbook.Document, error) {
	progress := a.newProgress()
	defer progress.close()
	p, err := page.New(page.Options{Listen: "127.0.0.1:0", Clips: clips, ClipSeconds: 1, Open: true, Screen: "full", Fit: "fit", Marks: true})
	if errors.Is(err, page.ErrNoBrowser) {
		progress.line("No browser was found here: the demo goes on without the page route, which measures browsers.")
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer p.Close()
	if err := a.invite(ctx, p, text.Style{}, progress); err != nil {
		return nil, err
	}
	progress.line(fmt.Sprintf("Climbing in this computer's browser, %d rungs:", len(loads(l))))
	return a.demoRun(ctx, c, book, l, p, progress, true)
}

// What the demo plays is short, so that it soon ends: a first look, no measurement.
const (
	demoHold     = 2 * time.Second
	demoSettle   = time.Second / 2
	demoBaseline = time.Second
)

// demoRun climbs on a route, with second attempts at the limit or without.
func (a *app) demoRun(ctx context.Context, c *cli.Command, book *logbook.Book, l *load.Ladder, r route.Route, p *progress, once bool) (*logbook.Document, error) {
	return climb.Run(ctx, book, climb.Config{Ladder: l, Once: once, Config: run.Config{
		Route: r, Criteria: verdict.Default(), Version: built().short(),
		Hold: demoHold, Settle: demoSettle, Baseline: demoBaseline,
		Watch: watcher(p, text.Style{Color: a.style(c).Color && p.live}),
	}})
}

// writeJSON writes v to a file, completely or not at all.
func writeJSON(path string, v any) error {
	text, err := encodeJSON(v)
	if err != nil {
		return err
	}
	return partial.Write(path, text)
}
