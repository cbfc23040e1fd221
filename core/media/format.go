// Package media defines what a video stream is and the interfaces that codecs and containers
// share. Each codec and each container has a folder of its own below this one, and none knows
// another.
package media

import (
	"fmt"
	"math"
	"strconv"
	"strings"

	"vividstrain/core/media/picture"
)

// Transfer is the relation between sample values and light.
type Transfer string

// The transfer characteristics of load lines.
const (
	SDR Transfer = "sdr" // Rec. ITU-R BT.709
	PQ  Transfer = "pq"  // Rec. ITU-R BT.2100, perceptual quantisation
	HLG Transfer = "hlg" // Rec. ITU-R BT.2100, hybrid log-gamma
)

// TransferOf returns the transfer characteristics of a code point of Rec. ITU-T H.273; all
// except those of BT.2100 count as SDR.
func TransferOf(code int) Transfer {
	switch code {
	case 16:
		return PQ
	case 18:
		return HLG
	}
	return SDR
}

// Rate is a frame rate as an exact fraction, in frames per second.
type Rate struct{ Num, Den int }

// The range of valid frame rates.
const (
	MinHz = 0.1
	MaxHz = 1000
)

// NewRate returns num/den frames per second in lowest terms; false if that is outside MinHz to
// MaxHz, as in a damaged stream.
func NewRate(num, den int64) (Rate, bool) {
	if num <= 0 || den <= 0 || float64(num) < MinHz*float64(den) || float64(num) > MaxHz*float64(den) {
		return Rate{}, false
	}
	a, b := num, den
	for b != 0 {
		a, b = b, a%b
	}
	if num, den = num/a, den/a; num > math.MaxInt32 || den > math.MaxInt32 {
		r, err := RateOf(float64(num) / float64(den))
		return r, err == nil
	}
	return Rate{int(num), int(den)}, true
}

// usualRates are the common frame rates of video, in frames per second.
var usualRates = []Rate{{5, 1}, {6, 1}, {10, 1}, {12, 1}, {25, 2}, {15, 1}, {20, 1}, {24000, 1001}, {24, 1}, {25, 1}, {30000, 1001}, {30, 1},
	{48000, 1001}, {48, 1}, {50, 1}, {60000, 1001}, {60, 1}, {100, 1}, {120000, 1001}, {120, 1}}

// UsualRate returns the common frame rate that is nearest to a mean in frames per second.
func UsualRate(hz float64) Rate {
	best := usualRates[0]
	for _, r := range usualRates {
		if math.Abs(math.Log(r.Hz()/hz)) < math.Abs(math.Log(best.Hz()/hz)) {
			best = r
		}
	}
	return best
}

// Hz returns the rate as a number.
func (r Rate) Hz() float64 { return float64(r.Num) / float64(r.Den) }

// Reduced returns the same rate in lowest terms.
func (r Rate) Reduced() Rate {
	a, b := r.Num, r.Den
	for b != 0 {
		a, b = b, a%b
	}
	if a == 0 {
		return r
	}
	return Rate{r.Num / a, r.Den / a}
}

// String prints the rate with at most three decimals: "25", "23.976".
func (r Rate) String() string {
	return trimZeros(strconv.FormatFloat(r.Hz(), 'f', 3, 64))
}

// ParseRate reads "25", "12.5" or "23.976". Rates within half a thousandth of
// a multiple of 1000/1001 of a whole number are taken as that exact fraction,
// which is how television rates are written short.
func ParseRate(s string) (Rate, error) {
	hz, err := strconv.ParseFloat(s, 64)
	if err != nil || strings.ContainsAny(s, "eExXpP_+-") {
		return Rate{}, fmt.Errorf("%q is not a frame rate", s)
	}
	return RateOf(hz)
}

// RateOf returns the exact fraction that hz most likely means.
func RateOf(hz float64) (Rate, error) {
	if !(hz >= MinHz && hz <= MaxHz) {
		return Rate{}, fmt.Errorf("a frame rate must be %g to %g, not %g", MinHz, float64(MaxHz), hz)
	}
	whole := math.Round(hz * 1.001)
	if math.Abs(hz-math.Round(hz)) > 0.0005 && math.Abs(whole/1.001-hz) <= 0.0006 {
		return Rate{int(whole) * 1000, 1001}, nil
	}
	return Rate{int(math.Round(hz * 1000)), 1000}.Reduced(), nil
}

