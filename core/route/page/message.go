package page

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"strings"
	"unicode"
	"vividstrain/core/tally"
)

// Limits of what a page may send; a page at 240 frames a second stays below them.
const (
	maxMessage = 256 << 10 // bytes
	maxFrames  = 6000      // in a message
	maxFacts   = 32
	maxText    = 300 // bytes
	maxItems   = 512
)

// message is what a page says. Which fields it has depends on Say.
type message struct {
	Say     string `json:"say"`
	Attempt int    `json:"attempt"`
	Video   int    `json:"video"`
	// T is the time of the page's clock, in milliseconds.
	T float64 `json:"t"`

	// hello
	Page   string            `json:"page"`   // made up anew each time that the page is loaded
	Device string            `json:"device"` // kept by the browser
	Ready  bool              `json:"ready"`
	Facts  map[string]string `json:"facts"`
	Lacks  []string          `json:"lacks"`

	// promises, by W3C Media Capabilities
	ID       int              `json:"id"`
	Promises []*tally.Promise `json:"items"`

	// event
	Kind string  `json:"kind"`
	X    float64 `json:"x"`
	Text string  `json:"text"`

	// tick
	At      float64   `json:"at"`    // position in the film, seconds
	Ahead   float64   `json:"ahead"` // up to where it was fetched
	Hidden  bool      `json:"hidden"`
	Total   *int      `json:"total"` // pictures, as the browser counts them; nil: it does not
	Dropped int       `json:"dropped"`
	Frames  []present `json:"frames"`
}

// present is one call of the frame callback (W3C HTMLVideoElement.requestVideoFrameCallback).
type present struct {
	N       float64 // presented pictures so far
	Media   float64 // time in the film, seconds
	Display float64 // when it is expected to be seen, milliseconds
	Mark    float64 // number read from the picture; -1: unreadable, -2: not read
	LateMS  float64 // the mark was read so long after Display
	// Total and Dropped are the browser's own counts at that time, -1 where it has none.
	Total, Dropped float64
}

// UnmarshalJSON parses the array of its fields.
func (p *present) UnmarshalJSON(data []byte) error {
	var list []float64
	if err := json.Unmarshal(data, &list); err != nil {
		return err
	}
	if len(list) != 7 {
		return errors.New("a frame has seven numbers")
	}
	*p = present{list[0], list[1], list[2], list[3], list[4], list[5], list[6]}
	return nil
}

// MessageError means that a page said something that a page of ours does not say.
type MessageError struct{ What string }

func (e *MessageError) Error() string { return "the page sent " + e.What }

// parseMessage checks and returns what a page says.
func parseMessage(data []byte) (*message, error) {
	if len(data) > maxMessage {
		return nil, &MessageError{fmt.Sprintf("a message of %d bytes", len(data))}
	}
	var m message
	d := json.NewDecoder(bytes.NewReader(data))
	if err := d.Decode(&m); err != nil {
		return nil, &MessageError{"what is no message: " + err.Error()}
	}
	if err := m.check(); err != nil {
		return nil, err
	}
	return &m, nil
}

// check finds what no page of ours says, and shortens texts.
func (m *message) check() error {
	for _, x := range []float64{m.T, m.X, m.At, m.Ahead} {
		if math.IsNaN(x) || math.Abs(x) > 1e13 {
			return &MessageError{"a number that makes no sense"}
		}
	}
	if m.Attempt < 0 || m.Video < 0 || m.Video >= maxVideos || m.Dropped < 0 || m.Total != nil && *m.Total < 0 {
		return &MessageError{"a number that makes no sense"}
	}
	if len(m.Frames) > maxFrames || len(m.Facts) > maxFacts || len(m.Lacks) > maxFacts || len(m.Promises) > maxItems {
		return &MessageError{"too much at once"}
	}
	for _, f := range m.Frames {
		if math.Abs(f.N) > 1e9 || math.Abs(f.Media) > 1e7 || math.Abs(f.Display) > 1e13 || math.Abs(f.Mark) > 1<<24 {
			return &MessageError{"a frame that makes no sense"}
		}
	}
	m.Text, m.Page, m.Kind = plain(m.Text), plain(m.Page), plain(m.Kind)
	m.Device = plain(m.Device)
	facts := map[string]string{}
	for name, value := range m.Facts {
		if knownFacts[name] {
			facts[name] = plain(value)
		}
	}
	m.Facts = facts
	for i := range m.Lacks {
		m.Lacks[i] = plain(m.Lacks[i])
	}
	return nil
}

// knownFacts are what a page may say about its device.
var knownFacts = map[string]bool{"browser": true, "screen": true, "window": true, "pixel_ratio": true, "cores": true, "memory": true,
	"gamut": true, "hdr": true, "battery": true, "refresh_hz": true}

// plain returns text without control characters, shortened.
func plain(s string) string {
	s = strings.Map(func(r rune) rune {
		if unicode.IsControl(r) || r == unicode.ReplacementChar {
			return -1
		}
		return r
	}, s)
	if len(s) > maxText {
		s = strings.ToValidUTF8(s[:maxText], "")
	}
	return s
}
