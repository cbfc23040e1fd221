package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"vividstrain/core/logbook"
	"vividstrain/core/route"
	"vividstrain/core/route/engine"
	"vividstrain/core/route/server"
	"vividstrain/core/route/simulated"
	"vividstrain/core/run"
)

// withResume are the flags that go with --resume: what is not recorded, and how things are shown.
// All else is the run's own.
var withResume = []string{"resume", "login", "bearer", "token", "url", "json", "logbook", "no-color"}

func resumeFlag() cli.Flag {
	return &cli.BoolFlag{Name: "resume", Usage: "go on with a run that was interrupted: the one named, or the newest"}
}

// resume goes on with an interrupted run, on the route and with the settings that it had.
func (a *app) resume(ctx context.Context, c *cli.Command) (*logbook.Document, error) {
	if c.Args().Len() > 1 {
		return nil, usagef("--resume goes on with one run; vividstrain runs lists them")
	}
	for _, name := range a.typed(c) {
		if !slices.Contains(withResume, name) {
			return nil, usagef("--resume goes on with the run's own settings; leave --%s out", name)
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
		return nil, usagef("the sensors of run %s want their token again; give --token, or VIVIDSTRAIN_TOKEN in the environment", doc.ID)
	}
	return a.measure(ctx, c, doc.Plan.Sensors, r.Kind() == "standin", func(book *logbook.Book, config run.Config, _ *progress) (*logbook.Document, error) {
		config.Route = r
		return run.Resume(ctx, book, doc, config)
	})
}

// interrupted is the run that is to go on.
func (a *app) interrupted(c *cli.Command) (*logbook.Document, error) {
	book, err := a.existingBook(c)
	if err != nil {
		return nil, err
	}
	defer book.Close()
	id := c.Args().First()
	if id == "" {
		entries, err := book.Runs()
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

// restore makes the route of a run again from what its document says.
func (a *app) restore(c *cli.Command, doc *logbook.Document) (route.Route, error) {
	options := doc.Route.Options
	wrong := func(err error) error { return fmt.Errorf("run %s: %w", doc.ID, err) }
	switch doc.Route.Kind {
	case "engine":
		o, err := engine.FromOptions(options)
		if err != nil {
			return nil, wrong(err)
		}
		if o.Clips == "" {
			o.Clips = c.String("clips")
		}
		return engine.New(o)
	case "standin":
		o, err := simulated.FromOptions(options)
		if err != nil {
			return nil, wrong(err)
		}
		if o.Profile == "" {
			o.Profile = doc.Device.Name
		}
		return openSimulated(o)
	case "server":
		return a.restoreServer(c, doc)
	}
	return nil, wrong(fmt.Errorf("its route is %q, which is not known here", doc.Route.Kind))
}

func (a *app) restoreServer(c *cli.Command, doc *logbook.Document) (route.Route, error) {
	o, err := server.FromOptions(doc.Route.Options)
	switch {
	case errors.Is(err, server.ErrIncomplete) && !slices.Contains(a.typed(c), "url"):
		return nil, usagef("run %s: %w; give --url again", doc.ID, err)
	case errors.Is(err, server.ErrIncomplete):
		o.URL = c.String("url")
	case err != nil:
		return nil, fmt.Errorf("run %s: %w", doc.ID, err)
	}
	o.Login, o.Token = c.String("login"), c.String("bearer")
	if how := doc.Route.Options["signed_in"]; how != "" && o.Login == "" && o.Token == "" {
		return nil, usagef("run %s signed in; give --%s again, or VIVIDSTRAIN_%s in the environment", doc.ID, how, strings.ToUpper(how))
	}
	if o.ListFile != "" {
		if o.List, err = server.ReadList(o.ListFile); err != nil {
			return nil, usage(err)
		}
	}
	r, err := server.New(o)
	if err != nil {
		return nil, usage(err)
	}
	if doc.Ladder == offeredLadder { // where the variants are was read from the server
		ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
		defer cancel()
		if _, err := r.Offers(ctx); err != nil {
			return nil, err
		}
	}
	return r, nil
}
