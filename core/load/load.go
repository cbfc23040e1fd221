// Package load defines what is asked of a device: loads, written as load lines, and ladders of
// them in rising order.
package load

import (
	"errors"
	"fmt"
	"path/filepath"
	"strconv"
	"strings"

	"vividstrain/core/media"
	"vividstrain/core/media/registry"
)

// Load is a format, its treatment, and the number of simultaneous streams.
type Load struct {
	media.Format
	Streams int         // at least 1
	Goal    *media.Goal // nil: as-is
	File    string      // the file to play; empty: any clip of the format. It is not part of the load line.
}

// Title returns the load line, or the name of the file to be played with it.
func (l Load) Title() string {
	if l.File == "" {
		return l.String()
	}
	return filepath.Base(l.File) + ": " + l.String()
}

// MaxStreams is the largest number of streams in a load line.
const MaxStreams = 100_000

// Error states which word of a load line is wrong.
type Error struct {
	Line string
	Word string // empty: something is missing
	What string // what is wrong, and what would be right
}

func (e *Error) Error() string {
	if e.Word == "" {
		return fmt.Sprintf("load line %q: %s", clip(e.Line), e.What)
	}
	return fmt.Sprintf("load line %q: at %q: %s", clip(e.Line), clip(e.Word), e.What)
}

// clip keeps error messages readable when the input is not.
func clip(s string) string {
	if len(s) > 80 {
		return s[:77] + "..."
	}
	return s
}

// String prints the load as a load line, its words in their fixed order.
func (l Load) String() string {
	line := l.Format.String()
	if l.Streams > 1 {
		line += fmt.Sprintf(" x%d", l.Streams)
	}
	if l.Goal != nil {
		line += " -> " + l.Goal.String()
	}
	return line
}

// PixelRate returns luma samples per second of all streams.
func (l Load) PixelRate() float64 { return l.Format.PixelRate() * float64(l.Streams) }

// MarshalText returns the load line.
func (l Load) MarshalText() ([]byte, error) { return []byte(l.String()), nil }

// UnmarshalText parses a load line.
func (l *Load) UnmarshalText(text []byte) (err error) {
	*l, err = Parse(string(text))
	return err
}

// Parse parses a load line, CODEC SIZE+RATE [10bit] [4:2:2] [hdr|hlg] BITRATE [xN] [->
// SIZE[+RATE] BITRATE [CODEC]]. The words between codec and arrow may come in any order. Errors
// have type *Error.
func Parse(line string) (Load, error) {
	const longest = 400
	if len(line) > longest {
		return Load{}, &Error{line, "", fmt.Sprintf("it is longer than %d characters", longest)}
	}
	source, goal, converted := strings.Cut(line, "->")
	l, err := parseSource(line, strings.Fields(source))
	if err != nil || !converted {
		return l, err
	}
	l.Goal, err = parseGoal(line, strings.Fields(goal))
	return l, err
}

// parseSource parses the words before the arrow.
func parseSource(line string, words []string) (Load, error) {
	l := Load{Streams: 1}
	if len(words) == 0 {
		return l, &Error{line, "", "it is empty; a load line is like \"mjpeg 1080p30 60M\""}
	}
	var format []string
	times := 0
	for _, w := range words {
		n, ok := strings.CutPrefix(strings.ToLower(w), "x")
		if !ok {
			format = append(format, w)
			continue
		}
		var err error
		if l.Streams, err = strconv.Atoi(n); err != nil || l.Streams < 1 || l.Streams > MaxStreams {
			return l, &Error{line, w, fmt.Sprintf("the number of streams is x1 to x%d", MaxStreams)}
		}
		if times++; times > 1 {
			return l, &Error{line, w, "the number of streams is given twice"}
		}
	}
	var err error
	if l.Format, err = media.ParseFormat(format, knownCodecs()); err != nil {
		return l, wordError(line, err)
	}
	return l, nil
}

// knownCodecs are the codec words that a load line may begin with.
func knownCodecs() []string { return registry.VideoCodecs() }

// wordError converts an error about a word of a format to an *Error of the line.
func wordError(line string, err error) error {
	var wrong *media.WordError
	if errors.As(err, &wrong) {
		if near := registry.NearVideoCodec(wrong.Word); wrong.IsCodec && near != "" {
			return &Error{line, wrong.Word, "unknown codec" + media.DidYouMean(near)}
		}
		return &Error{line, wrong.Word, wrong.What}
	}
	return err
}

// ParseGoal parses a goal as it is written after the arrow of a load line.
func ParseGoal(s string) (media.Goal, error) {
	g, err := parseGoal(s, strings.Fields(s))
	if err != nil {
		return media.Goal{}, err
	}
	return *g, nil
}

// parseGoal parses the words after the arrow.
func parseGoal(line string, words []string) (*media.Goal, error) {
	if len(words) < 2 || len(words) > 6 {
		return nil, &Error{line, "->", "the goal is a size, a bitrate and perhaps a codec, like \"-> 720p 4M\""}
	}
	g, err := media.ParseGoal(words, knownCodecs())
	if err != nil {
		return nil, wordError(line, err)
	}
	return &g, nil
}