// Format is what a video stream is.
type Format struct {
	Codec         string // codec word: "mjpeg", "h264", ...
	Profile       string // the codec's own name of its profile, may be empty
	Width, Height int    // luma samples
	Rate          Rate   // frames (not fields) per second
	Interlaced    bool
	Depth         int            // bits per sample: 8, 10, 12
	Chroma        picture.Chroma // chroma sampling
	Transfer      Transfer
	Bitrate       int64 // bits per second
}

// Raw is the codec word of uncompressed video.
const Raw = "raw"

// FrameSize returns the bytes of an uncompressed picture: its planes with 8 bits per sample, or
// 16.
func (f Format) FrameSize() int64 {
	size := int64(0)
	for i := range f.Chroma.Planes() {
		w, h := f.Chroma.PlaneSize(i, f.Width, f.Height)
		size += int64(w) * int64(h)
	}
	if f.Depth > 8 {
		size *= 2
	}
	return size
}

// PixelRate returns luma samples per second.
func (f Format) PixelRate() float64 {
	return float64(f.Width) * float64(f.Height) * f.Rate.Hz()
}

// sizeName is a common name of a picture size.
type sizeName struct {
	lines, width, height int
	interlaced           bool
}

// sizeNames: progressive names are 16:9 with square pixels; the interlaced
// standard-definition names are the rasters of Rec. ITU-R BT.601.
var sizeNames = []sizeName{
	{144, 256, 144, false}, {160, 284, 160, false}, {240, 426, 240, false}, {270, 480, 270, false},
	{360, 640, 360, false}, {480, 854, 480, false}, {540, 960, 540, false}, {576, 1024, 576, false},
	{720, 1280, 720, false}, {1080, 1920, 1080, false}, {1440, 2560, 1440, false},
	{2160, 3840, 2160, false}, {4320, 7680, 4320, false},
	{480, 720, 480, true}, {576, 720, 576, true}, {720, 1280, 720, true},
	{1080, 1920, 1080, true}, {2160, 3840, 2160, true},
}

// MaxSide is the largest accepted width or height.
const MaxSide = 16384

// HDR reports whether the video has high dynamic range.
func (f Format) HDR() bool { return f.Transfer == PQ || f.Transfer == HLG }

// SizeRate prints size, scan and rate as in a load line: "1080p30",
// "1920x800p23.976", "576i25".
func (f Format) SizeRate() string { return f.Size() + f.Rate.String() }

// Size prints size and scan as in a load line: "1080p", "1920x800p", "576i".
func (f Format) Size() string {
	scan := "p"
	if f.Interlaced {
		scan = "i"
	}
	for _, n := range sizeNames {
		if n.width == f.Width && n.height == f.Height && n.interlaced == f.Interlaced {
			return strconv.Itoa(n.lines) + scan
		}
	}
	return fmt.Sprintf("%dx%d%s", f.Width, f.Height, scan)
}

// ParseSize reads "1080p", "1920x800p" or "576i".
func ParseSize(s string) (width, height int, interlaced bool, err error) {
	if s == "" || (s[len(s)-1] != 'p' && s[len(s)-1] != 'i') {
		return 0, 0, false, fmt.Errorf("a size is written like 1080p or 1920x800p, not %q", s)
	}
	interlaced = s[len(s)-1] == 'i'
	name := s[:len(s)-1]
	if w, h, found := strings.Cut(name, "x"); found {
		width, err1 := strconv.Atoi(w)
		height, err2 := strconv.Atoi(h)
		if err1 != nil || err2 != nil || strconv.Itoa(width) != w || strconv.Itoa(height) != h {
			return 0, 0, false, fmt.Errorf("%q is not a width and a height", name)
		}
		return width, height, interlaced, checkSize(width, height, interlaced)
	}
	var known []string
	for _, n := range sizeNames {
		if n.interlaced != interlaced {
			continue
		}
		if strconv.Itoa(n.lines) == name {
			return n.width, n.height, interlaced, nil
		}
		known = append(known, strconv.Itoa(n.lines))
	}
	return 0, 0, false, fmt.Errorf("unknown size %q; %c sizes are %s, or WIDTHxHEIGHT%c",
		s, s[len(s)-1], strings.Join(known, ", "), s[len(s)-1])
}

