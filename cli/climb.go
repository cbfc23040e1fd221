package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/urfave/cli/v3"

	"vividstrain/core/load"
	"vividstrain/core/logbook"
	"vividstrain/core/media"
	"vividstrain/core/route"
	"vividstrain/core/run"
	"vividstrain/core/run/adapt"
	"vividstrain/core/run/climb"
	"vividstrain/core/run/crowd"
	"vividstrain/core/run/frontier"
	"vividstrain/core/sense/meter"
	"vividstrain/core/verdict"
	"vividstrain/report/model"
	"vividstrain/report/text"
)

func (a *app) climbCommand() *cli.Command {
	s := a.settings
	return command(&cli.Command{
		Name:      "climb",
		Usage:     "find the highest load that plays smoothly",
		ArgsUsage: "[LOAD | FILE | FOLDER]... | --resume [RUN]",
		Description: "Plays rung after rung of a ladder, or what is given: load lines, video files, and folders of\n" +
			"them, each at its place in the order. Goes on until two rungs of a column are not smooth\n" +
			"(more frames or bits of what was choppy are not tried); then tries the highest smooth rung and\n" +
			"the one above it again. Without --device this computer plays; clips that are missing are made\n" +
			"first. With --url virtual viewers fetch films from a media server and play them: load lines say\n" +
			"what to ask for, or a playlist of variants does.\n" +
			"With --route page the browser of any device plays them: one address is to be opened there.\n" +
			"With --start any player program does, and --eye counts what the screen shows.",
		Flags: append([]cli.Flag{
			a.ladderFlag(),
			&secondsFlag{Name: "hold", Usage: "hold each rung for `TIME`", Value: 10 * time.Second, DefaultText: "the ladder's, or 10s", Sources: s.sources("hold")},
			&secondsFlag{Name: "settle", Usage: "do not judge the first `TIME` of a rung", Value: 2 * time.Second, Sources: s.sources("settle")},
			&cli.BoolFlag{Name: "all", Usage: "try every rung, even after two that are not smooth", Sources: s.sources("all")},
			&cli.StringSliceFlag{Name: "goal", Aliases: []string{"g"}, Usage: "try every load as-is and converted to `GOAL`, like \"720p 4M\", \"720p 4M sdr\" of HDR sources or \"720p 4M audio=2 subtitle=1\""},
			&cli.BoolFlag{Name: "adaptive", Usage: "offer each column as one film in several qualities, and say which the device settles at"},
			&cli.BoolFlag{Name: "viewers", Usage: "after --goal, find how many viewers each goal is smooth for"},
			&cli.BoolFlag{Name: "once", Usage: "try each rung once, for a first look: the ceiling is not confirmed"},
			&cli.BoolFlag{Name: "quick", Usage: "pass over rungs that should be smooth, by what the tried ones cost"},
			&cli.BoolFlag{Name: "refine", Usage: "then close in on the limit between the ceiling and the next rung: by bitrate, frame rate and size"},
			&cli.BoolFlag{Name: "map", Usage: "find the highest smooth bitrate of each size and frame rate of the ladder instead"},
			&cli.StringFlag{Name: "within", Usage: "close in on the limit to `SHARE` of the bitrate", Value: "10%"},
			&cli.IntFlag{Name: "repeat", Usage: "climb `N` times, and say how much the results vary", Value: 1},
			resumeFlag(),
		}, a.playingFlags()...),
		Action: a.climb,
	}, "vividstrain climb", "vividstrain climb --device skerry-s1 --ladder lounge", "vividstrain climb --route page --open", "vividstrain climb --start \"ferryplayer {file}\" --eye x11", makeClips, "vividstrain climb clips/ --hold 5s", "vividstrain climb --resume", "vividstrain climb --device skerry-s4 --ladder lounge --quick", "vividstrain climb --device breakwater-n2 --refine \"h264 1080p25 10M\" \"h264 2160p50 60M\"", "vividstrain climb --device skerry-s1 --ladder lounge --map", "vividstrain climb \"mjpeg 1080p30 60M\" \"mjpeg 2160p30 120M\"",
		"vividstrain climb --url http://localhost:8080/film/{clip}/hls/{goal}/list.m3u8 \"h264 720p25 4M\" \"h264 720p25 4M -> 480p 1M\"")
}

