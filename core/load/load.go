// Package load states what is asked of a device: load lines, and ladders of
// them in rising order.
package load

import (
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"vividstrain/core/media"
	"vividstrain/core/media/picture"
)

// Codecs are the codec words that a load line may begin with.
var Codecs = []string{"mjpeg", "mpeg2", "h264", "hevc", "vp8", "vp9", "av1", "raw"}

// Goal is what a stream is to be converted to.
type Goal struct {
	Width, Height int
	Interlaced    bool
	Rate          media.Rate // zero: as the source
	Bitrate       int64      // bits a second
	Codec         string     // empty: the device chooses
}

// Load is a format, how it is to be treated and in how many streams at once.
type Load struct {
	media.Format
	Streams int    // at least 1
	Goal    *Goal  // nil: as it is
	File    string // the file to be played, empty: any clip of the format; not a part of the load line
}

// Title is the load line, with the name of the file that is to be played.
func (l Load) Title() string {
	if l.File == "" {
		return l.String()
	}
	return filepath.Base(l.File) + ": " + l.String()
}

// MaxStreams is the largest number of streams a load line may ask for.
const MaxStreams = 100_000

// Error says which word of a load line is wrong.
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
	var b strings.Builder
	b.WriteString(l.Codec + " " + l.SizeRate())
	if l.Depth != 8 {
		fmt.Fprintf(&b, " %dbit", l.Depth)
	}
	if l.Chroma != picture.C420 {
		b.WriteString(" " + l.Chroma.String())
	}
	switch l.Transfer {
	case media.PQ:
		b.WriteString(" hdr")
	case media.HLG:
		b.WriteString(" hlg")
	}
	b.WriteString(" " + media.FormatBitrate(l.Bitrate))
	if l.Streams > 1 {
		fmt.Fprintf(&b, " x%d", l.Streams)
	}
	if l.Goal != nil {
		b.WriteString(" -> " + l.Goal.String())
	}
	return b.String()
}

// String prints the goal as it stands behind the arrow of a load line.
func (g Goal) String() string {
	f := media.Format{Width: g.Width, Height: g.Height, Interlaced: g.Interlaced, Rate: g.Rate}
	s := f.Size()
	if g.Rate.Num > 0 {
		s = f.SizeRate()
	}
	s += " " + media.FormatBitrate(g.Bitrate)
	if g.Codec != "" {
		s += " " + g.Codec
	}
	return s
}

// AsIs is the word for what is not to be converted.
const AsIs = "as-is"

// Word is the goal in one word, for names and addresses: "720p-4M". Of nil it is
// AsIs.
func (g *Goal) Word() string {
	if g == nil {
		return AsIs
	}
	return strings.ReplaceAll(g.String(), " ", "-")
}

// FormatWord is a format in one word, for names and addresses:
// "h264-1080p30-12M".
func FormatWord(f media.Format) string {
	return strings.NewReplacer(" ", "-", ":", "").Replace(Load{Format: f, Streams: 1}.String())
}

// PixelRate is luma samples a second of all streams.
func (l Load) PixelRate() float64 { return l.Format.PixelRate() * float64(l.Streams) }

// MarshalText writes the load line.
func (l Load) MarshalText() ([]byte, error) { return []byte(l.String()), nil }

// UnmarshalText reads a load line.
func (l *Load) UnmarshalText(text []byte) (err error) {
	*l, err = Parse(string(text))
	return err
}

// Parse reads a load line:
//
//	CODEC SIZE+RATE [10bit] [4:2:2] [hdr|hlg] BITRATE [xN] [-> SIZE[+RATE] BITRATE [CODEC]]
//
// The words between codec and arrow may stand in any order. Errors are of type
// *Error.
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

