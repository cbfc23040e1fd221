package cli

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"vividstrain/core/logbook"
	"vividstrain/core/partial"
	"vividstrain/report/chart"
	"vividstrain/report/html"
	"vividstrain/report/model"
	"vividstrain/report/text"
)

func (a *app) reportCommand() *cli.Command {
	return command(&cli.Command{
		Name: "report", Usage: "write runs as a page to be published, as pictures and as tables", ArgsUsage: "[RUN...]",
		Description: "RUN is a run of the logbook, a set, a run document or a folder of run documents; without one, it is the newest run.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "out", Aliases: []string{"o"}, Usage: "write the page to `FILE`", DefaultText: "vividstrain-RUN.html"},
			&cli.StringFlag{Name: "png", Usage: "write each chart as a picture to `DIR`"},
			&cli.StringFlag{Name: "size", Usage: "make pictures of `WIDTHxHEIGHT` pixels", Value: "1280x800"},
			&cli.StringFlag{Name: "markdown", Usage: "write the tables to `FILE`, for an article"},
		},
		Action: a.report,
	}, "vividstrain report", "vividstrain report lounge bridge --out boxes.html", "vividstrain report --out lounge.html --png pictures --markdown lounge.md")
}

// report writes the page, and what else is asked for.
func (a *app) report(_ context.Context, c *cli.Command) error {
	var size chart.Pixels
	if _, err := fmt.Sscanf(c.String("size")+"\n", "%dx%d\n", &size.Width, &size.Height); err != nil {
		return usagef("--size is like 1280x800, not %q", c.String("size"))
	}
	if err := size.Check(); err != nil {
		return usage(err)
	}
	runs, err := a.gather(c, c.Args().Slice(), true)
	if err != nil {
		return err
	}
	var reports []*model.Report
	for _, m := range runs {
		for i, d := range m.Docs {
			reports = append(reports, model.NewReport(d, m.Readings[i], false))
		}
	}
	name := cmp.Or(c.String("out"), "vividstrain-"+runs[0].Docs[0].ID+".html")
	if err := writePage(name, reports, runs); err != nil {
		return err
	}
	said := fmt.Sprintf("The report of %s is %s.\n", model.Plural(len(reports), "run"), name)
	if file := c.String("markdown"); file != "" {
		if err := partial.Write(file, []byte(markdown(reports))); err != nil {
			return err
		}
		said += "Its tables are in " + file + ".\n"
	}
	if dir := c.String("png"); dir != "" {
		n, err := writePictures(dir, reports, size)
		if err != nil {
			return err
		}
		said += fmt.Sprintf("%s of %d x %d are in %s.\n", model.Plural(n, "picture"), size.Width, size.Height, dir)
	}
	return a.print(said)
}

// writePage writes the page of reports; of several runs, their comparison first.
func writePage(name string, reports []*model.Report, runs []model.Measured) error {
	var out bytes.Buffer
	var compared *model.Comparison
	if len(runs) > 1 {
		compared = model.Compare(runs)
	}
	if err := html.Write(&out, reports, compared); err != nil {
		return err
	}
	return partial.Write(name, out.Bytes())
}

// markdown returns the tables of reports.
func markdown(reports []*model.Report) (out string) {
	for _, r := range reports {
		out += "## " + model.Printable(r.Title) + "\n\n"
		for _, l := range r.Answer {
			if l.About != "" {
				out += "- " + l.About + ": "
			}
			out += model.Printable(l.Text) + "\n"
		}
		for _, t := range []model.Titled{{Title: "Attempts", Table: r.Run.Rungs}, {Title: "Dropped frames of the first seconds", Table: r.Early}, {Title: "Promises", Table: r.Promises},
			{Title: "Jumps", Table: r.Jumps}, {Title: "What people noted", Table: r.Remarks}, {Title: "What was excluded", Table: r.Excluded}, {Title: "The device and the conditions", Table: r.Conditions}} {
			if len(t.Table.Rows) > 0 {
				out += "\n### " + t.Title + "\n\n" + text.Markdown(t.Table)
			}
		}
		out += "\n"
	}
	return out
}

// writePictures writes each chart of reports as a picture, and returns how many there are.
func writePictures(dir string, reports []*model.Report, size chart.Pixels) (n int, err error) {
	if err := os.MkdirAll(dir, 0o777); err != nil {
		return 0, usage(err)
	}
	for _, r := range reports {
		clean := model.Clean(*r)
		of := fmt.Sprintf("%s · %s · run %s", clean.Title, clean.When, clean.Run.ID)
		write := func(name string, draw func(w *bytes.Buffer) error) error {
			var out bytes.Buffer
			if err := draw(&out); err != nil {
				return err
			}
			if len(reports) > 1 {
				name = clean.Run.ID + "-" + name
			}
			n++
			return partial.Write(filepath.Join(dir, name+".png"), out.Bytes())
		}
		if len(clean.Steps) > 0 {
			err := write("ladder", func(w *bytes.Buffer) error { return chart.LadderPNG(w, clean.Steps, clean.Title, of, size) })
			if err != nil {
				return n, err
			}
		}
		for _, one := range clean.Charts {
			if err := write(one.Name, func(w *bytes.Buffer) error { return chart.PNG(w, one, of, size) }); err != nil {
				return n, err
			}
		}
	}
	return n, nil
}