// playingFlags returns the flags of all commands that put loads on devices.
func (a *app) playingFlags() []cli.Flag {
	s := a.settings
	return slices.Concat([]cli.Flag{
		&secondsFlag{Name: "baseline", Usage: "read the idle device for `TIME` first", Value: 3 * time.Second, Sources: s.sources("baseline")},
		&secondsFlag{Name: "rest", Usage: "wait at most `TIME` between attempts until the device is quiet again", DefaultText: "30s with a server, else 0s", Sources: s.sources("rest")},
		&cli.StringSliceFlag{Name: "criterion", Usage: "judge by `NAME=VALUE`, for example smooth.dropped_pct=0.5"},
		dryRunFlag(), jsonFlag(),
	}, fieldFlags(), a.identityFlags(), a.routeFlags(), a.sensorFlags())
}

func (a *app) climb(ctx context.Context, c *cli.Command) error {
	if c.Bool("resume") {
		_, err := a.resume(ctx, c)
		return err
	}
	r, err := a.route(c)
	if err != nil {
		return err
	}
	wanted, err := a.climbConfig(ctx, c, r)
	if err != nil {
		return err
	}
	if c.Bool("map") {
		return a.mapDevice(ctx, c, frontier.Config{Config: wanted.Config, Ladder: wanted.Ladder})
	}
	if c.Bool("adaptive") {
		return a.adapt(ctx, c, adapt.Config{Config: wanted.Config, Ladder: wanted.Ladder})
	}
	if c.Bool("dry-run") {
		plan, err := climb.Plan(ctx, wanted)
		if err != nil {
			return usage(err)
		}
		if c.Bool("viewers") {
			for _, goal := range wanted.Ladder.Columns {
				more, err := crowd.Plan(ctx, viewersOf(wanted, goal))
				if err != nil {
					return usage(err)
				}
				plan.Attempts, plan.Time, plan.Making = plan.Attempts+more.Attempts, plan.Time+more.Time, plan.Making+more.Making
			}
		}
		return a.printPlan(loads(wanted.Ladder), plan)
	}
	if n := c.Int("repeat"); n > 1 {
		if c.Bool("viewers") {
			return usagef("--viewers goes with one climb, not with --repeat")
		}
		return a.climbRepeatedly(ctx, c, wanted, n)
	}
	_, err = a.measure(ctx, c, c.StringSlice("sensors"), r, func(book *logbook.Book, config run.Config) (*logbook.Document, error) {
		wanted.Config = merged(wanted.Config, config)
		return climb.Run(ctx, book, wanted)
	})
	if err == nil && c.Bool("viewers") {
		return a.viewersOfGoals(ctx, c, wanted)
	}
	return err
}

// within returns the value of --within.
func within(c *cli.Command) (float64, error) {
	v, err := strconv.ParseFloat(strings.TrimSuffix(c.String("within"), "%"), 64)
	if err != nil {
		return 0, usagef("--within is a share like 10%%, not %q", c.String("within"))
	}
	return v / 100, nil
}

// alone refuses options that mean nothing beside another one.
func alone(c *cli.Command, name string, others ...string) error {
	for _, other := range others {
		if c.IsSet(other) {
			return usagef("--%s does not go with --%s", name, other)
		}
	}
	return nil
}

// mapDevice finds the highest smooth bitrate of each size and frame rate of a ladder.
func (a *app) mapDevice(ctx context.Context, c *cli.Command, wanted frontier.Config) (err error) {
	if err := alone(c, "map", "adaptive", "once", "quick", "refine", "goal", "viewers"); err != nil {
		return err
	}
	if wanted.Within, err = within(c); err != nil {
		return err
	}
	if err := wanted.Check(); err != nil {
		return usage(err)
	}
	if c.Bool("dry-run") {
		plan, err := frontier.Plan(ctx, wanted)
		if err != nil {
			return usage(err)
		}
		return a.printPlan(loads(wanted.Ladder), plan)
	}
	_, err = a.measure(ctx, c, c.StringSlice("sensors"), wanted.Route, func(book *logbook.Book, config run.Config) (*logbook.Document, error) {
		wanted.Config = merged(wanted.Config, config)
		return frontier.Run(ctx, book, wanted)
	})
	return err
}

