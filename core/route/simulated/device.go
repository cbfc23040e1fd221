package simulated

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"strconv"
	"time"

	"vividstrain/core/clock"
	"vividstrain/core/load"
	"vividstrain/core/route"
	"vividstrain/core/sense"
	"vividstrain/core/tally"
)

// Options are the settings of the route.
type Options struct {
	Refresh float64    // Hz of the device's display
	Late    tally.Late // what happens to late frames
	Seed    uint64     // of the noise
	Profile string     // the name of the profile, or its file
	Start   time.Time  // virtual time at which the device is switched on
}

// Device is the route to one simulated device.
type Device struct {
	profile *Profile
	options Options
	clock   *clock.Virtual
	random  *rand.Rand

	// state, valid at accrued
	accrued  time.Time
	speed    float64 // of the clock, 1: full
	tempC    float64
	watts    float64
	memory   int64 // in use
	busy     []bool
	reserved int // cores busy with start-up work
	blocks   []bool
	threads  []bool // threads of the streams, in order
	stepped  meters // at the last thermal step
	meters          // totals
	sampled  meters // at the last sample
}

// meters are totals in core-seconds since the device was switched on.
type meters struct {
	at      time.Time
	cores   []float64
	blocks  []float64
	threads []float64
}

// New returns a device that is just switched on.
func New(p *Profile, o Options) (*Device, error) {
	if o.Refresh < 1 || o.Refresh > 1000 {
		return nil, fmt.Errorf("the refresh rate must be 1 to 1000 Hz, not %g", o.Refresh)
	}
	if o.Late != tally.Drop && o.Late != tally.Wait {
		return nil, fmt.Errorf("late frames are dropped (drop) or waited for (wait), not %q", o.Late)
	}
	d := &Device{
		profile: p, options: o, clock: clock.NewVirtual(o.Start), random: rand.New(rand.NewPCG(o.Seed, 0x5ea)),
		accrued: o.Start, speed: 1, watts: p.Power.IdleW, memory: p.Memory.Used,
		busy: make([]bool, p.Cores), blocks: make([]bool, len(p.Blocks)),
		meters: meters{at: o.Start, cores: make([]float64, p.Cores), blocks: make([]float64, len(p.Blocks))},
	}
	d.tempC = p.Heat.RoomC + p.Heat.DegreesPerWatt*p.Power.IdleW
	d.stepped, d.sampled = d.meters.copy(), d.meters.copy()
	d.clock.Every(100*time.Millisecond, d.warm)
	return d, nil
}

func (m meters) copy() meters {
	m.cores, m.blocks = append([]float64(nil), m.cores...), append([]float64(nil), m.blocks...)
	m.threads = append([]float64(nil), m.threads...)
	return m
}

// since returns the mean number of busy cores, and the highest use of a block, since an earlier
// state.
func (m meters) since(before meters) (cores, block float64) {
	elapsed := m.at.Sub(before.at).Seconds()
	if elapsed <= 0 {
		return 0, 0
	}
	for i := range m.cores {
		cores += (m.cores[i] - before.cores[i]) / elapsed
	}
	for i := range m.blocks {
		block = max(block, (m.blocks[i]-before.blocks[i])/elapsed)
	}
	return cores, block
}

// accrue updates the meters to now; what is busy has not changed since the last update.
func (d *Device) accrue(now time.Time) {
	elapsed := now.Sub(d.accrued).Seconds()
	if elapsed <= 0 {
		return
	}
	d.accrued, d.at = now, now
	for i, busy := range d.busy {
		if busy || i >= len(d.busy)-d.reserved {
			d.cores[i] += elapsed
		} else {
			d.cores[i] += elapsed * d.profile.Idle / float64(d.profile.Cores)
		}
	}
	for i, busy := range d.blocks {
		if busy {
			d.meters.blocks[i] += elapsed
		}
	}
	for i, busy := range d.threads {
		if busy {
			d.meters.threads[i] += elapsed
		}
	}
}

// warm performs one step of the thermal model and of the clock's governor.
func (d *Device) warm(now time.Time) {
	d.accrue(now)
	p := d.profile
	cores, block := d.meters.since(d.stepped)
	elapsed := now.Sub(d.stepped.at).Seconds()
	d.stepped.at = now
	copy(d.stepped.cores, d.cores)
	copy(d.stepped.blocks, d.meters.blocks)
	d.watts = p.Power.IdleW + p.Power.CoreW*cores*d.speed*d.speed + p.Power.BlockW*block
	target := p.Heat.RoomC + p.Heat.DegreesPerWatt*d.watts
	d.tempC += (target - d.tempC) * (1 - math.Exp(-elapsed/p.Heat.TimeConstantS))
	const step = 0.05
	if d.tempC >= p.Heat.ThrottleC {
		d.speed = max(p.Heat.MinClock, d.speed-step)
	} else if d.tempC < p.Heat.ThrottleC-1 {
		d.speed = min(1, d.speed+step)
	}
}

