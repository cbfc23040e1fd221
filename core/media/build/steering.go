package build

import (
	"fmt"
	"math"

	"vividstrain/core/media"
	"vividstrain/core/media/mjpeg"
)

// steering chooses the quality of each frame so that the bitrate comes out. It
// knows what a frame costs at some qualities, draws a line between them, and
// corrects it by what the frames then really cost.
type steering struct {
	target  float64                       // bytes a frame
	cost    [mjpeg.MaxQuality + 1]float64 // measured bytes a frame, 0: not measured
	scale   float64                       // real cost / expected cost of late
	debt    float64                       // bytes spent beyond the target so far
	carried float64                       // part of a quality step left over by rounding
}

// RateError says that a bitrate cannot be reached at a size and frame rate.
type RateError struct {
	Format          media.Format
	Lowest, Highest int64 // what can be reached, bits a second
}

func (e *RateError) Error() string {
	return fmt.Sprintf("%s %s cannot have %sb/s with this scene; %sb/s to %sb/s can be reached",
		e.Format.Codec, e.Format.SizeRate(), media.ShortBitrate(float64(e.Format.Bitrate)),
		media.ShortBitrate(float64(e.Lowest)), media.ShortBitrate(float64(e.Highest)))
}

// newSteering measures, with probe, the qualities around the one that is
// needed.
func newSteering(f media.Format, probe func(quality int) (float64, error)) (*steering, error) {
	s := &steering{target: float64(f.Bitrate) / 8 / f.Rate.Hz(), scale: 1}
	var err error
	measure := func(q int) float64 {
		if s.cost[q] == 0 && err == nil {
			s.cost[q], err = probe(q)
		}
		return s.cost[q]
	}
	least, most := measure(mjpeg.MinQuality), measure(mjpeg.MaxQuality)
	if err == nil && (s.target < least || s.target > most) {
		bits := 8 * f.Rate.Hz()
		return nil, &RateError{Format: f, Lowest: int64(least * bits), Highest: int64(most * bits)}
	}
	for range 4 { // each time where the line drawn so far meets the target
		if err == nil {
			measure(int(math.Round(s.meet(s.target))))
		}
	}
	return s, err
}

// meet is the quality at which a frame is expected to cost so much.
func (s *steering) meet(cost float64) float64 {
	low, high := float64(mjpeg.MinQuality), float64(mjpeg.MaxQuality)
	for range 20 {
		if middle := (low + high) / 2; s.expected(middle) > cost {
			high = middle
		} else {
			low = middle
		}
	}
	return low
}

// expected is the cost of a frame at quality q, between measured points by
// straight lines of the logarithm.
func (s *steering) expected(q float64) float64 {
	below, above := int(q), int(math.Ceil(q))
	for s.cost[below] == 0 {
		below--
	}
	for s.cost[above] == 0 {
		above++
	}
	if below == above {
		return s.cost[below] * s.scale
	}
	part := (q - float64(below)) / float64(above-below)
	return s.scale * math.Exp((1-part)*math.Log(s.cost[below])+part*math.Log(s.cost[above]))
}

// plan chooses the qualities of the next n frames: the one, between two whole
// numbers, that pays the debt back over the next four batches.
func (s *steering) plan(n int) []int {
	want := max(s.target-s.debt/(4*batch), s.target/4)
	aim := s.meet(want)
	qualities := make([]int, n)
	for i := range qualities {
		exact := aim + s.carried
		qualities[i] = max(mjpeg.MinQuality, min(int(math.Round(exact)), mjpeg.MaxQuality))
		s.carried = max(-1, min(exact-float64(qualities[i]), 1))
	}
	return qualities
}

// coded takes account of one coded frame.
func (s *steering) coded(quality, size int) {
	s.debt += float64(size) - s.target
	s.scale *= math.Pow(float64(size)/s.expected(float64(quality)), 0.1)
}
