package media

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"vividstrain/core/media/picture"
)

// String prints the format as load lines have it, its words in their fixed order:
// "h264 1080p30 10bit 4:2:2 hdr 12M".
func (f Format) String() string {
	var b strings.Builder
	b.WriteString(f.Codec + " " + f.SizeRate())
	if f.Depth != 8 {
		fmt.Fprintf(&b, " %dbit", f.Depth)
	}
	if f.Chroma != picture.C420 {
		b.WriteString(" " + f.Chroma.String())
	}
	switch f.Transfer {
	case PQ:
		b.WriteString(" hdr")
	case HLG:
		b.WriteString(" hlg")
	}
	b.WriteString(" " + FormatBitrate(f.Bitrate))
	return b.String()
}

// Word returns the format as one word, for names and addresses: "h264-1080p30-12M".
func (f Format) Word() string { return strings.NewReplacer(" ", "-", ":", "").Replace(f.String()) }

// WordError states which word of a format or goal is wrong.
type WordError struct {
	Word string // empty: something is missing
	What string // what is wrong, and what would be right
	// IsCodec reports that the word should be a codec and is not.
	IsCodec bool
}

func (e *WordError) Error() string {
	if e.Word == "" {
		return e.What
	}
	return fmt.Sprintf("at %q: %s", e.Word, e.What)
}

// ParseFormat parses the words of a format: a codec word first, one of codecs, then the others
// in any order. Errors have type *WordError.
func ParseFormat(words, codecs []string) (Format, error) {
	f := Format{Depth: 8, Transfer: SDR}
	if len(words) == 0 {
		return f, &WordError{What: "the codec is missing; known are " + strings.Join(codecs, ", ")}
	}
	if f.Codec = strings.ToLower(words[0]); !slices.Contains(codecs, f.Codec) {
		return f, &WordError{Word: words[0], What: "unknown codec; known are " + strings.Join(codecs, ", "), IsCodec: true}
	}
	seen := map[string]bool{}
	for _, w := range words[1:] {
		part, err := f.parseWord(strings.ToLower(w))
		switch {
		case err != nil:
			return f, &WordError{Word: w, What: err.Error()}
		case seen[part]:
			return f, &WordError{Word: w, What: "the " + part + " is given twice"}
		}
		seen[part] = true
	}
	switch {
	case !seen["size"]:
		return f, &WordError{What: "it has no size and rate, like 1080p30"}
	case !seen["bitrate"]:
		return f, &WordError{What: "it has no bitrate, like 12M"}
	}
	return f, nil
}

// parseWord parses one word after the codec and returns which part of the format it is.
func (f *Format) parseWord(w string) (part string, err error) {
	if chroma, ok := picture.ParseChroma(w); ok {
		f.Chroma = chroma
		return "chroma sampling", nil
	}
	if depth, ok := strings.CutSuffix(w, "bit"); ok {
		if depth != "8" && depth != "10" && depth != "12" {
			return "", errors.New("the depth is 8bit, 10bit or 12bit" + DidYouMean(nearFormatWord(w)))
		}
		f.Depth, _ = strconv.Atoi(depth)
		return "depth", nil
	}
	if transfer, ok := map[string]Transfer{"sdr": SDR, "hdr": PQ, "hlg": HLG}[w]; ok {
		f.Transfer = transfer
		return "transfer", nil
	}
	if size, rate, ok := cutSize(w); ok {
		if rate == "" {
			return "", fmt.Errorf("the frame rate is missing; write %s25", size)
		}
		if f.Width, f.Height, f.Interlaced, err = ParseSize(size); err != nil {
			return "", err
		}
		if f.Rate, err = ParseRate(rate); err != nil {
			err = errors.New(err.Error() + DidYouMean(nearFormatWord(w)))
		}
		return "size", err
	}
	if f.Bitrate, err = ParseBitrate(w); err != nil {
		if near := nearFormatWord(w); near != "" {
			return "", errors.New("it is not a word of a load line" + DidYouMean(near))
		}
		return "", errors.New("it is no size (1080p30), depth (10bit), chroma sampling (4:2:2), transfer (hdr, hlg), " +
			"bitrate (12M) or number of streams (x4)")
	}
	return "bitrate", nil
}

