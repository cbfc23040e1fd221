package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"slices"
	"time"

	"github.com/urfave/cli/v3"

	"vividstrain/core/logbook"
	"vividstrain/report/model"
	"vividstrain/report/text"
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
		return a.print(a.style(c).Runs(model.Table{}))
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
		return a.print(a.style(c).Runs(model.Runs(entries, book.Recording(), time.Now())))
	}
	return a.printJSON(model.RunLines(entries))
}

func (a *app) showCommand() *cli.Command {
	return command(&cli.Command{
		Name: "show", Usage: "show a run, the newest by default", ArgsUsage: "[RUN]",
		Flags: append(fieldFlags(), jsonFlag(),
			&cli.BoolFlag{Name: "csv", Usage: "print the table alone, as comma-separated values"},
			&cli.BoolFlag{Name: "markdown", Usage: "print the table alone, for an article"}),
		Action: a.showRun,
	}, "vividstrain show", "vividstrain show --wide", "vividstrain show --markdown", "vividstrain show --json > run.json")
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
	if docs, err := book.Repeated(c.Args().First()); err != nil || len(docs) > 0 {
		return cmp.Or(err, a.printSpread(c, docs))
	}
	id, err := book.Find(c.Args().First())
	if err != nil {
		return usage(err)
	}
	doc, err := book.Load(id)
	if err != nil {
		return err
	}
	readings, err := book.Readings(doc)
	if err != nil {
		return err
	}
	if !c.Bool("csv") && !c.Bool("markdown") {
		return a.printRun(c, doc, readings, book.Recording())
	}
	choice, err := fieldChoice(c)
	if err != nil {
		return err
	}
	r := model.NewRun(doc, readings, book.Recording(), choice)
	table := r.Rungs
	if r.Rung == "" {
		table = model.Quantities(r.Series)
	}
	if c.Bool("csv") {
		return a.print(text.CSV(table))
	}
	return a.print(text.Markdown(table))
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
