// Package screen shows pictures in a window.
package screen

import "vividstrain/core/media/picture"

// painter turns pictures into pixels of four bytes: blue, green, red, and one that is not used.
type painter struct {
	scaler *picture.Scaler
	scaled *picture.Picture
	from   picture.Shape
	to     [2]int
}

// paint scales a picture into an image, as large as fits, in its middle.
func (t *painter) paint(pix []byte, width, height int, p *picture.Picture) {
	w, h := fit(p.Width, p.Height, width, height)
	from := picture.Shape{Width: p.Width, Height: p.Height, Depth: p.Depth, Chroma: p.Chroma}
	if t.scaler == nil || t.from != from || t.to != [2]int{w, h} {
		t.from, t.to = from, [2]int{w, h}
		t.scaler = picture.NewScaler(from, picture.Shape{Width: w, Height: h, Depth: 8, Chroma: picture.C420}, picture.AllRows)
		t.scaled = picture.New(w, h, 8, picture.C420)
		clear(pix)
	}
	src := p
	if from.Width != w || from.Height != h || p.Depth != 8 || p.Chroma != picture.C420 {
		t.scaler.Scale(t.scaled, p)
		src = t.scaled
	}
	x0, y0 := (width-w)/2, (height-h)/2
	for y := range h {
		luma := src.Planes[0].Pix[y*src.Planes[0].Stride:][:w]
		cb := src.Planes[1].Pix[y/2*src.Planes[1].Stride:][:(w+1)/2]
		cr := src.Planes[2].Pix[y/2*src.Planes[2].Stride:][:(w+1)/2]
		paintRow(pix[4*((y0+y)*width+x0):][:4*w], luma, cb, cr, &matrices[matrixOf(p.Height)])
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

// paintRow converts a row.
func paintRow(dst, luma, cb, cr []byte, m *matrix) {
	for x, y := range luma {
		v := (int32(y) - 16) * m.y
		b, r := int32(cb[x/2])-128, int32(cr[x/2])-128
		out := dst[4*x:][:4]
		out[0], out[1], out[2] = clip(v+m.blue*b), clip(v-m.greenCb*b-m.greenCr*r), clip(v+m.red*r)
	}
}

func clip(v int32) byte { return byte(max(0, min((v+1<<15)>>16, 255))) }
