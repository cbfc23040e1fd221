package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"vividstrain/core/logbook"
	"vividstrain/core/run"
	"vividstrain/core/run/crowd"
	"vividstrain/report/model"
)

func (a *app) crowdCommand() *cli.Command {
	s := a.settings
	return command(&cli.Command{
		Name:      "crowd",
		Usage:     "find how many streams at once play smoothly for every viewer",
		ArgsUsage: "LOAD | FILE... | --resume [RUN]",
		Description: "Plays the load or the file once, twice, four times and so on at once; then closes in between the\n" +
			"last number that was smooth and the first that was not, and tries both again. Several loads\n" +
			"are a mix, which keeps its proportions. Says what runs out, and which number leaves a reserve of it.",
		Flags: append([]cli.Flag{
			&secondsFlag{Name: "hold", Usage: "hold each number for `TIME`", Value: 20 * time.Second, Sources: s.sources("hold", "every")},
			&secondsFlag{Name: "settle", Usage: "do not judge the first `TIME` of a number", Value: 5 * time.Second, Sources: s.sources("settle")},
			&cli.IntFlag{Name: "most", Usage: "try at most `N` times the load", Value: 64, Sources: s.sources("most")},
			&cli.IntFlag{Name: "need", Usage: "`N` times the load are needed: exit status 3 if they are not smooth"},
			&cli.BoolFlag{Name: "need-reserve", Usage: "the need is met only if the reserve is left, too"},
			resumeFlag(),
			&cli.StringFlag{Name: "reserve", Usage: "call a number comfortable that leaves `SHARE` of what runs out", Value: "20%", Sources: s.sources("reserve")},
			&secondsFlag{Name: "stagger", Usage: "start streams `TIME` apart", DefaultText: "all together", Sources: s.sources("stagger")},
			&cli.BoolFlag{Name: "spread", Usage: "start streams at different positions in the film (from a server, in a browser, or converted here)"},
		}, a.playingFlags()...),
		Action: a.crowd,
	}, "vividstrain crowd \"h264 720p25 5M\" --device breakwater-n2 --need 5",
		"vividstrain crowd \"h264 720p30 4M -> 240p 0.4M\" --hold 10s --most 8",
		"vividstrain crowd \"h264 720p25 4M x2\" \"h264 240p25 0.5M\" --url http://localhost:8080/film/{clip}/hls/{goal}/list.m3u8")
}

// errNeed means that a stated need is not met.
var errNeed = needError{}

type needError struct{}

func (needError) Error() string { return "the need is not met" }

func (a *app) crowd(ctx context.Context, c *cli.Command) error {
	var doc *logbook.Document
	var err error
	if c.Bool("resume") {
		doc, err = a.resume(ctx, c)
	} else {
		doc, err = a.crowdAnew(ctx, c)
	}
	if err != nil || doc == nil || doc.Crowd == nil || doc.Crowd.Met == nil {
		return err
	}
	met, reserve := *doc.Crowd.Met, doc.Crowd.WithReserve
	if !met || doc.Plan.Crowd.NeedReserve && (reserve == nil || !*reserve) {
		return errNeed
	}
	return nil
}

func (a *app) crowdAnew(ctx context.Context, c *cli.Command) (*logbook.Document, error) {
	wanted, err := a.crowdConfig(ctx, c)
	if err != nil {
		return nil, err
	}
	if c.Bool("dry-run") {
		plan, err := crowd.Plan(ctx, wanted)
		if err != nil {
			return nil, usage(err)
		}
		return nil, a.printPlan(wanted.Mix, plan)
	}
	return a.measure(ctx, c, c.StringSlice("sensors"), wanted.Route, func(book *logbook.Book, config run.Config) (*logbook.Document, error) {
		wanted.Config = merged(wanted.Config, config)
		return crowd.Run(ctx, book, wanted)
	})
}

// crowdConfig returns the configuration that the flags ask for.
func (a *app) crowdConfig(ctx context.Context, c *cli.Command) (config crowd.Config, err error) {
	if !c.Args().Present() {
		return config, usagef("which load? for example: vividstrain crowd \"h264 720p25 5M\"")
	}
	mix, err := given(ctx, c, "", func(err error) { fmt.Fprintln(a.err, "skipped", model.Printable(err.Error())) })
	if err != nil {
		return config, err
	}
	config.Mix = loads(mix)
	reserve, err := strconv.ParseFloat(strings.TrimSuffix(c.String("reserve"), "%"), 64)
	if err != nil {
		return config, usagef("--reserve is a share like 20%%, not %q", c.String("reserve"))
	}
	config.Reserve, config.Most, config.Need, config.NeedReserve = reserve, c.Int("most"), c.Int("need"), c.Bool("need-reserve")
	if config.Need > config.Most && !c.IsSet("most") {
		config.Most = 2 * config.Need // so that what it has beyond the need shows, too
	}
	config.Stagger, config.Spread = c.Duration("stagger"), c.Bool("spread")
	config.Baseline = c.Duration("baseline")
	config.Hold, config.Settle = c.Duration("hold"), c.Duration("settle")
	if config.Hold <= config.Settle && !c.IsSet("settle") {
		config.Settle = config.Hold / 4
	}
	if config.Criteria, err = criteria(c.StringSlice("criterion")); err != nil {
		return config, err
	}
	if config.Route, err = a.route(c); err != nil {
		return config, err
	}
	config.Rest = rest(c, config.Route)
	return config, usage(config.Check())
}