// cutSize splits "1080p30" after its scan letter.
func cutSize(w string) (size, rate string, ok bool) {
	i := strings.IndexAny(w, "pi")
	if i < 1 || strings.Trim(w[:i], "0123456789x") != "" {
		return "", "", false
	}
	return w[:i+1], w[i+1:], true
}

// Goal is the format to which a stream is converted.
type Goal struct {
	Width, Height int
	Interlaced    bool
	Rate          Rate   // zero: as the source
	Bitrate       int64  // bits a second
	Codec         string // empty: the device chooses
	// Audio and Subtitle are the numbers, from 1, of the sound track to be used and of the
	// subtitles to be burned in; 0: as the device chooses. They are for servers.
	Audio, Subtitle int
	// ToSDR demands that high dynamic range becomes standard dynamic range. Only such sources have
	// that goal.
	ToSDR bool
}

// sdrWord is the word of a goal for a result in standard dynamic range.
const sdrWord = string(SDR)

// maxTrack is the largest number of a track of a goal.
const maxTrack = 99

// ParseGoal parses the words of a goal: size, bitrate, perhaps a codec, and perhaps sdr, audio=N
// and subtitle=N. Errors have type *WordError.
func ParseGoal(words, codecs []string) (g Goal, err error) {
	for len(words) > 2 {
		last := words[len(words)-1]
		if strings.EqualFold(last, sdrWord) && !g.ToSDR {
			g.ToSDR, words = true, words[:len(words)-1]
			continue
		}
		name, number, tracked := strings.Cut(last, "=")
		if !tracked {
			break
		}
		n, err := strconv.Atoi(number)
		to := map[string]*int{"audio": &g.Audio, "subtitle": &g.Subtitle}[name]
		if err != nil || n < 1 || n > maxTrack || to == nil || *to != 0 {
			return g, &WordError{Word: last, What: fmt.Sprintf("write audio=N or subtitle=N, each once, with N from 1 to %d", maxTrack)}
		}
		*to, words = n, words[:len(words)-1]
	}
	size, rate, ok := cutSize(strings.ToLower(words[0]))
	if !ok {
		return g, &WordError{Word: words[0], What: "the goal begins with a size like 720p or 720p25" + DidYouMean(nearFormatWord(strings.ToLower(words[0])))}
	}
	if g.Width, g.Height, g.Interlaced, err = ParseSize(size); err == nil && rate != "" {
		g.Rate, err = ParseRate(rate)
	}
	if err != nil {
		return g, &WordError{Word: words[0], What: err.Error()}
	}
	if g.Bitrate, err = ParseBitrate(words[1]); err != nil {
		return g, &WordError{Word: words[1], What: err.Error()}
	}
	if len(words) > 3 {
		return g, &WordError{Word: words[3], What: "a goal is a size, a bitrate and perhaps a codec, sdr, audio=N and subtitle=N"}
	}
	if len(words) == 3 {
		if g.Codec = strings.ToLower(words[2]); !slices.Contains(codecs, g.Codec) {
			return g, &WordError{Word: words[2], What: "unknown codec; known are " + strings.Join(codecs, ", "), IsCodec: true}
		}
	}
	return g, nil
}

// String prints the goal as load lines have it after the arrow.
func (g Goal) String() string {
	f := Format{Width: g.Width, Height: g.Height, Interlaced: g.Interlaced, Rate: g.Rate}
	s := f.Size()
	if g.Rate.Num > 0 {
		s = f.SizeRate()
	}
	s += " " + FormatBitrate(g.Bitrate)
	if g.Codec != "" {
		s += " " + g.Codec
	}
	if g.ToSDR {
		s += " " + sdrWord
	}
	if g.Audio > 0 {
		s += fmt.Sprintf(" audio=%d", g.Audio)
	}
	if g.Subtitle > 0 {
		s += fmt.Sprintf(" subtitle=%d", g.Subtitle)
	}
	return s
}

// AsIs is the word for a treatment without conversion.
const AsIs = "as-is"

// Word returns the goal as one word, for names and addresses: "720p-4M"; of nil it returns AsIs.
func (g *Goal) Word() string {
	if g == nil {
		return AsIs
	}
	video := *g
	video.Audio, video.Subtitle, video.ToSDR = 0, 0, false // addresses have placeholders for these
	return strings.ReplaceAll(video.String(), " ", "-")
}
