package media

import "vividstrain/core/media/picture"

// Preset is how much an encoder tries.
type Preset uint8

// The presets, the fastest first.
const (
	Fast Preset = iota
	Good
)

var presetNames = [...]string{"fast", "good"}

func (p Preset) String() string { return presetNames[p] }

// PresetNames lists the names of the presets, the fastest first.
func PresetNames() []string { return presetNames[:] }

// ParsePreset reads the name of a preset.
func ParsePreset(name string) (Preset, bool) {
	for p, n := range presetNames {
		if n == name {
			return Preset(p), true
		}
	}
	return 0, false
}

// EncoderSettings say what an Encoder makes. A codec ignores what it has no use for.
type EncoderSettings struct {
	Format     Format // its Bitrate is 0 for a constant quantiser
	Colour     Colour
	HDR        *HDR
	QP         int  // quantiser of P pictures without a bitrate, in the codec's own scale
	KeyEvery   int  // frames from one key frame that nothing refers across to the next; 1: intra pictures alone
	BFrames    int  // between two others, 0 to 7; from 3 on the middle one is referred to
	References int  // frames that P pictures refer to, 1 to 4; 0: as the preset has it
	Slices     int  // in a picture; 0: one
	Simple     bool // the simpler entropy coding, where a codec has two: CAVLC in h264
	Preset     Preset
}

// Reorder is the number of frames by which output lags behind decoding.
func (s *EncoderSettings) Reorder() int {
	switch {
	case s.BFrames == 0 || s.KeyEvery == 1:
		return 0
	case s.BFrames < 3:
		return 1
	}
	return 2
}

// Encoder codes one video. It is for one goroutine at a time. Groups of pictures that begin with
// Begin come out the same whichever encoder of the same settings codes them, so that several can
// work on one video.
type Encoder interface {
	// Track describes the video as containers that hold packets with lengths need it.
	Track() (Track, error)
	// Begin tells of the group to come. What came before must have been flushed.
	Begin(g Group)
	// Picture returns a picture to be drawn into, which Encode then takes without a copy.
	Picture() *picture.Picture
	// Encode takes the next picture in order of display.
	Encode(p *picture.Picture, pts int64) error
	// Flush codes what waits. The next picture begins a group.
	Flush() error
	// Costs is what is known of how many bits pictures take by now.
	Costs() Costs
}

// StillEncoder codes pictures on their own, each by a quality.
type StillEncoder interface {
	// Encode appends the coded picture to dst.
	Encode(dst []byte, p *picture.Picture, quality int) []byte
}

// Group is what a group of pictures starts from.
type Group struct {
	Number int     // of the group in the video
	Frames int     // in it, at most KeyEvery; of intra pictures alone any number
	Carry  float64 // bits that it may take beyond its share, or less where negative
	Costs  Costs   // of groups before, or the zero value
	Bits   float64 // that the group is to take, whatever its share; 0: its share and Carry
}

// Costs is what rate control learned of the pictures of a video, by kind: P, B and I. The zero
// value knows nothing.
type Costs struct {
	Cost    [3]float64 // bits * quantiser step of a picture
	Known   [3]bool
	KeyQP   int // of the last I picture
	LastQP  int
	Reached bool // LastQP was chosen for a picture
}
