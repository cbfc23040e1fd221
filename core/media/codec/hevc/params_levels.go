package hevc

import (
	"fmt"

	"vividstrain/core/media"
	"vividstrain/core/media/picture"
)

// levelLimit is a row of tables A.8 and A.9.
type levelLimit struct {
	idc     int // general_level_idc
	samples int // luma samples of a picture
	rate    float64
	main    float64 // kbit/s of the Main tier
	high    float64 // of the High tier, 0 where there is none
}

var levelLimits = []levelLimit{
	{30, 36864, 552960, 128, 0}, {60, 122880, 3686400, 1500, 0}, {63, 245760, 7372800, 3000, 0},
	{90, 552960, 16588800, 6000, 0}, {93, 983040, 33177600, 10000, 0},
	{120, 2228224, 66846720, 12000, 30000}, {123, 2228224, 133693440, 20000, 50000},
	{150, 8912896, 267386880, 25000, 100000}, {153, 8912896, 534773760, 40000, 160000}, {156, 8912896, 1069547520, 60000, 240000},
	{180, 35651584, 1069547520, 60000, 240000}, {183, 35651584, 2139095040, 120000, 480000}, {186, 35651584, 4278190080, 240000, 800000},
}

// lowestLevel returns the first level whose picture size, sample rate, picture buffer and bitrate allow
// a format with so many pictures in the buffer, and whether it takes the High tier. ok is false where
// no level does.
func lowestLevel(s *sps, f *media.Format) (level int, high, ok bool) {
	size := s.width * s.height
	kbits := float64(f.Bitrate) / 1000 // CpbBrVclFactor of Main and Main 10 (table A.10)
	if s.profile == profileRange {
		kbits /= 1.667
	}
	for _, l := range levelLimits {
		if size > l.samples || float64(size)*f.Rate.Hz() > l.rate || s.maxDec > maxDPBSize(size, l.samples) ||
			s.width*s.width > 8*l.samples || s.height*s.height > 8*l.samples {
			continue
		}
		if kbits <= l.main {
			return l.idc, false, true
		}
		if kbits <= l.high {
			return l.idc, true, true
		}
	}
	return 186, true, false
}

// maxDPBSize is MaxDpbSize (A.4.2).
func maxDPBSize(size, limit int) int {
	switch {
	case size <= limit>>2:
		return 16
	case size <= limit>>1:
		return 12
	case size <= 3*limit>>2:
		return 8
	}
	return 6
}

// formatLevel returns the name of the lowest level that allows a format, "" where none does.
func formatLevel(f media.Format) string {
	level, high, ok := lowestLevel(formatSPS(f), &f)
	switch {
	case !ok:
		return ""
	case high:
		return levelText(level) + " High"
	}
	return levelText(level)
}

// levelText returns the name of a general_level_idc: 30 times the level.
func levelText(level int) string {
	if level%30 == 0 {
		return fmt.Sprint(level / 30)
	}
	return fmt.Sprintf("%d.%d", level/30, level%30/3)
}

// general_profile_idc (annex A.3).
const (
	profileMain   = 1
	profileMain10 = 2
	profileStill  = 3
	profileRange  = 4
)

// profileName is the name of annex A.3.
func (s *sps) profileName() string {
	switch s.profile {
	case profileMain:
		return "Main"
	case profileMain10:
		return "Main 10"
	case profileStill:
		return "Main Still Picture"
	case profileRange:
		return fmt.Sprintf("%s %d", map[picture.Chroma]string{picture.C400: "Monochrome", picture.C420: "Main", picture.C422: "Main 4:2:2"}[s.chroma], max(s.depth, s.chromaDepth))
	}
	return fmt.Sprintf("profile %d", s.profile)
}
