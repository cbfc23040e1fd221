package cli

import (
	"context"
	"fmt"
	"os"

	"github.com/urfave/cli/v3"

	"vividstrain/core/sense"
	"vividstrain/core/sense/video"
	"vividstrain/report/model"
)

func (a *app) importCommand() *cli.Command {
	return command(&cli.Command{
		Name:      "import",
		Usage:     "add the counts of a page's video to a run",
		ArgsUsage: "FILE",
		Description: "The file is what the script of \"vividstrain watch --page\" hands over where a page allows no\n" +
			"connection. Its counts go to the run at their time, by the clocks of both computers.",
		Flags:  []cli.Flag{&cli.StringFlag{Name: "run", Usage: "add them to `RUN` instead of the newest"}},
		Action: a.importCounts,
	}, "vividstrain import vividstrain-page.json")
}

func (a *app) importCounts(_ context.Context, c *cli.Command) error {
	if c.Args().Len() != 1 {
		return usagef("which file? Give the one that the page handed over")
	}
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
