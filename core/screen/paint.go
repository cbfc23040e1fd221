// Package screen shows pictures in a window.
package screen

import "vividstrain/core/media/picture"

// painter turns pictures into pixels of four bytes: blue, green, red, and one that is not used.
type painter struct {
	native   bool // pictures that fit keep their size
	scaler   *picture.Scaler
	scaled   *picture.Picture
	from, to picture.Shape
}

// paint scales a picture into an image, as large as fits, in its middle.
func (t *painter) paint(pix []byte, width, height int, p *picture.Picture) {
	w, h := fit(p.Width, p.Height, width, height)
	if t.native && p.Width <= width && p.Height <= height {
		w, h = p.Width, p.Height
	}
	src := p
	from, to := picture.Shape{Width: p.Width, Height: p.Height, Depth: p.Depth, Chroma: p.Chroma}, picture.Shape{Width: w, Height: h, Depth: 8, Chroma: picture.C420}
	if from != to {
		if t.scaler == nil || t.from != from || t.to != to {
			t.from, t.to, t.scaler, t.scaled = from, to, picture.NewScaler(from, to, picture.AllRows), picture.New(w, h, 8, picture.C420)
		}
		t.scaler.Scale(t.scaled, p)
		src = t.scaled
	}
	x0, y0 := (width-w)/2, (height-h)/2
	if w < width || h < height {
		clear(pix)
	}
	for y := range h {
		luma := src.Planes[0].Pix[y*src.Planes[0].Stride:][:w]
		cb := src.Planes[1].Pix[y/2*src.Planes[1].Stride:][:(w+1)/2]
		cr := src.Planes[2].Pix[y/2*src.Planes[2].Stride:][:(w+1)/2]
		row, m := pix[4*((y0+y)*width+x0):][:4*w], &matrices[matrixOf(p.Height)]
		done := paintFast(row, luma, cb, cr, m)
		paintRow(row[4*done:], luma[done:], cb[done/2:], cr[done/2:], m)
	}
}

// fit returns the largest size with the proportions of a picture that fits, in even numbers.
func fit(w, h, width, height int) (int, int) {
	if w*height > h*width {
		return width &^ 1, max(2, h*width/w&^1)
	}
	return max(2, w*height/h&^1), height &^ 1
}

// matrix are the factors of conversion from limited range, in 1/65536: those of luma, of Cr to red, of
// Cb and Cr to green, and of Cb to blue (Rec. ITU-R BT.601-7, BT.709-6).
type matrix struct{ y, red, greenCb, greenCr, blue int32 }

var matrices = [2]matrix{{76309, 104597, 25675, 53279, 132201}, {76309, 117489, 13975, 34925, 138438}}

// matrixOf returns which matrix pictures of a height usually have, which are not told it.
func matrixOf(height int) int {
	if height < 720 {
		return 0
	}
	return 1
}

// paintRow converts a row, two pixels at a time, which share their chroma.
func paintRow(dst, luma, cb, cr []byte, m *matrix) {
	n := len(luma) / 2
	cb, cr = cb[:n], cr[:n]
	for i := range n {
		b, r := int32(cb[i])-128, int32(cr[i])-128
		blue, green, red := m.blue*b+1<<15, -m.greenCb*b-m.greenCr*r+1<<15, m.red*r+1<<15
		in, out := luma[2*i:][:2], dst[8*i:][:8]
		v := (int32(in[0]) - 16) * m.y
		out[0], out[1], out[2] = clip(v+blue), clip(v+green), clip(v+red)
		v = (int32(in[1]) - 16) * m.y
		out[4], out[5], out[6] = clip(v+blue), clip(v+green), clip(v+red)
	}
}

// clip returns a value in 1/65536 as a byte.
func clip(v int32) byte {
	if v >>= 16; uint32(v) > 255 {
		return byte(^v >> 31) // 0 below, 255 above
	}
	return byte(v)
}
