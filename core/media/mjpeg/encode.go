package mjpeg

import (
	"image"
	"image/jpeg"

	"vividstrain/core/media/picture"
)

// MinQuality and MaxQuality bound what Encode takes.
const (
	MinQuality = 1
	MaxQuality = 100
)

// Encode appends p, an 8-bit 4:2:0 picture, to b as one JPEG image and returns
// the longer slice. Quality runs from MinQuality (few bits) to MaxQuality.
func Encode(b []byte, p *picture.Picture, quality int) ([]byte, error) {
	y, cb, cr := &p.Planes[0], &p.Planes[1], &p.Planes[2]
	out := sink(b)
	err := jpeg.Encode(&out, &image.YCbCr{
		Y: y.Pix, Cb: cb.Pix, Cr: cr.Pix,
		YStride: y.Stride, CStride: cb.Stride,
		SubsampleRatio: image.YCbCrSubsampleRatio420,
		Rect:           image.Rect(0, 0, p.Width, p.Height),
	}, &jpeg.Options{Quality: quality})
	return out, err
}

// sink is the kind of writer image/jpeg looks for, so that it puts no buffer of
// its own in front of one that is in memory already.
type sink []byte

func (s *sink) Write(p []byte) (int, error) { *s = append(*s, p...); return len(p), nil }
func (s *sink) WriteByte(b byte) error      { *s = append(*s, b); return nil }
func (s *sink) Flush() error                { return nil }
