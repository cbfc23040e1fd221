// Package capacity says how many streams fit a device, from the cost of those that it played: per
// resource, the cost of a stream is a times its pixels a second, b times its bits a second and a
// constant, fitted to the attempts that were smooth.
package capacity

import (
	"cmp"
	"errors"
	"fmt"
	"math"
	"slices"
	"strconv"

	"gonum.org/v1/gonum/mat"
	"gonum.org/v1/gonum/stat/distuv"

	"vividstrain/core/load"
	"vividstrain/core/logbook"
	"vividstrain/core/sense"
	"vividstrain/core/verdict"
)

// Resource is what streams share.
type Resource string

// The resources.
const (
	Cores   Resource = "cores"   // in percent of a core
	Decoder Resource = "decoder" // in percent of the fixed-function decoder
	Encoder Resource = "encoder" // in percent of the fixed-function encoder
	Memory  Resource = "memory"  // in bytes
)

// usable is how much of a resource can be used before frames are dropped. That of the cores and of
// the decoder is by simulated devices, whose frames queue (TestCapacityIsTrue).
var usable = map[Resource]float64{Cores: 0.97, Decoder: 0.97, Encoder: 0.97, Memory: 0.95}

// Unit is the load of one load unit.
const Unit = "h264 1080p25 8M"

// ErrNothing means that no attempt tells the cost of a stream.
var ErrNothing = errors.New("no smooth attempt with readings of the cores tells what a stream costs here; climb on this device first, with its --sensors")

// Model is what a device's streams cost.
type Model struct {
	Device  string
	Cores   int
	Free    map[Resource]float64 // what the idle device leaves
	classes []*class
}

// class is the loads of one kind: codec, depth, goal and way of decoding.
type class struct {
	name         string
	observations []observation
	cost         map[Resource][]float64 // coefficients, for scaled features
	spread       map[Resource]float64   // standard deviation of the relative error
	freedom      map[Resource]int       // observations beyond the coefficients
	mostPixels   float64                // a second, of one stream
	mostBits     float64
	mostStreams  int
}

// observation is what an attempt used beyond the idle device.
type observation struct {
	loads []load.Load
	used  map[Resource]float64
}

// Fit fits the costs of a device's streams. All documents are of one device.
func Fit(docs []*logbook.Document) (*Model, error) {
	m := &Model{Free: map[Resource]float64{}}
	var memory float64
	for _, d := range docs {
		m.Device, m.Cores = d.Device.Name, max(m.Cores, number(d.Device.Spec["cores"]))
		idle := d.Baseline.CPUPct
		for i := range d.Rungs {
			for _, a := range d.Rungs[i].Counted() {
				m.Cores = max(m.Cores, coresOf(a.Use))
				memory = max(memory, a.Use[sense.MemTotal].Mean)
				if a.Verdict == verdict.Smooth {
					m.observe(d, &d.Rungs[i], &a)
				}
			}
		}
		m.Free[Cores] = usable[Cores]*100*float64(m.Cores) - idle*float64(m.Cores)
		if memory > 0 {
			m.Free[Memory] = usable[Memory]*memory - d.Baseline.MemUsed
		}
	}
	if len(m.classes) == 0 || m.Cores == 0 {
		return nil, ErrNothing
	}
	m.Free[Decoder], m.Free[Encoder] = 100*usable[Decoder], 100*usable[Encoder]
	for _, c := range m.classes {
		c.fit()
	}
	return m, nil
}

func number(text string) int {
	n, err := strconv.Atoi(text)
	if err != nil || n < 0 || n > 1<<16 {
		return 0
	}
	return n
}

// coresOf returns the number of cores that were read.
func coresOf(u sense.Use) (n int) {
	for n < 1<<12 {
		if _, known := u[fmt.Sprintf("%s:%d", sense.CPUCore, n)]; !known {
			return n
		}
		n++
	}
	return n
}

// observe keeps what a smooth attempt used.
func (m *Model) observe(d *logbook.Document, r *logbook.Rung, a *logbook.Attempt) {
	cpu, known := a.Use[sense.CPU]
	if !known || m.Cores == 0 {
		return
	}
	loads := r.Mix
	if len(loads) == 0 {
		loads = []load.Load{r.Load}
	}
	o := observation{loads: loads, used: map[Resource]float64{Cores: max(0, cpu.Mean-d.Baseline.CPUPct) * float64(m.Cores)}}
	if s, known := a.Use[sense.BlockUse]; known {
		o.used[Decoder] = s.Mean
	}
	if s, known := a.Use[sense.EncodeUse]; known {
		o.used[Encoder] = s.Mean
	}
	if s, known := a.Use[sense.MemUsed]; known && d.Baseline.MemUsed > 0 {
		o.used[Memory] = max(0, s.Mean-d.Baseline.MemUsed)
	}
	name := className(loads[0]) + " " + a.Decode
	for _, l := range loads[1:] {
		if className(l) != className(loads[0]) {
			return // a mix of kinds tells nothing of either
		}
	}
	i := slices.IndexFunc(m.classes, func(c *class) bool { return c.name == name })
	if i < 0 {
		i = len(m.classes)
		m.classes = append(m.classes, &class{name: name, cost: map[Resource][]float64{}, spread: map[Resource]float64{}, freedom: map[Resource]int{}})
	}
	c := m.classes[i]
	c.observations = append(c.observations, o)
	for _, l := range loads {
		c.mostPixels, c.mostBits = max(c.mostPixels, l.Format.PixelRate()), max(c.mostBits, float64(l.Bitrate))
	}
	c.mostStreams = max(c.mostStreams, streams(loads))
}

