package cli

import (
	"bytes"
	"context"
	"io"

	"github.com/urfave/cli/v3"

	"vividstrain/core/logbook"
	"vividstrain/core/partial"
	"vividstrain/report/export"
	"vividstrain/report/model"
)

func (a *app) exportCommand() *cli.Command {
	return command(&cli.Command{
		Name: "export", Usage: "write a run in a form for other programs", ArgsUsage: "[RUN]",
		Description: "json is the whole run document with all readings, which \"vividstrain import\" reads on another computer;\n" +
			"csv and parquet are one table of it, openmetrics the readings. RUN may be a run document too.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "format", Usage: "write `FORMAT`: json, csv, parquet or openmetrics", Value: "json"},
			&cli.StringFlag{Name: "table", Usage: "of csv and parquet: `TABLE` is readings, frames or rungs", Value: "readings"},
			&cli.StringFlag{Name: "out", Aliases: []string{"o"}, Usage: "write to `FILE`", DefaultText: "what is printed"},
		},
		Action: a.export,
	}, "vividstrain export > run.json", "vividstrain export --format csv --table rungs", "vividstrain export --format parquet --out readings.parquet")
}

func (a *app) export(_ context.Context, c *cli.Command) error {
	if c.Args().Len() > 1 {
		return usagef("export takes one run; vividstrain runs lists them")
	}
	write, err := exporter(c.String("format"), c.String("table"))
	if err != nil {
		return err
	}
	if c.String("format") == "parquet" && c.String("out") == "" && terminalWidth(a.out) > 0 {
		return usagef("parquet is not for a terminal; name a file with --out")
	}
	runs, err := a.gather(c, c.Args().Slice(), true)
	if err != nil {
		return err
	}
	if len(runs) != 1 || len(runs[0].Docs) != 1 {
		return usagef("%s is several runs; name one of them", c.Args().First())
	}
	var out bytes.Buffer
	if err := write(&out, runs[0]); err != nil {
		return err
	}
	if file := c.String("out"); file != "" {
		return partial.Write(file, out.Bytes())
	}
	_, err = a.out.Write(out.Bytes())
	return err
}

// exporter returns what writes a format.
func exporter(format, table string) (func(w io.Writer, m model.Measured) error, error) {
	rows := func(m model.Measured) []export.Reading { return export.Readings(m.Docs[0], m.Readings[0]) }
	switch format + " " + table {
	case "json readings":
		return writeDocument, nil
	case "openmetrics readings":
		return func(w io.Writer, m model.Measured) error { return export.OpenMetrics(w, rows(m)) }, nil
	case "csv readings", "parquet readings":
		return tableWriter(format, rows), nil
	case "csv frames", "parquet frames":
		return tableWriter(format, func(m model.Measured) []export.Frame { return export.Frames(m.Docs[0]) }), nil
	case "csv rungs", "parquet rungs":
		return tableWriter(format, func(m model.Measured) []export.Rung { return export.Rungs(m.Docs[0]) }), nil
	}
	if format == "json" || format == "openmetrics" {
		return nil, usagef("--table is for csv and parquet")
	}
	return nil, usagef("--format is json, csv, parquet or openmetrics, and --table readings, frames or rungs; not %q and %q", format, table)
}

// tableWriter returns what writes the rows of a run as csv or parquet.
func tableWriter[R any](format string, rows func(m model.Measured) []R) func(w io.Writer, m model.Measured) error {
	if format == "csv" {
		return func(w io.Writer, m model.Measured) error { return export.CSV(w, rows(m)) }
	}
	return func(w io.Writer, m model.Measured) error { return export.Parquet(w, rows(m)) }
}

// writeDocument writes a run document with all its readings.
func writeDocument(w io.Writer, m model.Measured) error {
	d := *m.Docs[0]
	d.Readings = m.Readings[0]
	d.Baseline.Readings = []logbook.Reading{} // they are among all
	if d.After != nil {
		after := *d.After
		after.Readings = []logbook.Reading{}
		d.After = &after
	}
	text, err := encodeJSON(d)
	if err != nil {
		return err
	}
	_, err = w.Write(text)
	return err
}
