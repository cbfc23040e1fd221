package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"vividstrain/core/clock"
	"vividstrain/core/logbook"
	"vividstrain/core/sense"
	"vividstrain/core/sense/linux"
	"vividstrain/core/sense/local"
	"vividstrain/core/sense/meter"
	"vividstrain/report/model"
)

// sensorFlags returns the flags for meters besides those of the settings file.
func (a *app) sensorFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringSliceFlag{Name: "sensors", Usage: "read the metrics page at `URL` too, for example that of \"vividstrain watch --listen\""},
		&cli.StringFlag{Name: "token", Usage: "send `TOKEN` to the pages of --sensors; better in the environment, as VIVIDSTRAIN_TOKEN", Sources: cli.EnvVars("VIVIDSTRAIN_TOKEN")},
	}
}

// groupFlags returns the flags for the watched processes.
func groupFlags() []cli.Flag {
	return []cli.Flag{
		&cli.IntSliceFlag{Name: "pid", Usage: "watch the process `NUMBER` and all that it starts"},
		&cli.StringFlag{Name: "process", Usage: "watch the processes called `NAME` and all that they start"},
	}
}

// meters opens the outside meters of the settings file and those at the pages.
func (a *app) meters(c *cli.Command, pages []string) (list []meter.Source, sources []sense.Source, err error) {
	if node := a.settings.sensors; node != nil {
		if err := a.settings.mayRun(node); err != nil {
			return nil, nil, err
		}
		if list, err = meter.Parse(node); err != nil {
			return nil, nil, usagef("%s: %w", a.settings.path, err)
		}
	}
	taken := map[string]bool{}
	for _, s := range local.Local(&linux.Group{}) {
		taken[s.Name()] = true
	}
	for _, m := range list {
		if taken[m.Name()] {
			closeMeters(list)
			return nil, nil, usagef("%s: there are two sources called %q; give the meter another name", a.settings.path, m.Name())
		}
		taken[m.Name()] = true
	}
	for _, url := range pages {
		name := "box"
		for i := 2; taken[name]; i++ {
			name = fmt.Sprintf("box%d", i)
		}
		taken[name] = true
		m, err := meter.NewMetrics(name, url, c.String("token"), 500*time.Millisecond, nil)
		if err != nil {
			closeMeters(list)
			return nil, nil, usagef("--sensors: %w", err)
		}
		list = append(list, m)
	}
	for _, m := range list {
		sources = append(sources, m)
	}
	return list, sources, nil
}

func closeMeters(list []meter.Source) {
	for _, m := range list {
		m.Close()
	}
}

// group returns the processes that the flags name, or else this program.
func group(c *cli.Command) (*linux.Group, string, error) {
	g := &linux.Group{}
	pids, name := c.IntSlice("pid"), c.String("process")
	if len(pids) == 0 && name == "" {
		g.Watch(os.Getpid())
		return g, "", nil
	}
	words := []string{}
	for _, pid := range pids {
		if _, err := os.Stat(fmt.Sprintf("/proc/%d", pid)); errors.Is(err, os.ErrNotExist) {
			return nil, "", usagef("there is no process %d", pid)
		}
		words = append(words, fmt.Sprintf("process %d", pid))
	}
	g.Watch(pids...)
	if name != "" {
		g.WatchName(name)
		words = append(words, fmt.Sprintf("%q", name))
	}
	return g, strings.Join(words, " and "), nil
}

// sources returns all sources for this computer, with the processes that the flags name as the
// watched ones, and outside meters. names is what is watched.
func (a *app) sources(c *cli.Command) (list []sense.Source, names string, done func(), err error) {
	g, names, err := group(c)
	if err != nil {
		return nil, "", nil, err
	}
	meters, outside, err := a.meters(c, c.StringSlice("sensors"))
	return append(local.Local(g), outside...), names, func() { closeMeters(meters) }, err
}

func (a *app) sensorsCommand() *cli.Command {
	return command(&cli.Command{
		Name:  "sensors",
		Usage: "list what can be read of this computer and of outside meters, and what cannot",
		Description: "Reads every source for a moment. For what cannot be read it says why, and what would make it\n" +
			"readable. Outside meters are named in vividstrain.yaml, under sensors:.",
		Flags:  append(append(groupFlags(), a.sensorFlags()...), &secondsFlag{Name: "for", Usage: "read for `TIME`", Value: 2 * time.Second}, jsonFlag()),
		Action: a.listSensors,
	}, "vividstrain sensors", "vividstrain sensors --process player", "VIVIDSTRAIN_TOKEN=gangway vividstrain sensors --sensors http://localhost:9600")
}

func (a *app) listSensors(ctx context.Context, c *cli.Command) error {
	if err := noArguments(c); err != nil {
		return err
	}
	period := c.Duration("for")
	if period < 500*time.Millisecond || period > time.Minute {
		return usagef("--for must be 500ms to 1m, not %s", period)
	}
	sources, _, done, err := a.sources(c)
	if err != nil {
		return err
	}
	defer done()
	sampler := sense.Start(ctx, clock.Real{}, 250*time.Millisecond, sources, func(sense.Sample) {})
	err = clock.Real{}.Sleep(ctx, period)
	sampler.Stop()
	if err != nil {
		return err
	}
	latest, costs, absent := sampler.Latest(), sampler.Costs(), sense.Absences(sources)
	var gaps []sense.Gap
	for _, gap := range sampler.Gaps() {
		if gap.To.IsZero() {
			gaps = append(gaps, gap)
		}
	}
	if !c.Bool("json") {
		return a.print(a.style(c).Sensors(latest, costs, absent, gaps))
	}
	return a.printJSON(model.NewSensors(latest, costs, absent, gaps, sense.States(sources)))
}

