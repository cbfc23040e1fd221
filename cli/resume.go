package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"github.com/urfave/cli/v3"

	"vividstrain/core/logbook"
	"vividstrain/core/route"
	"vividstrain/core/route/routes"
	"vividstrain/core/run"
	"vividstrain/core/run/kinds"
)

// withResume are the flags that are allowed with --resume: what is not recorded, and how results
// are shown. Everything else is in the document.
var withResume = []string{"resume", "login", "bearer", "token", "url", "json", "fields", "wide", "logbook", "no-color"}

func resumeFlag() cli.Flag {
	return &cli.BoolFlag{Name: "resume", Usage: "continue an interrupted run: the one named, or the newest"}
}

// resume continues an interrupted run, on the same route and with the same settings.
func (a *app) resume(ctx context.Context, c *cli.Command) (*logbook.Document, error) {
	if c.Args().Len() > 1 {
		return nil, usagef("--resume continues one run; vividstrain runs lists them")
	}
	for _, name := range a.typed(c) {
		if !slices.Contains(withResume, name) {
			return nil, usagef("--resume continues with the run's own settings; leave --%s out", name)
		}
	}
	doc, err := a.interrupted(c)
	if err != nil {
		return nil, err
	}
	r, err := a.restore(c, doc)
	if err != nil {
		return nil, err
	}
	if doc.Plan.SensorsToken && c.String("token") == "" {
		return nil, usagef("the sensors of run %s need their token again; give --token, or VIVIDSTRAIN_TOKEN in the environment", doc.ID)
	}
	return a.measure(ctx, c, doc.Plan.Sensors, r, func(book *logbook.Book, config run.Config) (*logbook.Document, error) {
		config.Route = r
		return run.Resume(ctx, book, doc, config, kinds.All)
	})
}

// interrupted returns the run to be resumed.
func (a *app) interrupted(c *cli.Command) (*logbook.Document, error) {
	book, err := a.existingBook(c)
	if err != nil {
		return nil, err
	}
	defer book.Close()
	id := c.Args().First()
	if id == "" {
		entries, err := book.Runs(logbook.Filter{})
		if err != nil {
			return nil, err
		}
		i := slices.IndexFunc(entries, func(e logbook.Entry) bool { return !e.Complete && e.Kind != "watch" })
		if i < 0 {
			return nil, usagef("no run in the logbook was interrupted; there is nothing to resume")
		}
		id = entries[i].ID
	}
	if id, err = book.Find(id); err != nil {
		return nil, usage(err)
	}
	doc, err := book.Load(id)
	if err != nil {
		return nil, err
	}
	if doc.Complete {
		return nil, usagef("run %s is complete; there is nothing to resume", id)
	}
	return doc, nil
}

// restore opens the route of an earlier run from its document.
func (a *app) restore(c *cli.Command, doc *logbook.Document) (route.Route, error) {
	typed := a.typed(c)
	d, err := routes.All.Named(doc.Route.Kind)
	if err == nil {
		var r route.Route
		r, err = d.Restore(route.Record{Options: doc.Route.Options, Device: doc.Device.Name, Ladder: doc.Ladder,
			Typed: func(name string) bool { return slices.Contains(typed, name) }}, c)
		if err == nil {
			return r, nil
		}
	}
	err = fmt.Errorf("run %s: %w", doc.ID, err)
	var again *route.GiveAgainError
	if errors.As(err, &again) {
		return nil, usage(err)
	}
	return nil, err
}