// adapt offers the columns of a ladder as films in several qualities.
func (a *app) adapt(ctx context.Context, c *cli.Command, wanted adapt.Config) error {
	if err := alone(c, "adaptive", "all", "once", "quick", "refine"); err != nil {
		return err
	}
	if err := wanted.Check(); err != nil {
		return usage(err)
	}
	if c.Bool("dry-run") {
		plan, err := adapt.Plan(ctx, wanted)
		if err != nil {
			return usage(err)
		}
		return a.printPlan(loads(wanted.Ladder), plan)
	}
	_, err := a.measure(ctx, c, c.StringSlice("sensors"), wanted.Route, func(book *logbook.Book, config run.Config) (*logbook.Document, error) {
		wanted.Config = merged(wanted.Config, config)
		return adapt.Run(ctx, book, wanted)
	})
	return err
}

// viewersOfGoals finds for each goal of a matrix how many viewers of the first source it is smooth
// for.
func (a *app) viewersOfGoals(ctx context.Context, c *cli.Command, wanted climb.Config) error {
	var docs []*logbook.Document
	var goals []string
	for _, column := range wanted.Ladder.Columns {
		_, err := a.conduct(ctx, c, c.StringSlice("sensors"), wanted.Route, func(book *logbook.Book, config run.Config) (*logbook.Document, error) {
			crowded := viewersOf(wanted, column)
			crowded.Config = merged(wanted.Config, config)
			doc, err := crowd.Run(ctx, book, crowded)
			if doc != nil && doc.Attempts() > 0 {
				docs, goals = append(docs, doc), append(goals, column.Name)
			}
			return doc, err
		})
		if err != nil {
			return err
		}
	}
	if c.Bool("json") {
		return a.printJSON(docs)
	}
	return a.print("\n" + a.style(c).Draw(model.Viewers(goals, docs)))
}

// viewersOf returns what finds how many viewers the first source of a column is smooth for, up to
// the number and with the reserve that crowd has by default.
func viewersOf(wanted climb.Config, column load.Column) crowd.Config {
	return crowd.Config{Config: wanted.Config, Mix: column.Rungs[:1], Most: 64, Reserve: 20, Spread: true}
}

// crossed returns a ladder with a column of all loads as-is, and one for each goal.
func crossed(l *load.Ladder, goals []string) (*load.Ladder, error) {
	sources := loads(l)
	matrix := &load.Ladder{Name: l.Name, Hold: l.Hold, Columns: []load.Column{{Name: media.AsIs, Rungs: sources}}}
	for _, text := range goals {
		goal, err := load.ParseGoal(text)
		if err != nil {
			return nil, usage(err)
		}
		column := load.Column{Name: goal.String()}
		for _, source := range sources {
			if goal.ToSDR && !source.HDR() {
				continue // there is nothing to map
			}
			if source.Goal != nil {
				return nil, usagef("load line %q: with --goal the loads are sources, without a goal of their own", source)
			}
			source.Goal = &goal
			column.Rungs = append(column.Rungs, source)
		}
		if len(column.Rungs) == 0 {
			return nil, usagef("--goal %q is for HDR sources, and none of the loads is one", goal)
		}
		matrix.Columns = append(matrix.Columns, column)
	}
	return matrix, nil
}

// climbRepeatedly climbs n times and prints what the runs came to together.
func (a *app) climbRepeatedly(ctx context.Context, c *cli.Command, wanted climb.Config, n int) error {
	if n > 100 {
		return usagef("--repeat is 1 to 100, not %d", n)
	}
	var docs []*logbook.Document
	_, err := a.conduct(ctx, c, c.StringSlice("sensors"), wanted.Route, func(book *logbook.Book, config run.Config) (doc *logbook.Document, err error) {
		wanted.Config = merged(wanted.Config, config)
		of := logbook.NewID(wanted.Route.Clock().Now())
		for i := range n {
			wanted.Repeat = &logbook.Repeat{Of: of, Number: i + 1, Runs: n}
			if doc, err = climb.Run(ctx, book, wanted); doc != nil && doc.Attempts() > 0 {
				docs = append(docs, doc)
			}
			if err != nil {
				break
			}
		}
		return doc, err
	})
	if len(docs) == 0 {
		return err
	}
	return cmp.Or(err, a.printSpread(c, docs))
}

