package media

// StreamInfo is what the headers of a video stream say of it.
type StreamInfo struct {
	Format     Format // Bitrate is zero; Rate is the stated one, zero where none is
	Level      string // "4.1"
	Scan       string // "progressive", "interlaced (field pictures)", ...
	Colour     Colour
	HDR        *HDR
	Entropy    string // "CABAC"
	References int    // frames that may be referred to
	Slices     int    // in a picture, at most
	Frames     int
	Keys       int  // frames that decoding can start at
	IDRs       int  // of them, those that nothing refers across
	KeyMax     int  // longest way from one key frame to the next, in frames
	BRun       int  // most B frames between two others, in order of display
	BDepth     int  // levels of B frames that predict one another
	OpenGOP    bool // frames shown before a key frame are decoded after it
}

// UnitParser follows the headers of a stream of NAL units without decoding it.
type UnitParser interface {
	// Configure takes the codec's set-up record, as far as it has one.
	Configure(config []byte) error
	// Packet takes a whole packet in the form that Configure was told, or
	// in byte stream form.
	Packet(data []byte) error
	// Unit takes the next NAL unit and tells whether it belongs to a
	// picture, and whether with it a frame begins that can be decoded
	// first.
	Unit(unit []byte) (Unit, error)
	// End says that nothing follows.
	End()
	// Shown gives the numbers of frames, counted from 0 as they come, in
	// the order of display, as far as it is known and was not yet given.
	Shown() []int
	Info() StreamInfo
	// Frames is how many frames have begun.
	Frames() int
}

// Unit is what a parser says of a NAL unit.
type Unit struct {
	Picture bool // it holds a part of a picture
	Begins  bool // a frame begins with it
	Key     bool // decoding can start at the frame
}