// noise returns a random factor around 1.
func (d *Device) noise() float64 {
	return 1 + d.profile.Noise/100*max(-3, min(d.random.NormFloat64(), 3))
}

// Kind returns "simulated".
func (*Device) Kind() string { return Descriptor.Word }

// Traits returns that everything is simulated in virtual time.
func (*Device) Traits() route.Traits {
	return route.Traits{Decodes: true, Counts: true, Many: true, Virtual: true}
}

// Options returns the settings, for the record.
func (d *Device) Options() map[string]string {
	return map[string]string{
		"refresh_hz": strconv.FormatFloat(d.options.Refresh, 'g', -1, 64),
		"late":       string(d.options.Late),
		"seed":       strconv.FormatUint(d.options.Seed, 10),
		"device":     d.options.Profile,
	}
}

// FromOptions parses the settings that Device.Options returned.
func FromOptions(m map[string]string) (o Options, err error) {
	if o.Refresh, err = strconv.ParseFloat(m["refresh_hz"], 64); err != nil {
		return o, fmt.Errorf("option refresh_hz: %q is not a number", m["refresh_hz"])
	}
	if o.Seed, err = strconv.ParseUint(m["seed"], 10, 64); err != nil {
		return o, fmt.Errorf("option seed: %q is not a number", m["seed"])
	}
	o.Late, o.Profile = tally.Late(m["late"]), m["device"]
	return o, nil
}

// Device describes the simulated hardware.
func (d *Device) Device() route.Device {
	spec := map[string]string{"simulated": "yes", "cores": strconv.Itoa(d.profile.Cores), "memory_bytes": strconv.FormatInt(d.profile.Memory.Total, 10)}
	for k, v := range d.profile.Spec {
		spec[k] = v
	}
	return route.Device{Name: d.profile.Name, Identity: "simulated " + d.profile.Slug(), Spec: spec}
}

// Clock returns the device's virtual clock.
func (d *Device) Clock() clock.Clock { return d.clock }

// Sources returns the device's sensors.
func (d *Device) Sources() []sense.Source { return []sense.Source{d} }

// Name returns "simulated".
func (d *Device) Name() string { return "simulated" }

// Sample reads the device's sensors.
func (d *Device) Sample(_ context.Context, now time.Time, list []sense.Reading) ([]sense.Reading, error) {
	d.accrue(now)
	cores, block := d.meters.since(d.sampled)
	elapsed := now.Sub(d.sampled.at).Seconds()
	if elapsed > 0 {
		for i := range d.cores {
			share := (d.cores[i] - d.sampled.cores[i]) / elapsed
			list = append(list, sense.Reading{Quantity: sense.CPUCore, Label: strconv.Itoa(i), Value: 100 * share})
		}
		list = append(list, sense.Reading{Quantity: sense.CPU, Value: 100 * cores / float64(len(d.cores))})
		if len(d.blocks) > 0 {
			list = append(list, sense.Reading{Quantity: sense.BlockUse, Value: 100 * block})
		}
		if len(d.meters.threads) > 0 && len(d.meters.threads) == len(d.sampled.threads) {
			most := 0.0
			for i := range d.meters.threads {
				most = max(most, d.meters.threads[i]-d.sampled.threads[i])
			}
			list = append(list, sense.Reading{Quantity: sense.ThreadMax, Value: 100 * most / elapsed})
		}
	}
	d.sampled = d.meters.copy()
	total := float64(d.profile.Memory.Total)
	used := min(float64(d.memory), total)
	return append(list,
		sense.Reading{Quantity: sense.MemUsed, Value: used},
		sense.Reading{Quantity: sense.MemFree, Value: total - used},
		sense.Reading{Quantity: sense.MemTotal, Value: total},
		sense.Reading{Quantity: sense.Temperature, Value: d.tempC},
		sense.Reading{Quantity: sense.Power, Value: d.watts},
		sense.Reading{Quantity: sense.Clock, Value: 100 * d.speed},
	), nil
}

// Check refuses conversions, which are not simulated; a simulated device can be asked for any
// other load.
func (*Device) Check(l load.Load) error {
	if l.Goal != nil {
		return fmt.Errorf("load line %q: simulated devices play as-is; they do not convert", l)
	}
	return nil
}

// Prepare does nothing.
func (*Device) Prepare(context.Context, load.Load, func(done, total int)) error { return nil }
