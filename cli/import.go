package cli

import (
	"context"
	"errors"
	"fmt"
	"os"

	"github.com/urfave/cli/v3"

	"vividstrain/core/logbook"
	"vividstrain/core/sense"
	"vividstrain/core/sense/video"
	"vividstrain/report/model"
)

func (a *app) importCommand() *cli.Command {
	return command(&cli.Command{
		Name:      "import",
		Usage:     "take a run from another computer, or the counts of a page's video",
		ArgsUsage: "FILE",
		Description: "The file is a run document, as \"vividstrain export\" writes it, or a folder of them; or what the script of\n" +
			"\"vividstrain watch --page\" hands over where a page allows no connection. Such counts go to a run at their\n" +
			"time, by the clocks of both computers.",
		Flags:  []cli.Flag{&cli.StringFlag{Name: "run", Usage: "add counts to `RUN` instead of the newest"}},
		Action: a.importFile,
	}, "vividstrain import run.json", "vividstrain import vividstrain-page.json")
}

// importFile takes runs if the file or folder holds any, else the counts in it.
func (a *app) importFile(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() != 1 {
		return usagef("which file? Give a run document, or what a page handed over")
	}
	runs, err := fromFiles(c.Args().First())
	if errors.Is(err, errNoDocument) {
		return a.importCounts(ctx, c)
	}
	if err != nil {
		return err
	}
	book, err := logbook.Open(c.Root().String("logbook"))
	if err != nil {
		return err
	}
	defer book.Close()
	added := 0
	for _, m := range runs {
		d := *m.Docs[0]
		d.Readings = m.Readings[0]
		if err := book.Add(&d); errors.Is(err, logbook.ErrThere) && len(runs) > 1 {
			fmt.Fprintf(a.err, "left out: %s\n", oneLine(err))
			continue
		} else if err != nil {
			return err
		}
		added++
	}
	fmt.Fprintf(a.err, "%s added to the logbook.\n", model.Plural(added, "run"))
	return nil
}

func (a *app) importCounts(_ context.Context, c *cli.Command) error {
	path := c.Args().First()
	file, err := os.Open(path)
	if err != nil {
		return usage(err)
	}
	defer file.Close()
	counts, err := video.ReadFile(file)
	if err != nil {
		return usage(fmt.Errorf("%s: %w", path, err))
	}
	book, doc, err := a.existingRun(c, c.String("run"))
	if err != nil {
		return err
	}
	defer book.Close()
	var samples []sense.Sample
	for i := 1; i < len(counts); i++ {
		if readings := video.Readings(counts[i-1], counts[i]); readings != nil {
			samples = append(samples, sense.Sample{At: counts[i].At, Readings: readings})
		}
	}
	added, err := book.Import(doc, sense.Identity{Kind: "page", Name: "video"}, samples)
	if err != nil {
		return err
	}
	if added == 0 {
		return usagef("%s: none of its %s is of the time of run %s, which began %s; do the clocks of both computers agree?",
			path, model.Plural(len(counts), "count"), doc.ID, doc.Started.Local().Format("2006-01-02 15:04:05"))
	}
	fmt.Fprintf(a.err, "%s added to run %s.\n", model.Plural(added, "count"), doc.ID)
	return nil
}
