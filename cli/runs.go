package cli

import (
	"context"
	"encoding/json"
	"errors"
	"slices"

	"github.com/urfave/cli/v3"

	"vividstrain/core/logbook"
)

func (a *app) runsCommand() *cli.Command {
	return command(&cli.Command{
		Name: "runs", Usage: "list the runs in the logbook, the newest first",
		Flags: []cli.Flag{jsonFlag()}, Action: a.listRuns,
	}, "vividstrain runs", "vividstrain --logbook box.db runs --json")
}

func (a *app) listRuns(_ context.Context, c *cli.Command) error {
	if err := noArguments(c); err != nil {
		return err
	}
	book, err := a.existingBook(c)
	if errors.Is(err, logbook.ErrNoBook) && !slices.Contains(a.typed(c), "logbook") {
		if c.Bool("json") {
			return a.printJSON([]any{})
		}
		return a.print(a.style(c).Runs(nil, false))
	}
	if err != nil {
		return err
	}
	defer book.Close()
	entries, err := book.Runs()
	if err != nil {
		return err
	}
	if !c.Bool("json") {
		return a.print(a.style(c).Runs(entries, book.Recording()))
	}
	type line struct {
		ID       string           `json:"id"`
		Kind     string           `json:"kind"`
		Complete bool             `json:"complete"`
		Started  string           `json:"started"`
		Device   string           `json:"device"`
		Route    string           `json:"route"`
		Ladder   string           `json:"ladder"`
		Attempts int              `json:"attempts"`
		Ceiling  *logbook.Ceiling `json:"ceiling"`
	}
	lines := []line{}
	for _, e := range entries {
		lines = append(lines, line{e.ID, e.Kind, e.Complete, e.Started.Format("2006-01-02T15:04:05Z07:00"), e.Device.Name, e.Route.Kind, e.Ladder, e.Attempts, e.Ceiling})
	}
	return a.printJSON(lines)
}

func (a *app) showCommand() *cli.Command {
	return command(&cli.Command{
		Name: "show", Usage: "show a run, the newest by default", ArgsUsage: "[RUN]",
		Flags: []cli.Flag{jsonFlag()}, Action: a.showRun,
	}, "vividstrain show", "vividstrain show --json > run.json")
}

func (a *app) showRun(_ context.Context, c *cli.Command) error {
	if c.Args().Len() > 1 {
		return usagef("show takes one run; vividstrain runs lists them")
	}
	book, err := a.existingBook(c)
	if err != nil {
		return err
	}
	defer book.Close()
	id, err := book.Find(c.Args().First())
	if err != nil {
		return usage(err)
	}
	doc, err := book.Load(id)
	if err != nil {
		return err
	}
	return a.printRun(c, doc, book.Recording())
}

func (a *app) schemaCommand() *cli.Command {
	return command(&cli.Command{
		Name: "schema", Usage: "print the JSON Schema of the run document",
		Action: func(_ context.Context, c *cli.Command) error {
			if err := noArguments(c); err != nil {
				return err
			}
			text, err := logbook.JSONSchema()
			if err != nil {
				return err
			}
			return a.printJSON(json.RawMessage(text))
		},
	}, "vividstrain schema", "vividstrain schema > run.schema.json")
}