func checkSize(width, height int, interlaced bool) error {
	switch {
	case width < 32 || height < 32 || width > MaxSide || height > MaxSide:
		return fmt.Errorf("width and height must be 32 to %d, not %dx%d", MaxSide, width, height)
	case width%2 != 0 || height%2 != 0:
		return fmt.Errorf("width and height must be even, not %dx%d", width, height)
	case interlaced && height%4 != 0:
		return fmt.Errorf("an interlaced height must be a multiple of 4, not %d", height)
	}
	return nil
}

// FormatBitrate formats bits per second with an SI letter: 12000000 is "12M". It is exact:
// ParseBitrate returns the same number.
func FormatBitrate(bps int64) string {
	for _, unit := range []struct {
		size   int64
		letter string
	}{{1e6, "M"}, {1e3, "k"}} {
		if bps >= unit.size {
			return trimZeros(fmt.Sprintf("%d.%0*d", bps/unit.size, digits(unit.size), bps%unit.size)) + unit.letter
		}
	}
	return strconv.FormatInt(bps, 10)
}

// BitrateText formats a bitrate for people, with at most three significant figures: "12 Mb/s".
func BitrateText(bps float64) string {
	bps = roundTo(bps, 3) // 999.9 kb/s is 1 Mb/s
	for _, unit := range []struct {
		size   float64
		prefix string
	}{{1e9, "G"}, {1e6, "M"}, {1e3, "k"}} {
		if bps >= unit.size {
			return strconv.FormatFloat(roundTo(bps/unit.size, 3), 'f', -1, 64) + " " + unit.prefix + "b/s"
		}
	}
	return strconv.FormatFloat(roundTo(bps, 3), 'f', -1, 64) + " b/s"
}

// roundTo rounds v to n significant decimal figures.
func roundTo(v float64, n int) float64 {
	s := strconv.FormatFloat(v, 'e', n-1, 64)
	r, _ := strconv.ParseFloat(s, 64)
	return r
}

// MaxBitrate is the highest bitrate of a load line, in bits per second.
const MaxBitrate = 20_000_000_000

// RoundBitrate rounds bits a second to three figures, so that they can be read.
func RoundBitrate(b float64) int64 {
	step := math.Pow(10, math.Floor(math.Log10(b))-2)
	return int64(math.Round(math.Round(b/step) * step))
}

// ParseBitrate reads "12M", "0.2M", "800k", "1.5G" or "64000".
func ParseBitrate(s string) (int64, error) {
	number, scale := s, int64(1)
	if s != "" {
		switch s[len(s)-1] {
		case 'k', 'K':
			scale = 1e3
		case 'm', 'M':
			scale = 1e6
		case 'g', 'G':
			scale = 1e9
		}
		if scale > 1 {
			number = s[:len(s)-1]
		}
	}
	whole, fraction, dotted := strings.Cut(number, ".")
	if whole == "" || (dotted && fraction == "") || len(fraction) > digits(scale) || len(whole) > 11 ||
		strings.Trim(whole+fraction, "0123456789") != "" {
		return 0, fmt.Errorf("%q is not a bitrate; write it like 12M or 800k", s)
	}
	bps, _ := strconv.ParseInt(whole+fraction+strings.Repeat("0", digits(scale)-len(fraction)), 10, 64)
	if bps < 1000 || bps > MaxBitrate {
		return 0, fmt.Errorf("a bitrate must be 1k to 20G, not %s", s)
	}
	return bps, nil
}

// digits returns the number of zeros of a power of ten.
func digits(powerOfTen int64) int { return len(strconv.FormatInt(powerOfTen, 10)) - 1 }

// trimZeros removes trailing zeros after a decimal point, and the point if nothing follows it.
func trimZeros(s string) string {
	if !strings.Contains(s, ".") {
		return s
	}
	return strings.TrimRight(strings.TrimRight(s, "0"), ".")
}