// printSpread prints what several runs of the same came to.
func (a *app) printSpread(c *cli.Command, docs []*logbook.Document) error {
	if c.Bool("json") {
		return a.printJSON(docs)
	}
	style := a.style(c)
	lines, table := model.Spread(docs)
	return a.print(style.Answer(lines) + "\n" + style.Draw(table))
}

// merged returns the configuration of a run with what is known when it begins: the meters, the
// device's name and facts, and who watches.
func merged(wanted, begun run.Config) run.Config {
	wanted.Version, wanted.Sensors, wanted.Pages, wanted.Token, wanted.Watch = begun.Version, begun.Sensors, begun.Pages, begun.Token, begun.Watch
	wanted.Name, wanted.Facts, wanted.Sampled = begun.Name, begun.Facts, begun.Sampled
	return wanted
}

// printPlan prints what a run would try and take.
func (a *app) printPlan(list []load.Load, plan run.Estimate) error {
	out := ""
	for _, l := range list {
		out += model.Printable(l.Title()) + "\n"
	}
	return a.print(out + planText(plan) + ".\n")
}

// errNothing means that a run says nothing about the device.
var errNothing = errors.New("nothing could be tried; the notes say why")

// measure makes a run and prints the result.
func (a *app) measure(ctx context.Context, c *cli.Command, pages []string, r route.Route, begin func(*logbook.Book, run.Config) (*logbook.Document, error)) (*logbook.Document, error) {
	doc, err := a.conduct(ctx, c, pages, r, begin)
	if doc == nil || err != nil && doc.Attempts() == 0 {
		return nil, err
	}
	if printErr := a.printRun(c, doc, nil, false); err == nil {
		err = printErr
	}
	if err == nil && doc.Attempts() > 0 && doc.Counted()+doc.Waiting() == 0 {
		err = errNothing
	}
	return doc, err
}

// conduct makes a run with the logbook, meters and progress. No meters are read for simulated
// devices.
func (a *app) conduct(ctx context.Context, c *cli.Command, pages []string, r route.Route, begin func(*logbook.Book, run.Config) (*logbook.Document, error)) (*logbook.Document, error) {
	defer closeRoute(r)
	book, err := a.openBook(c)
	if err != nil {
		return nil, err
	}
	defer book.Close()
	progress := a.newProgress()
	defer progress.close()
	style := a.style(c)
	style.Color = style.Color && progress.live
	if err := a.invite(ctx, r, style, progress); err != nil {
		return nil, err
	}
	config := run.Config{Version: built().short(), Watch: watcher(progress, style)}
	if err := a.identify(c, book, &config, r.Device()); err != nil {
		return nil, err
	}
	if !r.Traits().Virtual { // it ends before a key can be pressed
		meters, outside, err := a.meters(c, pages)
		if err != nil {
			return nil, err
		}
		defer closeMeters(meters)
		config.Sensors, config.Token = outside, len(pages) > 0 && c.String("token") != ""
		for _, page := range pages {
			config.Pages = append(config.Pages, meter.Plain(page))
		}
	}
	stop := a.showLive(ctx, book, &config, style, r)
	var finish func(*logbook.Document)
	config.Watch, finish = showBoard(r, config.Watch)
	doc, err := begin(book, config)
	finish(doc)
	stop()
	progress.stop()
	if progress.live && !c.Bool("json") {
		progress.line("")
	}
	return doc, err
}

// showLive shows a run on the whole terminal, if there is one, until stop is called.
func (a *app) showLive(ctx context.Context, book *logbook.Book, config *run.Config, style text.Style, r route.Route) (stop func()) {
	if r.Traits().Virtual { // it ends before anything could be seen
		return func() {}
	}
	view := a.newLiveRun(style, r.Kind(), a.interrupt, book.Remark)
	if view == nil {
		return func() {}
	}
	// The view begins with the run: a terminal is asked what it can do, and would answer after the
	// message of a run that cannot begin.
	end := func() {}
	start := sync.OnceFunc(func() { end = view.start(ctx, a.in.(*os.File), a.err.(*os.File)) })
	config.Watch = func(e run.Event) {
		start()
		view.event(e)
	}
	config.Sampled = view.sample
	return func() { end() }
}

