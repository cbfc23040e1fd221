package registry

import (
	"strings"

	"vividstrain/core/media"
)

// namedOnly are codecs that are recognised in containers and playlists, and copied, but neither
// decoded nor encoded here.
var namedOnly = media.Codecs{
	{Name: "mpeg2", IDs: media.Identifiers{MP4Object: []byte{0x61, 0x60, 0x62, 0x63, 0x64, 0x65}, Matroska: []string{"V_MPEG2"}, TS: []byte{0x02}}},
	{Name: "vp8", IDs: media.Identifiers{MP4: []string{"vp08"}, Matroska: []string{"V_VP8"}}},
	{Name: "vp9", IDs: media.Identifiers{MP4: []string{"vp09"}, Matroska: []string{"V_VP9"}},
		ParseCodecString: func(s string) (media.Format, bool) { return entry(s, "vp9", 8, "vp09") }},
	{Name: "av1", IDs: media.Identifiers{MP4: []string{"av01"}, Matroska: []string{"V_AV1"}},
		ParseCodecString: func(s string) (media.Format, bool) { return entry(s, "av1", 8, "av01") }},
	{Name: "mpeg1", IDs: media.Identifiers{MP4Object: []byte{0x6A}, Matroska: []string{"V_MPEG1"}, TS: []byte{0x01}}},
	{Name: "mpeg4", IDs: media.Identifiers{MP4Object: []byte{0x20}, Matroska: []string{"V_MPEG4/ISO/ASP"}, NeedsConfig: true}},

	{Name: "opus", Kind: media.Audio, IDs: media.Identifiers{MP4: []string{"Opus"}, MP4Config: "dOps", Matroska: []string{"A_OPUS"}}},
	{Name: "ac3", Kind: media.Audio, IDs: media.Identifiers{MP4: []string{"ac-3"}, Matroska: []string{"A_AC3"}, TS: []byte{0x81}}},
	{Name: "eac3", Kind: media.Audio, IDs: media.Identifiers{MP4: []string{"ec-3"}, Matroska: []string{"A_EAC3"}, TS: []byte{0x87}}},
	{Name: "mp3", Kind: media.Audio, IDs: media.Identifiers{MP4: []string{".mp3"}, MP4Object: []byte{0x6B, 0x69}, Matroska: []string{"A_MPEG/L3"}, TS: []byte{0x03, 0x04}}},
	{Name: "flac", Kind: media.Audio, IDs: media.Identifiers{MP4: []string{"fLaC"}, Matroska: []string{"A_FLAC"}, NeedsConfig: true}},
	{Name: "vorbis", Kind: media.Audio, IDs: media.Identifiers{Matroska: []string{"A_VORBIS"}, NeedsConfig: true}},
	{Name: "dts", Kind: media.Audio, IDs: media.Identifiers{Matroska: []string{"A_DTS"}, TS: []byte{0x82}}},
	{Name: "truehd", Kind: media.Audio, IDs: media.Identifiers{Matroska: []string{"A_TRUEHD"}}},
	{Name: "pcm", Kind: media.Audio, IDs: media.Identifiers{Matroska: []string{"A_PCM/INT/LIT"}, NeedsConfig: true}},
}

// entry returns a format of a codec if s begins with the name of one of its sample entries.
func entry(s, codec string, depth int, entries ...string) (f media.Format, ok bool) {
	first, _, _ := strings.Cut(s, ".")
	for _, e := range entries {
		if e == first {
			return media.Format{Codec: codec, Depth: depth, Transfer: media.SDR}, true
		}
	}
	return f, false
}
