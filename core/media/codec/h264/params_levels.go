package h264

import (
	"fmt"
	"math"

	"vividstrain/core/media"
)

// levelLimit is a row of table A-1.
type levelLimit struct {
	idc                 int // 9 is level 1b
	mbsSecond, mbsFrame int // macroblocks
	dpb                 int // macroblocks
	kbits               int64
	vertical            int // MaxVmvR in samples of a frame
}

var levelLimits = []levelLimit{
	{10, 1485, 99, 396, 64, 64}, {9, 1485, 99, 396, 128, 64},
	{11, 3000, 396, 900, 192, 128}, {12, 6000, 396, 2376, 384, 128}, {13, 11880, 396, 2376, 768, 128},
	{20, 11880, 396, 2376, 2000, 128}, {21, 19800, 792, 4752, 4000, 256}, {22, 20250, 1620, 8100, 4000, 256},
	{30, 40500, 1620, 8100, 10000, 256}, {31, 108000, 3600, 18000, 14000, 512}, {32, 216000, 5120, 20480, 20000, 512},
	{40, 245760, 8192, 32768, 20000, 512}, {41, 245760, 8192, 32768, 50000, 512}, {42, 522240, 8704, 34816, 50000, 512},
	{50, 589824, 22080, 110400, 135000, 512}, {51, 983040, 36864, 184320, 240000, 512}, {52, 2073600, 36864, 184320, 240000, 512},
	{60, 4177920, 139264, 696320, 240000, 8192}, {61, 8355840, 139264, 696320, 480000, 8192}, {62, 16711680, 139264, 696320, 800000, 8192},
}

// writtenLevels are the levels that the encoder writes: from 1.1 on.
var writtenLevels = levelLimits[2:]

// levelFor returns the level that the encoder states for a format, 0 where none allows it.
func levelFor(s *sps, f *media.Format) int {
	level := lowestLevel(writtenLevels, s, f)
	if level == 0 && !f.Interlaced {
		level = 62 // unlimited: the highest level
	}
	return level
}

// formatLevel returns the name of the lowest level that allows a format, "" where none does.
func formatLevel(f media.Format) string { return levelName(lowestLevel(levelLimits, formatSPS(f), &f)) }

// lowestLevel returns the first level that allows the size, frame rate, reference frames and
// bitrate, 0 where none does. Interlaced video is allowed from 2.1 to 4.1 only.
func lowestLevel(levels []levelLimit, s *sps, f *media.Format) int {
	mbs := s.mbWidth * s.mbHeight
	factor := map[int]float64{100: 1.25, 110: 3, 122: 4, 244: 4}[s.profile] // cpbBrVclFactor / 1000 (table A-2)
	for _, l := range levels {
		fits := mbs <= l.mbsFrame && float64(mbs)*f.Rate.Hz() <= float64(l.mbsSecond) && mbs*max(s.maxRefFrames, 1) <= l.dpb &&
			float64(f.Bitrate) <= factor*1000*float64(l.kbits) && max(s.mbWidth, s.mbHeight) <= int(math.Sqrt(float64(8*l.mbsFrame)))
		if fits && (!f.Interlaced || l.idc >= 21 && l.idc <= 41) { // frame_mbs_only_flag, table A-4
			return l.idc
		}
	}
	return 0
}

// levelName returns the usual name of a level_idc, "" for 0.
func levelName(idc int) string {
	switch {
	case idc == 0:
		return ""
	case idc == 9:
		return "1b"
	case idc%10 == 0:
		return fmt.Sprint(idc / 10)
	}
	return fmt.Sprintf("%d.%d", idc/10, idc%10)
}
