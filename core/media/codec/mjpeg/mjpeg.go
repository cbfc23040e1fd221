// Package mjpeg implements video in which every picture is a separate JPEG image (ISO/IEC
// 10918-1 | Rec. ITU-T T.81). Decoding uses image/jpeg: baseline and progressive, in 4:2:0,
// 4:2:2, 4:4:4 and 4:0:0, 8 bits per sample; two fields in one packet are not separated.
// Encoding is its own: baseline, in 4:2:0.
package mjpeg

import (
	"fmt"

	"vividstrain/core/media"
	"vividstrain/core/media/picture"
)

// Name is the codec word.
const Name = "mjpeg"

// Codec describes the format.
var Codec = media.Codec{
	Name: Name, Nicknames: []string{"jpeg", "motion-jpeg"},
	IDs:        media.Identifiers{MP4: []string{"jpeg"}, MP4Object: []byte{0x6C}, Matroska: []string{"V_MJPEG"}},
	IntraOnly:  true,
	NewDecoder: NewDecoder, CheckFormat: CheckFormat,
	NewStillEncoder: func() media.StillEncoder { return new(Encoder) }, MinQuality: MinQuality, MaxQuality: MaxQuality,
	EncoderVersion: 6, // the number that clips of all codecs shared before codecs had their own
}

// CheckFormat returns why the encoder cannot make a format, nil if it can.
func CheckFormat(f media.Format) error {
	switch {
	case f.Interlaced:
		return fmt.Errorf("mjpeg is made progressive only; write %dx%dp%s", f.Width, f.Height, f.Rate)
	case f.Depth != 8:
		return fmt.Errorf("mjpeg has 8 bits a sample, not %d", f.Depth)
	case f.Chroma != picture.C420:
		return fmt.Errorf("mjpeg is made in 4:2:0, not %s", f.Chroma)
	case f.Transfer != media.SDR:
		return fmt.Errorf("mjpeg carries no HDR")
	}
	return nil
}