func (a *app) noteCommand() *cli.Command {
	return command(&cli.Command{
		Name:      "note",
		Usage:     "add a note, or a reading taken by hand, to a run",
		ArgsUsage: "[TEXT]",
		Description: "Goes to the newest run, also while it is being measured. Notes are in the run document and in\n" +
			"its tables at their time.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "run", Usage: "add it to `RUN` instead of the newest"},
			&cli.StringFlag{Name: "at", Usage: "it was at `TIME`: a time of day, a full time, or +90s since the run began"},
			&cli.StringSliceFlag{Name: "reading", Usage: "what a meter showed, as `NAME=VALUE` with its unit"},
			&cli.BoolFlag{Name: "stutter", Usage: "stutter was seen"},
			&cli.BoolFlag{Name: "picture", Usage: "a fault of the picture was seen"},
		},
		Action: a.note,
	}, "vividstrain note \"green bars at the bottom\"", "vividstrain note --reading noise=53dB --reading wall_power=24.5W", "vividstrain note --stutter --at +90s")
}

func (a *app) note(_ context.Context, c *cli.Command) error {
	text := strings.TrimSpace(strings.Join(c.Args().Slice(), " "))
	r := logbook.Remark{Kind: logbook.Note, Text: text}
	if c.Bool("stutter") {
		r.Kind = logbook.Stutter
	} else if c.Bool("picture") {
		r.Kind = logbook.Picture
	}
	for _, reading := range c.StringSlice("reading") {
		quantity, v, err := handReading(reading)
		if err != nil {
			return usage(err)
		}
		if r.Readings == nil {
			r.Readings = map[string]float64{}
		}
		r.Readings[quantity] = v
	}
	if text == "" && r.Readings == nil && r.Kind == logbook.Note {
		return usagef("what is to be noted? Give a text, --reading, --stutter or --picture")
	}
	if len(text) > 2000 {
		return usagef("a note has at most 2000 letters")
	}
	book, doc, err := a.existingRun(c, c.String("run"))
	if err != nil {
		return err
	}
	defer book.Close()
	if r.At, err = momentOf(c.String("at"), doc.Started, time.Now()); err != nil {
		return usage(err)
	}
	if err := book.Remark(doc.ID, r); err != nil {
		return err
	}
	return a.print(fmt.Sprintf("Noted in run %s, %.1f s after its start.\n", doc.ID, r.At.Sub(doc.Started).Seconds()))
}

// handReading parses "noise=53dB" or "wall_power=24.5W": the unit supplies the ending of the
// quantity's name, unless it has one.
func handReading(text string) (quantity string, value float64, err error) {
	name, rest, _ := strings.Cut(text, "=")
	i := strings.IndexFunc(rest, func(r rune) bool { return !strings.ContainsRune("+-0123456789.,eE", r) })
	if i < 0 {
		i = len(rest)
	}
	v, err := meter.ParseNumber(rest[:i])
	unit := strings.TrimSpace(rest[i:])
	if err != nil {
		return "", 0, fmt.Errorf("--reading %q: write it like noise=53dB", text)
	}
	quantity = name
	if sense.Unit(quantity) == "" {
		ending := meter.EndingFor(unit)
		if ending == "" {
			return "", 0, fmt.Errorf("--reading %q: which unit is it in? Write it like noise=53dB or temp=61C", text)
		}
		quantity += ending
	}
	if err := meter.CheckQuantity(quantity); err != nil {
		return "", 0, fmt.Errorf("--reading %q: %w", text, err)
	}
	if unit == "" {
		return quantity, v, nil
	}
	scale, offset, err := meter.Convert(quantity, unit)
	return quantity, v*scale + offset, err
}

// momentOf returns the time that a flag states, by default now.
func momentOf(text string, started, now time.Time) (time.Time, error) {
	if text == "" {
		return now, nil
	}
	if after, found := strings.CutPrefix(text, "+"); found {
		if d, err := time.ParseDuration(after); err == nil {
			return started.Add(d), nil
		}
	}
	for _, layout := range []string{time.RFC3339, "2006-01-02 15:04:05"} {
		if at, err := time.ParseInLocation(layout, text, time.Local); err == nil {
			return at, nil
		}
	}
	for _, layout := range []string{"15:04:05", "15:04"} {
		if at, err := time.ParseInLocation(layout, text, time.Local); err == nil {
			day := started.Local()
			at = time.Date(day.Year(), day.Month(), day.Day(), at.Hour(), at.Minute(), at.Second(), 0, time.Local)
			if at.Before(started.Add(-time.Minute)) { // the run went past midnight
				at = at.AddDate(0, 0, 1)
			}
			return at, nil
		}
	}
	return now, fmt.Errorf("--at %q is not a time; write 14:05:10, 2026-11-23T14:05:10Z or +90s", text)
}
