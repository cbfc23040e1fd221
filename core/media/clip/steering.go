package clip

import (
	"fmt"
	"math"
	"slices"

	"vividstrain/core/media"
)

// steering chooses the quality of each frame so that the film has its bitrate. It measures what
// frames cost at some qualities, interpolates, and corrects the result by what frames then
// really cost.
type steering struct {
	target                 float64 // bytes a frame
	minQuality, maxQuality int     // of the codec
	points                 []point // measurements by rising quality; at least two
	scale                  float64 // recent ratio of real to expected cost
	debt                   float64 // bytes spent beyond the target so far
	carried                float64 // part of a quality step left over by rounding
}

// point is the cost in bytes of a frame at one quality.
type point struct {
	quality int
	cost    float64
}

// RateError means that a bitrate cannot be reached at a size and frame rate.
type RateError struct {
	Format          media.Format
	Lowest, Highest int64 // range that can be reached, bits per second; 0 where not known
	Came            int64 // closest bitrate of several attempts, where it is within reach but was missed; else 0
}

func (e *RateError) Error() string {
	line := fmt.Sprintf("%s %s cannot have %s with this scene", e.Format.Codec, e.Format.SizeRate(), media.BitrateText(float64(e.Format.Bitrate)))
	switch {
	case e.Came != 0:
		return line + fmt.Sprintf("; the nearest result is %s", media.BitrateText(float64(e.Came)))
	case e.Highest == 0:
		return line + fmt.Sprintf("; at the coarsest quality it has %s", media.BitrateText(float64(e.Lowest)))
	case e.Lowest == 0:
		return line + fmt.Sprintf("; at the finest quality it has %s", media.BitrateText(float64(e.Highest)))
	}
	return line + fmt.Sprintf("; %s to %s can be reached", media.BitrateText(float64(e.Lowest)), media.BitrateText(float64(e.Highest)))
}

// newSteering measures, with probe, what frames cost at qualities around the one that is needed.
// High qualities take long to encode: they are measured only if they are needed.
func newSteering(f media.Format, codec media.Codec, probe func(quality int) (float64, error)) (*steering, error) {
	s := &steering{target: float64(f.Bitrate) / 8 / f.Rate.Hz(), scale: 1, minQuality: codec.MinQuality, maxQuality: codec.MaxQuality}
	for _, quality := range []int{20, 70, 90, s.maxQuality} {
		if cost, err := s.measure(quality, probe); err != nil {
			return nil, err
		} else if cost >= s.target && len(s.points) > 1 {
			break
		}
	}
	if s.points[0].cost > s.target {
		if _, err := s.measure(s.minQuality, probe); err != nil {
			return nil, err
		}
	}
	if s.points[0].cost > s.target || s.points[len(s.points)-1].cost < s.target {
		return nil, s.outOfReach(f, probe)
	}
	for range 3 { // each time where the interpolation meets the target
		if _, err := s.measure(int(math.Round(s.meet(s.target))), probe); err != nil {
			return nil, err
		}
	}
	return s, nil
}

// measure measures one quality, unless it is known.
func (s *steering) measure(quality int, probe func(quality int) (float64, error)) (float64, error) {
	i, known := slices.BinarySearchFunc(s.points, quality, func(p point, q int) int { return p.quality - q })
	if known {
		return s.points[i].cost, nil
	}
	cost, err := probe(quality)
	if err == nil {
		s.points = slices.Insert(s.points, i, point{quality, cost})
	}
	return cost, err
}

// outOfReach returns an error with the range that can be reached.
func (s *steering) outOfReach(f media.Format, probe func(quality int) (float64, error)) error {
	least, err := s.measure(s.minQuality, probe)
	if err != nil {
		return err
	}
	most, err := s.measure(s.maxQuality, probe)
	if err != nil {
		return err
	}
	bits := 8 * f.Rate.Hz()
	return &RateError{Format: f, Lowest: int64(least * bits), Highest: int64(most * bits)}
}

// expected returns the expected cost of a frame at quality q: the logarithm is interpolated and
// extrapolated linearly between the measured points.
func (s *steering) expected(q float64) float64 {
	i := 1
	for i < len(s.points)-1 && float64(s.points[i].quality) < q {
		i++
	}
	a, b := s.points[i-1], s.points[i]
	part := (q - float64(a.quality)) / float64(b.quality-a.quality)
	return s.scale * math.Exp((1-part)*math.Log(a.cost)+part*math.Log(b.cost))
}

// meet returns the quality at which a frame is expected to have the given cost.
func (s *steering) meet(cost float64) float64 {
	low, high := float64(s.minQuality), float64(s.maxQuality)
	for range 20 {
		if middle := (low + high) / 2; s.expected(middle) > cost {
			high = middle
		} else {
			low = middle
		}
	}
	return low
}

// plan returns the qualities of the next n frames: the quality, between two integers, that
// compensates for the debt over the next four batches.
func (s *steering) plan(n int) []int {
	aim := s.meet(max(s.target-s.debt/(4*batch), s.target/4))
	qualities := make([]int, n)
	for i := range qualities {
		exact := aim + s.carried
		qualities[i] = max(s.minQuality, min(int(math.Round(exact)), s.maxQuality))
		s.carried = max(-1, min(exact-float64(qualities[i]), 1))
	}
	return qualities
}

// coded records the cost of one coded frame.
func (s *steering) coded(quality, size int) {
	s.debt += float64(size) - s.target
	s.scale *= math.Pow(float64(size)/s.expected(float64(quality)), 0.1)
}
