// Package sense reads what a device is doing: sources of readings, and a
// sampler that reads them at a fixed rate.
package sense

import (
	"cmp"
	"context"
	"math"
	"slices"
	"time"
)

// Reading is one value of one quantity.
type Reading struct {
	Quantity string
	Label    string // which one, where there are several: a core's number
	Value    float64
}

// Key is the quantity with its label: "cpu_core_pct:3".
func (r Reading) Key() string {
	if r.Label == "" {
		return r.Quantity
	}
	return r.Quantity + ":" + r.Label
}

// Source is something readings come from.
type Source interface {
	Name() string
	// Sample appends what the source reads now to list. Rates are since
	// the sample before; the first sample of a source lacks them.
	Sample(ctx context.Context, now time.Time, list []Reading) ([]Reading, error)
}

// Absence is a quantity that cannot be read here.
type Absence struct {
	Quantity string `json:"quantity"`
	Why      string `json:"why"`
	Remedy   string `json:"remedy"` // what would make it readable
}

// Absentee is a source that may lack some of what such sources read.
type Absentee interface{ Absent() []Absence }

// Absences lists what sources lack.
func Absences(sources []Source) (list []Absence) {
	for _, s := range sources {
		if a, ok := s.(Absentee); ok {
			list = append(list, a.Absent()...)
		}
	}
	return list
}

// Sample is what one source read at one time.
type Sample struct {
	At       time.Time
	Source   string
	Readings []Reading
}

// Stat sums up the values of one quantity over a window.
type Stat struct {
	Mean float64 `json:"mean"`
	P95  float64 `json:"p95"` // nearest rank
	Max  float64 `json:"max"`
	Min  float64 `json:"min"`
	N    int     `json:"n"` // how many readings
}

// Use is what a device used in a window, by the key of the reading.
type Use map[string]Stat

// Summarise sums up the samples from one time up to, not including, another.
func Summarise(samples []Sample, from, to time.Time) Use {
	values := map[string][]float64{}
	for _, s := range samples {
		if s.At.Before(from) || !s.At.Before(to) {
			continue
		}
		for _, r := range s.Readings {
			values[r.Key()] = append(values[r.Key()], r.Value)
		}
	}
	use := Use{}
	for key, list := range values {
		use[key] = stat(list)
	}
	return use
}

// stat sums up values, at least one; it puts them in order.
func stat(values []float64) Stat {
	slices.SortFunc(values, cmp.Compare[float64])
	sum := 0.0
	for _, v := range values {
		sum += v
	}
	n := len(values)
	rank := int(math.Ceil(0.95*float64(n))) - 1
	return Stat{Mean: sum / float64(n), P95: values[rank], Min: values[0], Max: values[n-1], N: n}
}
