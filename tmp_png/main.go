package main

import (
	"context"
	"errors"
	"image"
	"image/png"
	"os"
	"strconv"

	"vividstrain/core/media"
	"vividstrain/core/media/formats"
)

func main() {
	f, err := formats.Open(os.Args[1])
	if err != nil {
		panic(err)
	}
	v, _ := f.Video()
	want, _ := strconv.Atoi(os.Args[2])
	n := 0
	stop := errors.New("x")
	formats.Decode(context.Background(), f, v, 2, func(fr media.Frame) error {
		if n == want {
			m := image.NewYCbCr(image.Rect(0, 0, fr.Width, fr.Height), image.YCbCrSubsampleRatio420)
			for y := range fr.Height {
				for x := range fr.Width {
					m.Y[y*m.YStride+x] = s(fr.Planes[0].Pix, fr.Planes[0].Wide, y*fr.Planes[0].Stride+x, fr.Depth, 16, 219)
				}
			}
			for y := range fr.Height / 2 {
				for x := range fr.Width / 2 {
					m.Cb[y*m.CStride+x] = s(fr.Planes[1].Pix, fr.Planes[1].Wide, y*fr.Planes[1].Stride+x, fr.Depth, 0, 0)
					m.Cr[y*m.CStride+x] = s(fr.Planes[2].Pix, fr.Planes[2].Wide, y*fr.Planes[2].Stride+x, fr.Depth, 0, 0)
				}
			}
			o, _ := os.Create(os.Args[3])
			png.Encode(o, m)
			o.Close()
			return stop
		}
		n++
		return nil
	})
}

func s(p []byte, w []uint16, i, depth, low, span int) byte {
	var v int
	if w != nil {
		v = int(w[i]) >> (depth - 8)
	} else {
		v = int(p[i])
	}
	if span > 0 {
		v = (v - low) * 255 / span
	}
	return byte(max(0, min(v, 255)))
}