// climbConfig returns the configuration that the flags ask for.
func (a *app) climbConfig(ctx context.Context, c *cli.Command, r route.Route) (config climb.Config, err error) {
	fallback := "starter"
	if c.String("device") != "" {
		fallback = "lounge"
	}
	config.Route = r
	skipped := func(err error) { fmt.Fprintln(a.err, "skipped", model.Printable(err.Error())) }
	if r, offers := r.(route.Offerer); offers && !c.Args().Present() && !c.IsSet("ladder") {
		config.Ladder, err = r.Offered(ctx)
	} else {
		config.Ladder, err = given(ctx, c, fallback, skipped)
		if err == nil && c.Args().Present() && config.Route.Traits().AnyOrder {
			easiestFirst(config.Ladder)
		}
	}
	if err != nil {
		return config, err
	}
	if goals := c.StringSlice("goal"); len(goals) > 0 {
		if config.Ladder, err = crossed(config.Ladder, goals); err != nil {
			return config, err
		}
		config.Goals = true
	} else if c.Bool("viewers") {
		return config, usagef("--viewers goes with --goal")
	}
	if config.Criteria, err = criteria(c.StringSlice("criterion")); err != nil {
		return config, err
	}
	config.Hold, config.Settle, config.Baseline = c.Duration("hold"), c.Duration("settle"), c.Duration("baseline")
	if hold := time.Duration(config.Ladder.Hold); hold > 0 && !c.IsSet("hold") {
		config.Hold = hold
	}
	if config.Hold <= config.Settle && !c.IsSet("settle") {
		config.Settle = config.Hold / 4
	}
	config.All = c.Bool("all") || config.Goals
	config.Quick, config.Once = c.Bool("quick"), c.Bool("once")
	if config.Quick && config.All {
		return config, usagef("--quick passes over rungs; it does not go with --all and --goal")
	}
	if config.Once && (config.Quick || c.Bool("refine")) {
		return config, usagef("--once makes no second attempts; it does not go with --quick and --refine")
	}
	if c.Bool("refine") {
		if config.Refine, err = within(c); err != nil {
			return config, err
		}
	} else if c.IsSet("within") && !c.Bool("map") {
		return config, usagef("--within goes with --refine and --map")
	}
	config.Rest = rest(c, config.Route)
	return config, usage(config.Check())
}

// easiestFirst sorts the loads of a media server, which come in any order on the command line,
// by pixels per second, then by bitrate.
func easiestFirst(l *load.Ladder) {
	for i := range l.Columns {
		slices.SortStableFunc(l.Columns[i].Rungs, func(a, b load.Load) int {
			return cmp.Or(cmp.Compare(a.PixelRate(), b.PixelRate()), cmp.Compare(a.Bitrate*int64(a.Streams), b.Bitrate*int64(b.Streams)))
		})
	}
}

// criteria returns the default criteria with the requested changes.
func criteria(changes []string) (verdict.Criteria, error) {
	criteria := verdict.Default()
	for _, change := range changes {
		name, text, _ := strings.Cut(change, "=")
		value, err := strconv.ParseFloat(text, 64)
		if err != nil {
			return criteria, usagef("criterion %q: write it like smooth.dropped_pct=0.5", change)
		}
		if err := criteria.Set(name, value); err != nil {
			return criteria, usage(err)
		}
	}
	return criteria, nil
}

// watcher shows the events of a run: a live line, and a line for each attempt.
func watcher(p *progress, style text.Style) func(run.Event) {
	var ends time.Time // when the run is expected to end
	return func(e run.Event) {
		p.left = ""
		if left := time.Until(ends).Round(time.Second); left > 0 && !e.Plan.Virtual {
			p.left = ", about " + model.Span(left.Seconds()) + " left"
		}
		switch e.Kind {
		case run.Planned:
			p.width = e.Width
			if e.Repeat != nil {
				p.line(fmt.Sprintf("run %d of %d", e.Repeat.Number, e.Repeat.Runs))
			}
			if !e.Plan.Virtual {
				p.line(planText(e.Plan))
			}
			ends = time.Now().Add(e.Plan.Time)
		case run.Baseline:
			p.set("idle", 0, e.Total, "reading the idle device")
		case run.Resting:
			p.set("resting", e.Done, e.Total, e.Text)
		case run.Warned:
			p.line(style.Warning(e.Text))
		case run.Building:
			p.set("making "+e.Title, e.Done, e.Total, fmt.Sprintf("frame %d of %d", e.Done, e.Total))
		case run.Playing:
			p.set(e.Title, min(e.Done, e.Total), e.Total, playing(e))
		case run.Ended:
			ends = time.Now().Add(e.Plan.Time)
			p.line(style.Line(e.Title, p.width, *e.Attempt))
		}
	}
}

