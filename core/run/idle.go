package run

import (
	"context"
	"time"

	"vividstrain/core/logbook"
	"vividstrain/core/sense"
	"vividstrain/core/verdict"
)

// before reads the idle device and finds what makes it unfit to be tested.
func (c *conductor) before(ctx context.Context, sources []sense.Source) error {
	if c.Config.Baseline == 0 {
		return nil
	}
	if b := c.doc.Baseline; len(b.Readings) > 0 && (b.ToS > 0 || c.doc.Attempts() > 0) { // the run is resumed
		c.idle = c.useOf(b.Readings)
		return nil
	}
	if err := c.record.BeginBaseline(); err != nil {
		return err
	}
	baseline, use, err := c.readIdle(ctx)
	if err != nil {
		return err
	}
	c.doc.Baseline, c.idle = baseline, use
	facts := sense.States(sources)
	c.doc.Conditions = logbook.Conditions{Facts: facts, Warnings: verdict.Warnings(facts, use), Absent: sense.Absences(sources)}
	for _, w := range c.doc.Conditions.Warnings {
		c.watch(Event{Kind: Warned, Text: w})
	}
	return c.record.Update()
}

// after reads the idle device once more.
func (c *conductor) after(ctx context.Context) error {
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
	c.doc.After = &after
	c.drift = verdict.Drift(c.idle, use)
	return nil
}

// quiet is how many points of the processor, and of the memory, above those of the
// idle device still count as quiet.
const quiet = 10

// isQuiet tells whether a device is as it was when it was idle.
func isQuiet(now, idle sense.Use) bool {
	cpu, read := now[sense.CPU]
	if !read || cpu.Mean > idle[sense.CPU].Mean+quiet {
		return false
	}
	return now[sense.MemUsed].Mean <= idle[sense.MemUsed].Mean+quiet*idle[sense.MemTotal].Mean/100
}

// rest waits until the device is quiet: a server may go on with what nobody
// watches any more.
func (c *conductor) rest(ctx context.Context) error {
	clock := c.Route.Clock()
	_, known := c.idle[sense.CPU]
	const look = time.Second
	for waited := time.Duration(0); known && waited < c.Config.Rest; waited += look {
		c.takeSamples()
		from := clock.Now()
		if err := clock.Sleep(ctx, look); err != nil {
			return err
		}
		use := sense.Summarise(c.takeSamples(), from, clock.Now().Add(time.Nanosecond))
		if isQuiet(use, c.idle) {
			return nil
		}
		c.watch(Event{Kind: Resting, Done: int(waited.Milliseconds()), Total: int(c.Config.Rest.Milliseconds()), Text: "until the device is quiet again"})
	}
	return nil
}

// readIdle reads the device while nothing is asked of it.
func (c *conductor) readIdle(ctx context.Context) (b logbook.Baseline, use sense.Use, err error) {
	phase := logbook.Idle
	if c.doc.Attempts() > 0 {
		phase = logbook.Afterward
	}
	c.watch(Event{Kind: Baseline, Total: int(c.Config.Baseline.Milliseconds())})
	clock := c.Route.Clock()
	c.takeSamples()
	from := clock.Now()
	if err := clock.Sleep(ctx, c.Config.Baseline); err != nil {
		return b, nil, err
	}
	samples := c.takeSamples()
	use = sense.Summarise(samples, from, clock.Now().Add(time.Nanosecond))
	b = logbook.Baseline{FromS: from.Sub(c.doc.Started).Seconds(), ToS: clock.Now().Sub(c.doc.Started).Seconds(), CPUPct: use[sense.CPU].Mean, MemUsed: use[sense.MemUsed].Mean}
	for _, s := range samples {
		for _, r := range s.Readings {
			b.Readings = append(b.Readings, logbook.Reading{
				AtS: s.At.Sub(c.doc.Started).Seconds(), Source: s.Source, Quantity: r.Key(), Value: r.Value, Phase: phase})
		}
	}
	return b, use, nil
}
