package nal

import "vividstrain/core/media"

// Survey counts the frames of a stream for its parser, in decoding order from 0.
type Survey struct {
	Info    media.StreamInfo
	LastKey int    // number of the last key frame; -1: none yet
	isB     []bool // by frame
	run     int    // of B frames, in display order
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
	}
	if !key {
		return
	}
	s.Info.Keys++
	s.endGroup(n)
	s.LastKey = n
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
