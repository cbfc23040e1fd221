package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"time"

	"github.com/urfave/cli/v3"

	"vividstrain/core/load"
	"vividstrain/core/logbook"
	"vividstrain/core/media"
	"vividstrain/core/media/inspect"
	"vividstrain/core/media/registry"
	"vividstrain/core/route"
	"vividstrain/core/run"
	"vividstrain/core/sense/local"
	"vividstrain/core/transcode"
	"vividstrain/report/model"
	"vividstrain/report/text"
)

func (a *app) convertCommand() *cli.Command {
	return command(&cli.Command{
		Name:      "convert",
		Usage:     "convert a video file, and measure what that takes",
		ArgsUsage: "FILE",
		Description: "Decodes, scales, maps HDR to SDR, changes the frame rate and encodes, with the program's own\n" +
			"code; audio is copied. As fast as possible, unless --ahead lets it run only so far ahead of somebody\n" +
			"who watches: then it also says whether that viewer would have had to wait.",
		Flags: append([]cli.Flag{
			&cli.StringFlag{Name: "goal", Aliases: []string{"g"}, Usage: "convert to `GOAL`: a size, a bitrate and perhaps a frame rate, like \"720p 4M\" or \"480p25 1M\""},
			&cli.StringFlag{Name: "out", Aliases: []string{"o"}, Usage: "write the result to `FILE` (mp4, mkv or ts)", DefaultText: "nowhere: only measure"},
			&cli.IntFlag{Name: "copies", Usage: "convert `N` times at once", Value: 1},
			&secondsFlag{Name: "ahead", Usage: "run at most `TIME` ahead of a viewer"},
			forceFlag(),
			&cli.StringFlag{Name: "effort", Usage: "code `fast`, or good: smaller at the same quality, but slower", Value: "fast"},
			&cli.IntFlag{Name: "threads", Usage: "decode and code on `N` threads each", DefaultText: "one for each core, shared by the copies"},
			&cli.IntFlag{Name: "repeat", Usage: "convert it `N` times, and say how much the speed varies", Value: 1},
			&cli.StringFlag{Name: "library", Usage: "say what converting the films in `FOLDER` would take, by their lengths"},
			jsonFlag(),
		}, a.identityFlags()...),
		Action: a.convert,
	}, makeClips, "vividstrain convert clips/h264-720p25-4M-2s.mp4 --goal \"480p 1M\" --out small.mp4", "vividstrain convert clips/h264-1080p60-20M-2s.mp4 --goal \"720p30 4M\" --copies 4",
		"vividstrain convert clips/h264-720p25-4M-2s.mp4 --goal \"480p 1M\" --ahead 30s")
}

func (a *app) convert(ctx context.Context, c *cli.Command) (err error) {
	job, err := conversion(c)
	if err != nil {
		return err
	}
	tries := c.Int("repeat")
	if tries < 1 || tries > 100 {
		return usagef("--repeat is 1 to 100, not %d", tries)
	}
	progress := a.newProgress()
	defer progress.close()
	made := &logbook.Conversion{File: job.File, Goal: job.Order.Goal.String(), Copies: job.Copies, AheadS: job.Ahead.Seconds(), Library: c.String("library"), Tries: []logbook.ConversionTry{}}
	if made.Library != "" {
		if made.Films, made.LibraryS, err = a.library(ctx, progress, made.Library); err != nil {
			return err
		}
	}
	book, err := a.openBook(c)
	if err != nil {
		return err
	}
	defer book.Close()
	doc, record, err := a.beginConversion(c, book, made)
	if err != nil {
		return err
	}
	label := filepath.Base(job.File) + " -> " + job.Order.Goal.String()
	job.Progress = func(done, total time.Duration) {
		made.LengthS = max(total, done).Seconds()
		progress.set(label, int(done.Milliseconds()), int(max(total, done).Milliseconds()), fmt.Sprintf("%.1f s made", done.Seconds()))
	}
	var result *transcode.Report
	for range tries {
		if result, err = transcode.Run(ctx, job); err != nil {
			break
		}
		made.Source = text.SourceWords(result.In)
		made.Tries = append(made.Tries, conversionTry(result))
		job.Out = "" // written once
	}
	progress.stop()
	now := time.Now().UTC()
	doc.Ended, doc.Complete = &now, err == nil
	if err = cmp.Or(wrongFile(err), record.Close()); err != nil {
		return err
	}
	job.Out = c.String("out")
	if c.Bool("json") {
		return a.printJSON(model.ConversionJSON(job, result))
	}
	style := a.style(c)
	return a.print(style.Run(model.NewRun(doc, nil, false, model.Choice{})) + "\n" + style.Conversion(job, result))
}

