// Package need judges from measured runs whether devices meet a stated need.
package need

import (
	"fmt"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"vividstrain/core/load"
	"vividstrain/core/logbook"
	"vividstrain/core/sense"
)

// Need is what a device must be able to do, and within which limits. In YAML:
//
//	name: cabins
//	loads: [h264 1080p25 8M x5, h264 1080p25 8M x5 -> 480p 1M]
//	noise_db: 30
//	power_w: 20
//	price: 250
//	headroom_pct: 20
type Need struct {
	Name string `yaml:"name"`
	// Loads must each play smoothly, one after another; streams at once, conversions too, are part
	// of the load line.
	Loads []load.Load `yaml:"loads"`
	// Limits hold while the loads are played; nil: it does not matter.
	Noise    *float64 `yaml:"noise_db"`     // at most
	Power    *float64 `yaml:"power_w"`      // at most, at the socket, or as the device measures it
	Heat     *float64 `yaml:"temp_c"`       // at most
	Price    *float64 `yaml:"price"`        // at most, in the unit of the devices' facts
	Headroom *float64 `yaml:"headroom_pct"` // at least, of all cores and of the busiest one
}

// Parse reads a need. Errors say what is wrong with it.
func Parse(data []byte) (*Need, error) {
	var n Need
	if err := load.DecodeYAML(data, &n); err != nil {
		return nil, err
	}
	if len(n.Loads) == 0 {
		return nil, fmt.Errorf("a need has loads: a list of load lines")
	}
	for name, v := range map[string]*float64{"noise_db": n.Noise, "power_w": n.Power, "temp_c": n.Heat, "price": n.Price, "headroom_pct": n.Headroom} {
		if v != nil && (math.IsNaN(*v) || *v < 0 || *v > 1e9) {
			return nil, fmt.Errorf("%s is a number of 0 or more, not %g", name, *v)
		}
	}
	return &n, nil
}

// State is whether one part of a need is met.
type State int

// The states, the worst last.
const (
	Met State = iota
	Unknown
	Missed
)

// Finding is one part of a need on one device.
type Finding struct {
	What  string // the load, or the name of the limit
	State State
	Why   string // the evidence, or by what it is missed
	Run   string // what to run where it is not known
}

// Verdict is whether a device meets a need.
type Verdict struct {
	Device   string
	State    State
	Findings []Finding
}

// Check judges the need on each device of the documents, newest runs last. Devices are told apart
// by their identity.
func (n *Need) Check(docs []*logbook.Document) (list []Verdict) {
	var order []string
	byDevice := map[string][]*logbook.Document{}
	for _, d := range docs {
		key := d.Device.Identity + "\x00" + d.Device.Name + "\x00" + d.Route.Kind
		if d.Kind == "watch" || len(d.Rungs) == 0 {
			continue
		}
		if byDevice[key] == nil {
			order = append(order, key)
		}
		byDevice[key] = append(byDevice[key], d)
	}
	for _, key := range order {
		list = append(list, n.check(byDevice[key]))
	}
	slices.SortStableFunc(list, func(a, b Verdict) int { return int(a.State) - int(b.State) })
	return list
}

// check judges the need on one device.
func (n *Need) check(docs []*logbook.Document) Verdict {
	newest := docs[len(docs)-1]
	v := Verdict{Device: newest.Device.Name}
	var uses []sense.Use
	for _, l := range n.Loads {
		f, use := loadFinding(docs, l)
		v.Findings = append(v.Findings, f)
		if use != nil {
			uses = append(uses, use)
		}
	}
	v.Findings = append(v.Findings, n.limits(newest, uses)...)
	for _, f := range v.Findings {
		v.State = max(v.State, f.State)
	}
	return v
}

// loadFinding judges one load: by attempts at it, by a crowd of it, or by a load that is as hard in
// every respect. Of several runs the newest tells. It also returns what was used then.
func loadFinding(docs []*logbook.Document, want load.Load) (f Finding, use sense.Use) {
	f = Finding{What: want.String(), State: Unknown, Why: "not measured", Run: command(docs[len(docs)-1], want)}
	exact := false
	for _, d := range slices.Backward(docs) {
		for i := range d.Rungs {
			r := &d.Rungs[i]
			counted := r.Counted()
			if len(counted) == 0 || len(r.Mix) > 1 {
				continue
			}
			smooth := logbook.MostSmooth(counted)
			same := r.Load.String() == want.String()
			switch {
			case exact && !same:
			case same && !exact:
				exact = true
				f.State, f.Why, use, f.Run = Met, "measured: smooth", counted[0].Use, ""
				if !smooth {
					f.State, f.Why = Missed, "measured: "+string(counted[0].Verdict)+reason(counted[0])
				}
			case same:
			case smooth && r.Load.AsHard(want) && f.State == Unknown:
				f.State, f.Why, use, f.Run = Met, r.Load.String()+" is as hard and was smooth", counted[0].Use, ""
			case !smooth && want.AsHard(r.Load) && f.State == Unknown:
				f.State, f.Why, use, f.Run = Missed, r.Load.String()+" is no harder and was "+string(counted[0].Verdict)+reason(counted[0]), counted[0].Use, ""
			}
		}
	}
	return f, use
}

