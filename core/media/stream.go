package media

// StreamInfo is what the headers of a video stream state about it.
type StreamInfo struct {
	Format     Format // Bitrate is zero; Rate is the stated one, zero where none is
	Level      string // "4.1"
	Scan       string // "progressive", "interlaced (field pictures)", ...
	Colour     Colour
	HDR        *HDR
	Entropy    string // "CABAC"
	References int    // largest number of reference frames
	Slices     int    // largest number per picture
	Frames     int
	Keys       int  // random access points
	IDRs       int  // keys that no reference crosses
	KeyMax     int  // longest distance between key frames, in frames
	BRun       int  // most consecutive B frames in display order
	BDepth     int  // levels of B frames that are predicted from one another
	OpenGOP    bool // frames shown before a key frame are decoded after it
}

// UnitParser follows the headers of a stream of NAL units without decoding it.
type UnitParser interface {
	// Configure reads the codec's configuration record, if there is one.
	Configure(config []byte) error
	// Packet parses a whole packet in the form that the configuration record states, or in byte
	// stream form.
	Packet(data []byte) error
	// Unit parses the next NAL unit.
	Unit(unit []byte) (Unit, error)
	// End announces the end of the stream.
	End()
	// Shown returns the numbers of further frames in display order, as far as it is known by
	// now. Frames are counted from 0 in decoding order.
	Shown() []int
	Info() StreamInfo
	// Frames returns how many frames have begun.
	Frames() int
}

// Unit is what a parser reports about a NAL unit.
type Unit struct {
	Picture bool // it contains part of a picture
	Begins  bool // a frame begins with it
	Key     bool // decoding can start at the frame
}
