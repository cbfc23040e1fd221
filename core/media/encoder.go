package media

import "vividstrain/core/media/picture"

// Preset is a trade-off between the speed of an encoder and its efficiency.
type Preset uint8

// The presets, fastest first.
const (
	Fast Preset = iota
	Good
)

var presetNames = [...]string{"fast", "good"}

func (p Preset) String() string { return presetNames[p] }

// PresetNames returns the names of the presets, fastest first.
func PresetNames() []string { return presetNames[:] }

// ParsePreset parses the name of a preset.
func ParsePreset(name string) (Preset, bool) {
	for p, n := range presetNames {
		if n == name {
			return Preset(p), true
		}
	}
	return 0, false
}

// EncoderSettings state what an Encoder makes. A codec ignores those that do not apply to it.
type EncoderSettings struct {
	Format     Format // its Bitrate is 0 for a constant quantiser
	Colour     Colour
	HDR        *HDR
	QP         int  // quantisation parameter of P pictures where there is no bitrate, in the codec's own scale
	KeyEvery   int  // frames from one IDR picture to the next; 1: intra pictures only
	BFrames    int  // consecutive B pictures, 0 to 7; of 3 or more the middle one is a reference
	References int  // reference frames of P pictures, 1 to 4; 0: as the preset says
	Slices     int  // per picture; 0: one
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

// Encoder encodes one video. It is for one goroutine at a time. A group of pictures that starts
// with Begin is coded the same by any encoder with the same settings, so that several encoders
// can work on one video.
type Encoder interface {
	// Track describes the video for containers with length-prefixed packets.
	Track() (Track, error)
	// Begin announces the next group. The previous group must have been flushed.
	Begin(g Group)
	// Picture returns a picture to draw into; passing it to Encode then needs no copy.
	Picture() *picture.Picture
	// Encode takes the next picture in display order.
	Encode(p *picture.Picture, pts int64) error
	// Flush codes the pictures that wait. The next picture begins a group.
	Flush() error
	// Costs returns what is known so far about how many bits pictures take.
	Costs() Costs
}

// StillEncoder encodes single pictures, each with a given quality.
type StillEncoder interface {
	// Encode appends the coded picture to dst.
	Encode(dst []byte, p *picture.Picture, quality int) []byte
}

// Group is the starting state of a group of pictures.
type Group struct {
	Number int     // of the group in the video
	Frames int     // in it, at most KeyEvery; any number where all pictures are intra
	Carry  float64 // bits that it may take beyond its share; negative: below it
	Costs  Costs   // of earlier groups, or the zero value
	Bits   float64 // that the group should take, whatever its share; 0: its share and Carry
}

// Costs is what rate control has learned about the pictures of a video, by kind: P, B and I. The
// zero value knows nothing.
type Costs struct {
	Cost    [3]float64 // bits times quantiser step of a picture
	Known   [3]bool
	KeyQP   int // of the last I picture
	LastQP  int
	Reached bool // LastQP was chosen for a picture
}
