// Package sense measures what a device is doing: sources of readings, and a sampler that reads
// them at a fixed rate.
package sense

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"
	"time"
)

// Reading is one value of one quantity.
type Reading struct {
	Quantity string
	Label    string // which one, where there are several: a core's number
	Value    float64
}

// Key returns the quantity with its label: "cpu_core_pct:3".
func (r Reading) Key() string {
	if r.Label == "" {
		return r.Quantity
	}
	return r.Quantity + ":" + r.Label
}

// System is the kind of the sources that read this computer itself.
const System = "system"

// Source is a source of readings. Kind and name together identify it: a meter that its user
// calls "cpu" is not the computer's own.
type Source interface {
	Kind() string // "system", "snmp", ...
	Name() string
	// Sample appends the current readings to list. Rates are averages since the previous sample;
	// the first sample of a source has none.
	Sample(ctx context.Context, now time.Time, list []Reading) ([]Reading, error)
}

// Identity identifies a source.
type Identity struct{ Kind, Name string }

// Identify returns the identity of a source.
func Identify(s Source) Identity { return Identity{s.Kind(), s.Name()} }

// Absence is a quantity that cannot be read here.
type Absence struct {
	Quantity string `json:"quantity"`
	Why      string `json:"why"`
	Remedy   string `json:"remedy"` // what would make it readable
}

// Absentee is a source that may lack some of its usual quantities. Absent may be called during
// Sample.
type Absentee interface{ Absent() []Absence }

// Absences returns what the sources lack.
func Absences(sources []Source) (list []Absence) {
	for _, s := range sources {
		if a, ok := s.(Absentee); ok {
			list = append(list, a.Absent()...)
		}
	}
	return list
}

// Stater is a source that also knows settings of the device: facts by name that hold for the
// whole run. State may be called during Sample.
type Stater interface{ State() map[string]string }

// States returns the facts of all sources.
func States(sources []Source) map[string]string {
	facts := map[string]string{}
	for _, s := range sources {
		if k, ok := s.(Stater); ok {
			maps.Copy(facts, k.State())
		}
	}
	return facts
}

// Sample is what one source read at one time.
type Sample struct {
	At       time.Time
	Source   Identity
	Rank     int // of the source among those that are read, from 0
	Readings []Reading
}

// Value returns the first reading of a quantity, with whatever label.
func (s *Sample) Value(quantity string) (value float64, known bool) {
	for _, r := range s.Readings {
		if r.Quantity == quantity {
			return r.Value, true
		}
	}
	return 0, false
}

// Stat summarises the values of one quantity over a window.
type Stat struct {
	Mean  float64 `json:"mean"`
	P95   float64 `json:"p95"` // nearest rank
	Max   float64 `json:"max"`
	Min   float64 `json:"min"`
	First float64 `json:"first"` // mean of the first tenth
	Last  float64 `json:"last"`  // mean of the last tenth
	N     int     `json:"n"`     // how many readings
}

// Use is what a device used in a window, by key of the reading. Where several sources read the
// same quantity, the first has the plain key and the others have their name after an @.
type Use map[string]Stat

// Summary collects samples for a summary. The zero value is empty.
type Summary struct {
	values map[string][]ranked // by key
}

// ranked holds the values of one source.
type ranked struct {
	rank   int
	name   string
	values []float64
}

// Add adds one sample.
func (m *Summary) Add(s *Sample) {
	if m.values == nil {
		m.values = map[string][]ranked{}
	}
	for _, r := range s.Readings {
		key := r.Key()
		list := m.values[key]
		i := slices.IndexFunc(list, func(l ranked) bool { return l.rank == s.Rank })
		if i < 0 {
			i = len(list)
			list = append(list, ranked{rank: s.Rank, name: s.Source.Name})
		}
		list[i].values = append(list[i].values, r.Value)
		m.values[key] = list
	}
}

// Use returns the summary of the samples.
func (m *Summary) Use() Use {
	use := Use{}
	for key, list := range m.values {
		first := slices.MinFunc(list, func(a, b ranked) int { return a.rank - b.rank }).rank
		for _, l := range list {
			if l.rank == first {
				use[key] = stat(l.values)
			} else {
				use[key+"@"+l.name] = stat(l.values)
			}
		}
	}
	return use
}

// Summarise summarises the samples from one time up to, not including, another.
func Summarise(samples []Sample, from, to time.Time) Use {
	var m Summary
	for i := range samples {
		if at := samples[i].At; !at.Before(from) && at.Before(to) {
			m.Add(&samples[i])
		}
	}
	return m.Use()
}

// stat summarises at least one value; it sorts values.
func stat(values []float64) Stat {
	n := len(values)
	tenth := (n + 9) / 10
	s := Stat{First: mean(values[:tenth]), Last: mean(values[n-tenth:]), Mean: mean(values), N: n}
	slices.SortFunc(values, cmp.Compare[float64])
	s.P95, s.Min, s.Max = values[int(math.Ceil(0.95*float64(n)))-1], values[0], values[n-1]
	for _, v := range []*float64{&s.Mean, &s.First, &s.Last, &s.P95, &s.Min, &s.Max} {
		*v = math.Round(*v*1e6) / 1e6 // no sensor is more exact
	}
	return s
}

func mean(values []float64) float64 {
	sum := 0.0
	for _, v := range values {
		sum += v
	}
	return sum / float64(len(values))
}

// Disagreements returns sentences about quantities that several sources read more than ten
// points apart.
func (u Use) Disagreements() (list []string) {
	for _, key := range slices.Sorted(maps.Keys(u)) {
		plain, source, other := strings.Cut(key, "@")
		unit := Unit(plain)
		if !other || unit != "%" && unit != "°C" {
			continue
		}
		if a, b := u[plain].Mean, u[key].Mean; math.Abs(a-b) > 10 {
			list = append(list, fmt.Sprintf("%s is %.0f %s here but %.0f %s by %s", plain, a, unit, b, unit, source))
		}
	}
	return list
}

// Highest returns the label of a quantity with the highest mean, and its statistics.
func (u Use) Highest(quantity string) (label string, s Stat, known bool) {
	for key, v := range u {
		name, l, _ := strings.Cut(key, ":")
		if name == quantity && !strings.Contains(key, "@") && (!known || v.Mean > s.Mean || v.Mean == s.Mean && l < label) {
			label, s, known = l, v, true
		}
	}
	return label, s, known
}

// Memory returns the memory of the watched processes where it is known, else that of the whole
// device.
func (u Use) Memory() (s Stat, known bool) {
	if s, known = u[GroupMem]; !known {
		s, known = u[MemUsed]
	}
	return s, known
}

// Cores returns the number of cores that were read, each counted once however many sources read
// it.
func (u Use) Cores() (n int) {
	for key := range u {
		if strings.HasPrefix(key, CPUCore+":") && !strings.Contains(key, "@") {
			n++
		}
	}
	return n
}