func reason(a logbook.Attempt) string {
	if len(a.Reasons) == 0 || a.Reasons[0] == "" {
		return ""
	}
	return ", " + a.Reasons[0]
}

// command returns what would measure a load on a device.
func command(d *logbook.Document, l load.Load) string {
	words := fmt.Sprintf("vividstrain climb %q", l.String())
	switch d.Route.Kind {
	case "simulated":
		words += " --device " + d.Route.Options["device"]
	case "engine", "":
	default:
		words += " --route " + d.Route.Kind
	}
	return words
}

// limits judges the limits of a need by what was used with its loads.
func (n *Need) limits(d *logbook.Document, uses []sense.Use) (list []Finding) {
	most := func(name, unit string, limit *float64, quantities ...string) {
		if limit == nil {
			return
		}
		f := n.unread(name, uses, "not read", "give the climb a sensor for it (vividstrain sensors)")
		value, known := 0.0, len(uses) == len(n.Loads)
		for _, u := range uses {
			at, has := highest(u, quantities)
			value, known = max(value, at), known && has
		}
		if known {
			f.State, f.Run, f.Why = Met, "", fmt.Sprintf("%s %s of at most %s", number(value), unit, number(*limit))
			if value > *limit {
				f.State, f.Why = Missed, fmt.Sprintf("%s %s, %s too much", number(value), unit, number(value-*limit))
			}
		}
		list = append(list, f)
	}
	most("noise", "dB", n.Noise, "noise_db")
	most("power", "W", n.Power, sense.WallPower, sense.Power)
	most("temperature", "°C", n.Heat, sense.Temperature)
	if n.Price != nil {
		f := Finding{What: "price", State: Unknown, Why: "not stated", Run: "state it: vividstrain climb --fact price=..."}
		if price, known := Price(d.Device.Facts["price"], d.Device.Spec["price"]); known {
			f.State, f.Run, f.Why = Met, "", fmt.Sprintf("%s of at most %s", number(price), number(*n.Price))
			if price > *n.Price {
				f.State, f.Why = Missed, fmt.Sprintf("%s, %s too much", number(price), number(price-*n.Price))
			}
		}
		list = append(list, f)
	}
	if n.Headroom != nil {
		list = append(list, n.headroom(uses))
	}
	return list
}

// unread is the finding on a limit that is not known: because loads were not measured, or because
// nothing read it then.
func (n *Need) unread(name string, uses []sense.Use, why, run string) Finding {
	if len(uses) < len(n.Loads) {
		return Finding{What: name, State: Unknown, Why: "not known before all loads are measured"}
	}
	return Finding{What: name, State: Unknown, Why: why, Run: run}
}

// headroom judges what is left of all cores and of the busiest one.
func (n *Need) headroom(uses []sense.Use) Finding {
	f := n.unread("headroom", uses, "the cores were not read", "give the climb the device's sensors (--sensors)")
	left, known := 100.0, len(uses) == len(n.Loads)
	for _, u := range uses {
		cpu, has := u[sense.CPU]
		known = known && has
		left = min(left, 100-cpu.Mean)
		if thread, has := u[sense.ThreadMax]; has {
			left = min(left, 100-thread.Mean)
		}
	}
	if known {
		f.State, f.Run, f.Why = Met, "", fmt.Sprintf("%s %% is left, %s %% is wanted", number(left), number(*n.Headroom))
		if left < *n.Headroom {
			f.State = Missed
		}
	}
	return f
}

// highest returns the mean of the first of several quantities that was read, the highest of its
// labels.
func highest(u sense.Use, quantities []string) (float64, bool) {
	for _, q := range quantities {
		if _, s, known := u.Highest(q); known {
			return s.Mean, true
		}
	}
	return 0, false
}

// number formats a number with at most one decimal.
func number(v float64) string { return strconv.FormatFloat(math.Round(10*v)/10, 'f', -1, 64) }

var priceNumber = regexp.MustCompile(`[0-9]+(\.[0-9]+)?`)

// Price returns the number in the first price that has one, such as "189EUR".
func Price(texts ...string) (float64, bool) {
	for _, t := range texts {
		if v, err := strconv.ParseFloat(priceNumber.FindString(strings.ReplaceAll(t, ",", ".")), 64); err == nil {
			return v, true
		}
	}
	return 0, false
}
