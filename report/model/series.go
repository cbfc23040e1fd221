package model

import (
	"cmp"
	"math"
	"slices"

	"vividstrain/core/logbook"
	"vividstrain/core/sense"
)

// MaxPoints is the largest number of points in a series.
const MaxPoints = 2000

// Point is a value at a time, in seconds since the run started.
type Point struct {
	AtS, Value float64
	Phase      logbook.Phase
}

// Series is what one source read of one quantity. Points are thinned if there are many; mean,
// least and most are those of all readings.
type Series struct {
	Kind, Source string // of the source
	Quantity     string // followed by a colon and its label, if it has one
	Unit         string
	Plain        bool // no other source reads the quantity, or this is the first that does
	Mean         float64
	Min, Max     float64
	N            int
	Points       []Point
}

// Key returns the name of the series: its quantity, with its source where several read it.
func (s *Series) Key() string {
	if s.Plain {
		return s.Quantity
	}
	return s.Quantity + "@" + s.Source
}

// NewSeries returns the series of readings that are in order of time, by quantity and source.
func NewSeries(readings []logbook.Reading) []Series {
	type key struct{ quantity, kind, source string }
	index := map[key]int{}
	first := map[string]bool{}
	list := []Series{}
	for _, r := range readings {
		k := key{r.Quantity, r.Kind, r.Source}
		i, known := index[k]
		if !known {
			i = len(list)
			index[k] = i
			list = append(list, Series{Kind: r.Kind, Source: r.Source, Quantity: r.Quantity, Unit: sense.Unit(r.Quantity), Plain: !first[r.Quantity],
				Min: math.Inf(1), Max: math.Inf(-1)})
			first[r.Quantity] = true
		}
		s := &list[i]
		s.N++
		s.Mean += (r.Value - s.Mean) / float64(s.N)
		s.Min, s.Max = min(s.Min, r.Value), max(s.Max, r.Value)
		s.Points = append(s.Points, Point{r.AtS, r.Value, r.Phase})
	}
	for i := range list {
		list[i].Points = thin(list[i].Points, MaxPoints)
	}
	slices.SortStableFunc(list, func(a, b Series) int { return cmp.Compare(a.Quantity, b.Quantity) })
	return list
}

// thin keeps at most most points: of each stretch of time the lowest and the highest, so that no
// peak is lost.
func thin(points []Point, most int) []Point {
	if len(points) <= most {
		return points
	}
	size := (2*len(points) + most - 1) / most // points of a stretch, of which two are kept
	thinned := make([]Point, 0, most)
	for len(points) > 0 {
		n := min(size, len(points))
		low, high := 0, 0
		for i := 1; i < n; i++ {
			if points[i].Value < points[low].Value {
				low = i
			}
			if points[i].Value > points[high].Value {
				high = i
			}
		}
		thinned = append(thinned, points[min(low, high)])
		if low != high {
			thinned = append(thinned, points[max(low, high)])
		}
		points = points[n:]
	}
	return thinned
}