func playing(e run.Event) string {
	if n := len(e.Live.Viewers); n > 0 {
		waiting, least := 0, e.Live.Viewers[0].Lead()
		for _, v := range e.Live.Viewers {
			least = min(least, v.Lead())
			if v.Waits {
				waiting++
			}
		}
		return fmt.Sprintf("all cores %.0f %%, %d waiting, least lead %.1f s", e.CPUPct, waiting, least.Seconds())
	}
	return fmt.Sprintf("all cores %.0f %%, %d dropped", e.CPUPct, e.Live.Frames.Dropped)
}

// printRun prints a run as the flags say. readings may be nil.
func (a *app) printRun(c *cli.Command, doc *logbook.Document, readings []logbook.Reading, running bool) error {
	if c.Bool("json") {
		return a.printJSON(doc)
	}
	choice, err := fieldChoice(c)
	if err != nil {
		return err
	}
	if doc.Conversion != nil && (choice.All || choice.Names != nil) {
		return usagef("--fields and --wide are for runs that play loads, and %s is a conversion", doc.ID)
	}
	return a.print(a.style(c).Run(model.NewRun(doc, readings, running, choice)))
}

// fieldFlags returns the flags that choose the fields of the table of attempts.
func fieldFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "fields", Usage: "show the fields `NAMES`, separated by commas: " + strings.Join(model.FieldNames(), ", "), DefaultText: "those that moved or ran out",
			Validator: func(s string) error { _, err := fieldNames(s); return err }},
		&cli.BoolFlag{Name: "wide", Usage: "show all fields that are known"},
	}
}

// fieldChoice returns the fields that the flags choose.
func fieldChoice(c *cli.Command) (choice model.Choice, err error) {
	choice.All = c.Bool("wide")
	if c.IsSet("fields") {
		choice.Names, err = fieldNames(c.String("fields"))
	}
	return choice, err
}

// fieldNames parses the names of fields, separated by commas.
func fieldNames(s string) (names []string, err error) {
	known := model.FieldNames()
	for name := range strings.SplitSeq(s, ",") {
		if name = strings.TrimSpace(name); !slices.Contains(known, name) {
			near := media.DidYouMean(media.Near(name, known))
			if near == "" {
				near = "; there are " + strings.Join(known, ", ")
			}
			return nil, usagef("there is no field %q%s", name, near)
		}
		names = append(names, name)
	}
	return names, nil
}

// openBook opens the logbook that the flags name and creates it if there is none.
func (a *app) openBook(c *cli.Command) (*logbook.Book, error) {
	book, err := logbook.Open(c.Root().String("logbook"))
	return book, usage(err)
}

// existingBook opens the logbook that the flags name for reading; none is created.
func (a *app) existingBook(c *cli.Command) (*logbook.Book, error) {
	book, err := logbook.OpenExisting(c.Root().String("logbook"))
	if errors.Is(err, logbook.ErrNoBook) {
		return nil, usagef("%w yet; \"vividstrain climb\" makes one", err)
	}
	return book, usage(err)
}

// existingRun opens the logbook and loads a run that is named, or the newest.
func (a *app) existingRun(c *cli.Command, name string) (*logbook.Book, *logbook.Document, error) {
	book, err := a.existingBook(c)
	if err != nil {
		return nil, nil, err
	}
	id, err := book.Find(name)
	if err != nil {
		return nil, nil, errors.Join(usage(err), book.Close())
	}
	doc, err := book.Load(id)
	if err != nil {
		return nil, nil, errors.Join(err, book.Close())
	}
	return book, doc, nil
}

// loads returns the load lines of a ladder.
func loads(l *load.Ladder) (list []load.Load) {
	for _, column := range l.Columns {
		list = append(list, column.Rungs...)
	}
	return list
}