// className names what streams of one kind have in common.
func className(l load.Load) string {
	name := fmt.Sprintf("%s %d bit %s", l.Codec, max(l.Depth, 8), l.Chroma)
	if l.Goal != nil {
		name += " -> " + cmp.Or(l.Goal.Codec, l.Codec)
	}
	return name
}

func streams(loads []load.Load) (n int) {
	for _, l := range loads {
		n += l.Streams
	}
	return n
}

// Scales of the features, so that their coefficients are alike: those of one unit.
const (
	pixelScale = 1920 * 1080 * 25
	bitScale   = 8e6
	areaScale  = 1920 * 1080
)

// features returns what the cost of loads is in proportion to.
func features(r Resource, loads []load.Load) []float64 {
	f := make([]float64, 4)
	for _, l := range loads {
		n := float64(l.Streams)
		f[2] += n
		if r == Memory {
			f[0] += n * float64(l.Width) * float64(l.Height) / areaScale
			continue
		}
		f[0] += n * l.Format.PixelRate() / pixelScale
		f[1] += n * float64(l.Bitrate) / bitScale
		if g := l.Goal; g != nil {
			rate := l.Rate.Hz()
			if g.Rate.Num > 0 {
				rate = g.Rate.Hz()
			}
			f[3] += n * float64(g.Width) * float64(g.Height) * rate / pixelScale
		}
	}
	return f
}

// floor is the use below which an error is no longer relative: readings are as coarse as that.
var floor = map[Resource]float64{Cores: 3, Decoder: 1, Encoder: 1, Memory: 5e6}

// fit fits the costs of a class for each resource that all of its observations know.
func (c *class) fit() {
	for r, least := range floor {
		var rows []observation
		for _, o := range c.observations {
			if _, known := o.used[r]; known {
				rows = append(rows, o)
			}
		}
		if len(rows) == 0 {
			continue
		}
		a, b := mat.NewDense(len(rows), 4, nil), mat.NewVecDense(len(rows), nil)
		for i, o := range rows {
			weight := 1 / max(o.used[r], least)
			for k, v := range features(r, o.loads) {
				a.Set(i, k, v*weight)
			}
			b.SetVec(i, o.used[r]*weight)
		}
		c.cost[r] = nnls(a, b)
		free := 0
		for _, v := range c.cost[r] {
			if v > 0 {
				free++
			}
		}
		var left mat.VecDense
		left.MulVec(a, mat.NewVecDense(4, c.cost[r]))
		left.SubVec(b, &left)
		c.freedom[r] = max(1, len(rows)-free)
		if len(rows) > free {
			c.spread[r] = mat.Norm(&left, 2) / math.Sqrt(float64(c.freedom[r]))
		}
	}
}

// costOf returns the cost of loads of the class on a resource; false where it is not known.
func (c *class) costOf(r Resource, loads []load.Load) (float64, bool) {
	cost, known := c.cost[r]
	if !known {
		return 0, false
	}
	sum := 0.0
	for k, v := range features(r, loads) {
		sum += v * cost[k]
	}
	return sum, true
}

// classOf returns the class by which a load is judged: of several ways of decoding, that of the
// load that is most like it.
func (m *Model) classOf(l load.Load) *class {
	var best *class
	distance := math.Inf(1)
	for _, c := range m.classes {
		for _, o := range c.observations {
			if className(o.loads[0]) != className(l) {
				continue
			}
			d := math.Abs(math.Log((1+l.Format.PixelRate())/(1+o.loads[0].Format.PixelRate()))) + 0.3*math.Abs(math.Log((1+float64(l.Bitrate))/(1+float64(o.loads[0].Bitrate))))
			if d < distance {
				best, distance = c, d
			}
		}
	}
	return best
}

// Answer is how often a mix fits a device.
type Answer struct {
	Times     int // at once
	Low, High int // the range in which the truth is expected, at 90 %
	Limiter   Resource
	Costs     map[Resource]float64 // of the mix once
	ErrorPct  float64              // of the fit
	Limits    []string             // what the answer goes beyond: sizes, rates or numbers that were not measured
	Surer     []load.Load          // loads whose measurement would make it surer
}