func (a *app) compareCommand() *cli.Command {
	return command(&cli.Command{
		Name: "compare", Usage: "set runs side by side: on the terminal, and as a page", ArgsUsage: "RUN RUN...",
		Description: "RUN is a run of the logbook, a set, a run document or a folder of run documents. Runs that were made with\n" +
			"--repeat count as one, so that their differences can be told from chance.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "out", Aliases: []string{"o"}, Usage: "write the page to `FILE`"},
			&cli.BoolFlag{Name: "markdown", Usage: "print the table alone, for an article"},
		},
		Action: a.compare,
	}, "vividstrain compare lounge bridge", "vividstrain compare reviews --out boxes.html")
}

func (a *app) compare(_ context.Context, c *cli.Command) error {
	if !c.Args().Present() {
		return usagef("which runs? vividstrain runs lists them")
	}
	runs, err := a.gather(c, c.Args().Slice(), true)
	if err != nil {
		return err
	}
	if len(runs) < 2 {
		return usagef("one run alone cannot be compared; name another")
	}
	compared := model.Compare(runs)
	if c.Bool("markdown") {
		return a.print(text.Markdown(compared.Table))
	}
	if err := a.print(a.style(c).Comparison(compared)); err != nil {
		return err
	}
	name := c.String("out")
	if name == "" {
		return nil
	}
	var reports []*model.Report
	for _, m := range runs {
		reports = append(reports, model.NewReport(m.Docs[0], m.Readings[0], false))
	}
	if err := writePage(name, reports, runs); err != nil {
		return err
	}
	return a.print("\nThe page is " + name + ".\n")
}

// maxDocument is the largest size of a file that is read as a run document.
const maxDocument = 1 << 30

// gather returns the runs that are named: of the logbook, or files and folders of run documents.
// withReadings is whether those of the logbook come with their readings, which take long to read.
func (a *app) gather(c *cli.Command, names []string, withReadings bool) (runs []model.Measured, err error) {
	if len(names) == 0 {
		names = []string{""}
	}
	var book *logbook.Book
	defer func() {
		if book != nil {
			err = errors.Join(err, book.Close())
		}
	}()
	for _, name := range names {
		if _, statErr := os.Stat(name); statErr == nil {
			more, err := fromFiles(name)
			if err != nil {
				return nil, err
			}
			runs = append(runs, more...)
			continue
		}
		if book == nil {
			if book, err = a.existingBook(c); err != nil {
				return nil, err
			}
		}
		more, err := fromBook(book, name, withReadings)
		if err != nil {
			return nil, err
		}
		runs = append(runs, more...)
	}
	return runs, nil
}

// fromBook returns a run of the logbook, or the runs of the same that have this name.
func fromBook(book *logbook.Book, name string, withReadings bool) ([]model.Measured, error) {
	set, err := book.Named(name)
	if err != nil {
		return nil, err
	}
	if len(set) > 0 {
		var runs []model.Measured
		for _, id := range set {
			one, err := fromBook(book, id, withReadings)
			if err != nil {
				return nil, err
			}
			runs = append(runs, one...)
		}
		return runs, nil
	}
	docs, err := book.Repeated(name)
	if err != nil {
		return nil, err
	}
	if len(docs) == 0 {
		id, err := book.Find(name)
		if err != nil {
			return nil, usage(err)
		}
		doc, err := book.Load(id)
		if err != nil {
			return nil, err
		}
		docs = []*logbook.Document{doc}
	}
	m := model.Measured{Docs: docs}
	for i := 0; withReadings && i < len(docs); i++ {
		readings, err := book.Readings(docs[i])
		if err != nil {
			return nil, err
		}
		m.Readings = append(m.Readings, readings)
	}
	return []model.Measured{m}, nil
}

// fromFiles returns the run document in a file, or those in a folder, oldest first.
func fromFiles(path string) (runs []model.Measured, err error) {
	files := []string{path}
	if info, err := os.Stat(path); err == nil && info.IsDir() {
		if files, err = filepath.Glob(filepath.Join(path, "*.json")); err != nil {
			return nil, usage(err)
		}
	}
	for _, file := range files {
		d, err := readDocument(file)
		if err != nil {
			if len(files) > 1 && errors.Is(err, errNoDocument) {
				continue // a folder may hold other files too
			}
			return nil, err
		}
		readings := d.Readings
		d.Readings = nil
		runs = append(runs, model.Measured{Docs: []*logbook.Document{d}, Readings: [][]logbook.Reading{readings}})
	}
	slices.SortStableFunc(runs, func(a, b model.Measured) int { return a.Docs[0].Started.Compare(b.Docs[0].Started) })
	if len(runs) == 0 {
		return nil, usagef("%s: there is no run document in it; vividstrain export --format json RUN makes one", path)
	}
	return runs, nil
}

// errNoDocument means that a file is no run document.
var errNoDocument = errors.New("this is no run document")

// readDocument reads a run document.
func readDocument(file string) (*logbook.Document, error) {
	data, err := readFile(file, maxDocument)
	if err != nil {
		return nil, usage(err)
	}
	d := &logbook.Document{}
	if err := json.Unmarshal(data, d); err != nil {
		return nil, usagef("%s: %w: %s", file, errNoDocument, strings.TrimPrefix(err.Error(), "json: "))
	}
	if d.Schema != logbook.Schema {
		return nil, usagef("%s: %w: its schema is %q, not %q", file, errNoDocument, d.Schema, logbook.Schema)
	}
	if !runID.MatchString(d.ID) {
		return nil, usagef("%s: %w: %q is not the id of a run", file, errNoDocument, d.ID)
	}
	return d, nil
}

// runID is what the id of a run looks like: it becomes part of files' names.
var runID = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,79}$`)
