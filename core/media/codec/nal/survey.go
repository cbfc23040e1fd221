package nal

import "vividstrain/core/media"

// Survey counts the frames of a stream for its parser, in decoding order from 0.
type Survey struct {
	Info    media.StreamInfo
	LastKey int    // number of the last key frame; -1: none yet
	isB     []bool // by frame
	run     int    // of B frames, in display order
	recent  []placed
}

// placed is a frame with its position in display order.
type placed struct {
	order     int32
	level     int
	reference bool
}

// NewSurvey returns a survey of a stream that begins.
func NewSurvey() Survey { return Survey{LastKey: -1} }

// Frames returns how many frames have begun.
func (s *Survey) Frames() int { return len(s.isB) }

// Begin counts a new frame. idr means that no reference crosses it.
func (s *Survey) Begin(key, idr, isB bool) {
	n := len(s.isB)
	s.isB = append(s.isB, isB)
	if idr {
		s.Info.IDRs++
		s.recent = s.recent[:0]
	}
	if !key {
		return
	}
	s.Info.Keys++
	s.endGroup(n)
	s.LastKey = n
}

// Place records a frame at a position in display order, and how deep B frames are.
func (s *Survey) Place(order int32, isB, reference bool) {
	level := 0
	if isB {
		level = s.level(order)
		s.Info.BDepth = max(s.Info.BDepth, level)
	}
	s.recent = append(s.recent, placed{order, level, reference})
	if len(s.recent) > 64 {
		s.recent = append(s.recent[:0], s.recent[32:]...)
	}
}

// level returns the depth of a B frame at this position in display order: one more than the deeper
// of the references next to it.
func (s *Survey) level(order int32) int {
	var before, after *placed
	for i := range s.recent {
		q := &s.recent[i]
		switch {
		case !q.reference:
		case q.order < order && (before == nil || q.order > before.order):
			before = q
		case q.order > order && (after == nil || q.order < after.order):
			after = q
		}
	}
	level := 0
	for _, q := range []*placed{before, after} {
		if q != nil {
			level = max(level, q.level)
		}
	}
	return level + 1
}

// End counts the distance from the last key frame to the end.
func (s *Survey) End() { s.endGroup(len(s.isB)) }

func (s *Survey) endGroup(n int) {
	if s.LastKey >= 0 {
		s.Info.KeyMax = max(s.Info.KeyMax, n-s.LastKey)
	}
}

// Show counts the next frame in display order.
func (s *Survey) Show(n int) {
	s.run++
	if n >= len(s.isB) || !s.isB[n] {
		s.run = 0
	}
	s.Info.BRun = max(s.Info.BRun, s.run)
}