// parseSource reads the words before the arrow.
func parseSource(line string, words []string) (Load, error) {
	l := Load{Format: media.Format{Depth: 8, Transfer: media.SDR}, Streams: 1}
	if len(words) == 0 {
		return l, &Error{line, "", "it is empty; a load line is like \"mjpeg 1080p30 60M\""}
	}
	l.Codec = strings.ToLower(words[0])
	if !slices.Contains(Codecs, l.Codec) {
		return l, &Error{line, words[0], "unknown codec; known are " + strings.Join(Codecs, ", ")}
	}
	seen := map[string]bool{}
	for _, w := range words[1:] {
		part, err := l.take(w)
		switch {
		case err != nil:
			return l, &Error{line, w, err.Error()}
		case seen[part]:
			return l, &Error{line, w, "the " + part + " is given twice"}
		}
		seen[part] = true
	}
	switch {
	case !seen["size"]:
		return l, &Error{line, "", "it has no size and rate, like 1080p30"}
	case !seen["bitrate"]:
		return l, &Error{line, "", "it has no bitrate, like 12M"}
	}
	return l, nil
}

// take reads one word behind the codec and tells which part of the line it is.
func (l *Load) take(word string) (part string, err error) {
	w := strings.ToLower(word)
	if chroma, ok := picture.ParseChroma(w); ok {
		l.Chroma = chroma
		return "chroma sampling", nil
	}
	if depth, ok := strings.CutSuffix(w, "bit"); ok {
		if depth != "8" && depth != "10" && depth != "12" {
			return "", fmt.Errorf("the depth is 8bit, 10bit or 12bit")
		}
		l.Depth, _ = strconv.Atoi(depth)
		return "depth", nil
	}
	switch w {
	case "sdr":
		l.Transfer = media.SDR
		return "transfer", nil
	case "hdr":
		l.Transfer = media.PQ
		return "transfer", nil
	case "hlg":
		l.Transfer = media.HLG
		return "transfer", nil
	}
	if n, ok := strings.CutPrefix(w, "x"); ok {
		l.Streams, err = strconv.Atoi(n)
		if err != nil || l.Streams < 1 || l.Streams > MaxStreams {
			return "", fmt.Errorf("the number of streams is x1 to x%d", MaxStreams)
		}
		return "number of streams", nil
	}
	if size, rate, ok := cutSize(w); ok {
		if rate == "" {
			return "", fmt.Errorf("the frame rate is missing; write %s25", size)
		}
		if l.Width, l.Height, l.Interlaced, err = media.ParseSize(size); err != nil {
			return "", err
		}
		l.Rate, err = media.ParseRate(rate)
		return "size", err
	}
	if l.Bitrate, err = media.ParseBitrate(w); err != nil {
		return "", fmt.Errorf("it is no size (1080p30), depth (10bit), chroma sampling (4:2:2), transfer (hdr, hlg), " +
			"bitrate (12M) or number of streams (x4)")
	}
	return "bitrate", nil
}

// cutSize splits "1080p30" behind its scan letter.
func cutSize(w string) (size, rate string, ok bool) {
	i := strings.IndexAny(w, "pi")
	if i < 1 || strings.Trim(w[:i], "0123456789x") != "" {
		return "", "", false
	}
	return w[:i+1], w[i+1:], true
}

// ParseGoal reads a goal as it stands behind the arrow of a load line.
func ParseGoal(s string) (Goal, error) {
	g, err := parseGoal(s, strings.Fields(s))
	if err != nil {
		return Goal{}, err
	}
	return *g, nil
}

// parseGoal reads the words behind the arrow.
func parseGoal(line string, words []string) (*Goal, error) {
	if len(words) < 2 || len(words) > 3 {
		return nil, &Error{line, "->", "the goal is a size, a bitrate and perhaps a codec, like \"-> 720p 4M\""}
	}
	g := &Goal{}
	size, rate, ok := cutSize(strings.ToLower(words[0]))
	if !ok {
		return nil, &Error{line, words[0], "the goal begins with a size like 720p or 720p25"}
	}
	var err error
	if g.Width, g.Height, g.Interlaced, err = media.ParseSize(size); err == nil && rate != "" {
		g.Rate, err = media.ParseRate(rate)
	}
	if err != nil {
		return nil, &Error{line, words[0], err.Error()}
	}
	if g.Bitrate, err = media.ParseBitrate(words[1]); err != nil {
		return nil, &Error{line, words[1], err.Error()}
	}
	if len(words) == 3 {
		if g.Codec = strings.ToLower(words[2]); !slices.Contains(Codecs, g.Codec) {
			return nil, &Error{line, words[2], "unknown codec; known are " + strings.Join(Codecs, ", ")}
		}
	}
	return g, nil
}