// beginConversion starts the run of a conversion in the logbook.
func (a *app) beginConversion(c *cli.Command, book *logbook.Book, made *logbook.Conversion) (*logbook.Document, *logbook.Recorder, error) {
	doc := logbook.NewDocument("convert", time.Now(), built().short())
	doc.Conversion = made
	var config run.Config
	device := route.Device{Name: doc.Device.Name}
	device.Identity, device.Spec = local.Machine()
	if err := a.identify(c, book, &config, device); err != nil {
		return nil, nil, err
	}
	doc.Device = logbook.Device{Name: cmp.Or(config.Name, device.Name), Identity: device.Identity, Spec: device.Spec, Facts: config.Facts}
	record, err := book.Record(doc, nil)
	return doc, record, err
}

// conversionTry returns what is recorded of one conversion.
func conversionTry(r *transcode.Report) logbook.ConversionTry {
	t := logbook.ConversionTry{TookS: r.Took.Seconds(), MediaS: r.Media.Seconds(), Bytes: r.Bytes, Speed: r.Speed, CPUPct: 100 * r.CPU.Seconds() / r.Took.Seconds(), PeakBytes: r.MemPeak}
	if t.MediaS > 0 {
		t.BitrateBPS = 8 * float64(r.Bytes) / t.MediaS
	}
	return t
}

// library returns how many films a folder has and how long they are together, in seconds.
func (a *app) library(ctx context.Context, p *progress, folder string) (films int, seconds float64, err error) {
	paths, err := registry.Find(folder)
	if err != nil {
		return 0, 0, usage(err)
	}
	for i, path := range paths {
		p.set("measuring films", i, len(paths), filepath.Base(path))
		r, err := inspect.File(ctx, path)
		if ctx.Err() != nil {
			return 0, 0, ctx.Err()
		}
		if err != nil {
			p.line("skipped " + err.Error())
			continue
		}
		films, seconds = films+1, seconds+r.DurationS
	}
	if films == 0 {
		return 0, 0, usagef("%s: there is no video file in this folder", folder)
	}
	return films, seconds, nil
}

func forceFlag() cli.Flag {
	return &cli.BoolFlag{Name: "force", Usage: "overwrite an existing file"}
}

// mayWrite returns an error if a result must not be written to a file: never over its source,
// and over another file only with force.
func mayWrite(source, to string, force bool) error {
	info, err := os.Stat(to)
	if missing(err) {
		return nil
	}
	if err != nil {
		return usage(err)
	}
	from, err := os.Stat(source)
	switch {
	case err == nil && os.SameFile(from, info):
		return usagef("%s is the source itself; name another file for the result", to)
	case !info.Mode().IsRegular():
		return usagef("%s is not a file that can be overwritten", to)
	case !force:
		return usagef("%s already exists; --force overwrites it", to)
	}
	return nil
}

// wrongFile marks errors in a given file as the user's.
func wrongFile(err error) error {
	var format *media.FormatError
	var unsupported *media.UnsupportedError
	if errors.As(err, &format) || errors.As(err, &unsupported) || errors.Is(err, media.ErrNoVideo) {
		return usage(err)
	}
	return err
}

// conversion returns the job that the flags ask for.
func conversion(c *cli.Command) (job transcode.Job, err error) {
	if c.Args().Len() != 1 {
		return job, usagef("which file? for example: vividstrain convert harbour.mp4 --goal \"720p 4M\"")
	}
	job = transcode.Job{File: c.Args().First(), Out: c.String("out"), Copies: c.Int("copies"), Ahead: c.Duration("ahead")}
	file, err := registry.Open(job.File)
	if err != nil {
		return job, usage(err)
	}
	file.Close()
	if c.String("goal") == "" {
		return job, usagef("convert to what? for example: --goal \"720p 4M\"")
	}
	if job.Order.Goal, err = load.ParseGoal(c.String("goal")); err != nil {
		return job, usage(err)
	}
	if err := transcode.CheckGoal(job.Order.Goal); err != nil {
		return job, usage(err)
	}
	switch {
	case job.Copies < 1 || job.Copies > 1000:
		return job, usagef("--copies is 1 to 1000, not %d", job.Copies)
	case c.IsSet("ahead") && (job.Ahead < 2*time.Second || job.Ahead > time.Hour):
		return job, usagef("--ahead is 2s to 1h, not %s: viewers begin with two seconds buffered", job.Ahead)
	case c.Int("threads") < 0 || c.Int("threads") > 64:
		return job, usagef("--threads is 1 to 64, not %d", c.Int("threads"))
	}
	if job.Out != "" {
		if _, err := registry.ContainerFor(job.Out); err != nil {
			return job, usage(err)
		}
		if err := mayWrite(job.File, job.Out, c.Bool("force")); err != nil {
			return job, err
		}
	}
	if job.Order.Preset, err = effort(c); err != nil {
		return job, err
	}
	threads := c.Int("threads")
	if threads == 0 {
		threads = max(1, min(runtime.NumCPU()/job.Copies, 8))
	}
	job.Order.Decoders, job.Order.Encoders = threads, threads
	return job, nil
}
