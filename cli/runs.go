package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"vividstrain/core/logbook"
	"vividstrain/report/model"
	"vividstrain/report/text"
)

func (a *app) runsCommand() *cli.Command {
	return command(&cli.Command{
		Name: "runs", Usage: "list the runs in the logbook, the newest first; name, tag, group and delete them",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "device", Usage: "only of devices with `TEXT` in their name"},
			&cli.StringFlag{Name: "route", Usage: "only by `ROUTE`"},
			&cli.StringFlag{Name: "kind", Usage: "only of `KIND`: climb, crowd, watch..."},
			&cli.StringFlag{Name: "since", Usage: "only since `WHEN`: a date like 2026-01-31, or a time ago like 12h or 7d"},
			&cli.StringFlag{Name: "tag", Usage: "only with `TAG`"},
			&cli.StringFlag{Name: "set", Usage: "only those of the set `NAME`"},
			jsonFlag(),
		},
		Commands: []*cli.Command{a.nameCommand(), a.tagCommand(), a.setCommand(), a.deleteCommand()},
		Action:   a.listRuns,
	}, "vividstrain runs", "vividstrain runs --device skerry --since 7d", "vividstrain runs --kind climb --json")
}

func (a *app) listRuns(_ context.Context, c *cli.Command) error {
	if err := noArguments(c); err != nil {
		return err
	}
	filter := logbook.Filter{Device: c.String("device"), Route: c.String("route"), Kind: c.String("kind"), Tag: c.String("tag"), Set: c.String("set")}
	var err error
	if filter.Since, err = since(c.String("since"), time.Now()); err != nil {
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
	if c.Bool("json") {
		entries, err := book.Heads(filter)
		if err != nil {
			return err
		}
		return a.printJSON(model.RunLines(entries))
	}
	entries, err := book.Runs(filter)
	if err != nil {
		return err
	}
	if len(entries) == 0 && filter != (logbook.Filter{}) {
		return a.print("No run in the logbook is like that; vividstrain runs lists them all.\n")
	}
	return a.print(a.style(c).Runs(model.Runs(entries, book.Recording(), time.Now())))
}

// since returns the time that a date, or a time ago, stands for; "" is any time.
func since(when string, now time.Time) (time.Time, error) {
	if when == "" {
		return time.Time{}, nil
	}
	for _, layout := range []string{"2006-01-02", "2006-01-02 15:04", time.RFC3339} {
		if t, err := time.ParseInLocation(layout, when, time.Local); err == nil {
			return t, nil
		}
	}
	ago := when
	if days, has := strings.CutSuffix(when, "d"); has {
		if n, err := strconv.ParseFloat(days, 64); err == nil && n >= 0 && n < 1e5 {
			ago = strconv.FormatFloat(24*n, 'f', -1, 64) + "h"
		}
	}
	d, err := time.ParseDuration(ago)
	if err != nil || d < 0 {
		return time.Time{}, usagef("--since is a date like 2026-01-31, or a time ago like 12h or 7d, not %q", when)
	}
	return now.Add(-d), nil
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
