package run

import (
	"context"
	"time"

	"vividstrain/core/logbook"
	"vividstrain/core/sense"
	"vividstrain/core/verdict"
)

// before reads the idle device and finds what makes it unfit for a test.
func (c *Run) before(ctx context.Context, sources []sense.Source) error {
	if c.Config.Baseline == 0 {
		return nil
	}
	if b := c.Doc.Baseline; len(b.Readings) > 0 && (b.ToS > 0 || c.Doc.Attempts() > 0) { // the run is resumed
		c.Idle = c.useOf(b.Readings)
		return nil
	}
	if err := c.record.BeginBaseline(); err != nil {
		return err
	}
	baseline, use, err := c.readIdle(ctx)
	if err != nil {
		return err
	}
	c.Doc.Baseline, c.Idle = baseline, use
	facts := sense.States(sources)
	c.Doc.Conditions = logbook.Conditions{Facts: facts, Absent: sense.Absences(sources)}
	for _, w := range verdict.Warnings(facts, use) {
		c.Doc.Conditions.Warnings = append(c.Doc.Conditions.Warnings, w.What)
		c.Doc.Conditions.Remedies = append(c.Doc.Conditions.Remedies, w.Remedy)
		c.watch(Event{Kind: Warned, Text: w.What + "; " + w.Remedy})
	}
	return c.record.Update()
}

// after reads the idle device again.
func (c *Run) after(ctx context.Context) error {
	if c.Config.Baseline == 0 {
		return nil
	}
	c.record.Enter(logbook.Resting)
	if err := c.rest(ctx); err != nil {
		return err
	}
	c.record.Enter(logbook.Afterward)
	after, use, err := c.readIdle(ctx)
	if err != nil {
		return err
	}
	c.Doc.After = &after
	c.drift = verdict.Drift(c.Idle, use)
	return nil
}

// quiet is how many percentage points of processor and memory above the idle device still count
// as quiet.
const quiet = 10

// isQuiet reports whether a device is as it was when idle.
func isQuiet(now, idle sense.Use) bool {
	cpu, read := now[sense.CPU]
	if !read || cpu.Mean > idle[sense.CPU].Mean+quiet {
		return false
	}
	return now[sense.MemUsed].Mean <= idle[sense.MemUsed].Mean+quiet*idle[sense.MemTotal].Mean/100
}

// rest waits until the device is quiet: a server may continue work that nobody watches.
func (c *Run) rest(ctx context.Context) error {
	clock := c.Route.Clock()
	_, known := c.Idle[sense.CPU]
	const look = time.Second
	for waited := time.Duration(0); known && waited < c.Config.Rest; waited += look {
		from := clock.Now()
		if err := clock.Sleep(ctx, look); err != nil {
			return err
		}
		use, err := c.use(from, clock.Now().Add(time.Nanosecond))
		if err != nil {
			return err
		}
		if isQuiet(use, c.Idle) {
			return nil
		}
		c.watch(Event{Kind: Resting, Done: int(waited.Milliseconds()), Total: int(c.Config.Rest.Milliseconds()), Text: "until the device is quiet again"})
	}
	return nil
}

// readIdle reads the device while nothing is asked of it.
func (c *Run) readIdle(ctx context.Context) (b logbook.Baseline, use sense.Use, err error) {
	phase := logbook.Idle
	if c.Doc.Attempts() > 0 {
		phase = logbook.Afterward
	}
	c.watch(Event{Kind: Baseline, Total: int(c.Config.Baseline.Milliseconds())})
	clock := c.Route.Clock()
	from := clock.Now()
	if err := clock.Sleep(ctx, c.Config.Baseline); err != nil {
		return b, nil, err
	}
	to := clock.Now()
	var sum sense.Summary
	err = c.record.ReadBack(from, to.Add(time.Nanosecond), func(s *sense.Sample) {
		s.Rank = c.rank(s.Source)
		sum.Add(s)
		for _, r := range s.Readings {
			b.Readings = append(b.Readings, logbook.Reading{AtS: s.At.Sub(c.Doc.Started).Seconds(),
				Kind: s.Source.Kind, Source: s.Source.Name, Quantity: r.Key(), Value: r.Value, Phase: phase})
		}
	})
	use = sum.Use()
	b.FromS, b.ToS = from.Sub(c.Doc.Started).Seconds(), to.Sub(c.Doc.Started).Seconds()
	b.CPUPct, b.MemUsed = use[sense.CPU].Mean, use[sense.MemUsed].Mean
	return b, use, err
}