// Scale is a change of the device: what another box with more or faster cores would carry.
type Scale struct {
	Cores  int     // instead of its own, 0: as they are
	Faster float64 // each core, 1: as they are
}

// Fits returns how often a mix of loads fits at the same time, with a share of each resource in
// reserve.
func (m *Model) Fits(mix []load.Load, reserve float64, scale Scale) (Answer, error) {
	a := Answer{Times: math.MaxInt32, Low: math.MaxInt32, High: math.MaxInt32, Costs: map[Resource]float64{}}
	spread, freedom := map[Resource]float64{}, map[Resource]int{}
	for _, l := range mix {
		c := m.classOf(l)
		if c == nil {
			return a, fmt.Errorf("no load like %s was smooth on %s: vividstrain climb %q measures it", className(l), m.Device, l)
		}
		for r := range floor {
			if v, known := c.costOf(r, []load.Load{l}); known {
				a.Costs[r] += v
				spread[r] = max(spread[r], c.spread[r])
				if n, seen := freedom[r]; !seen || c.freedom[r] < n {
					freedom[r] = c.freedom[r]
				}
			}
		}
		a.limits(c, l)
	}
	if scale.Faster > 0 {
		a.Costs[Cores] /= scale.Faster
	}
	for _, r := range []Resource{Cores, Decoder, Encoder, Memory} {
		cost, free := a.Costs[r], m.Free[r]
		if r == Cores && scale.Cores > 0 {
			free *= float64(scale.Cores) / float64(m.Cores)
		}
		if cost <= 0 || free <= 0 {
			continue
		}
		times := free * (1 - reserve) / cost
		if n := int(times); n < a.Times {
			within := a.within(spread[r], freedom[r])
			a.Times, a.Limiter, a.ErrorPct = n, r, 100*within
			a.Low, a.High = int(times/(1+within)), int(math.Ceil(times*(1+within)))
		}
	}
	if a.Limiter == "" {
		return a, ErrNothing
	}
	return a, nil
}

// leastError is the relative error that any answer has: frames queue by chance, and not at the same
// load on every device (TestCapacityIsTrue).
const leastError = 0.05

// within returns the relative half width of the range of an answer: by Student's distribution at
// 90 %, wider where it goes beyond what was measured.
func (a *Answer) within(spread float64, freedom int) float64 {
	t := distuv.StudentsT{Mu: 0, Sigma: 1, Nu: float64(freedom)}.Quantile(0.95)
	w := leastError + min(1, t*spread)
	if len(a.Limits) > 0 {
		w += 0.05 * float64(len(a.Limits))
	}
	return min(w, 2)
}

// limits says in what a load goes beyond what was measured.
func (a *Answer) limits(c *class, l load.Load) {
	add := func(text string) {
		if !slices.Contains(a.Limits, text) {
			a.Limits = append(a.Limits, text)
		}
	}
	beyond := false
	if l.Format.PixelRate() > 1.01*c.mostPixels {
		add(fmt.Sprintf("nothing as large or fast as %s was smooth: extrapolated", l.SizeRate()))
		beyond = true
	}
	if float64(l.Bitrate) > 1.01*c.mostBits {
		add("no such bitrate was smooth: extrapolated")
		beyond = true
	}
	if beyond || len(c.observations) < 3 {
		one := l
		one.Streams = 1
		a.Surer = append(a.Surer, one)
	}
	if c.mostStreams < 2 {
		two := l
		two.Streams = 2
		a.Surer = append(a.Surer, two)
	}
}

// Units returns how many units a load costs on each resource; nothing where the unit's cost is not
// known.
func (m *Model) Units(l load.Load) map[Resource]float64 {
	unit, err := load.Parse(Unit)
	if err != nil {
		return nil
	}
	of, like := m.classOf(l), m.classOf(unit)
	if of == nil || like == nil {
		return nil
	}
	units := map[Resource]float64{}
	for r := range floor {
		cost, known := of.costOf(r, []load.Load{l})
		one, also := like.costOf(r, []load.Load{unit})
		if known && also && one > 0 {
			units[r] = cost / one
		}
	}
	return units
}

// Fitted returns what was fitted, a line for each kind of load: for how many attempts, and by how
// much the fit misses them.
func (m *Model) Fitted() (list []Fitted) {
	for _, c := range m.classes {
		list = append(list, Fitted{c.name, len(c.observations), 100 * c.spread[Cores]})
	}
	return list
}

// Fitted is the fit of one kind of load.
type Fitted struct {
	Kind     string
	Attempts int
	ErrorPct float64 // standard deviation of the relative error of the cores' use
}
