package eye

import (
	"cmp"
	"image"
	"math"
	"slices"

	"gonum.org/v1/gonum/mat"

	"vividstrain/core/media/scene"
)

// Upright turns images in which a picture is seen at an angle into ones in which it is upright, with a
// margin around it.
type Upright struct {
	from    []int32 // the byte of the image for each pixel, -1 where there is none
	turned  Image
	corners [4]point // of the picture in the image
}

type point struct{ x, y float64 }

// sign is a corner sign: its middle, and a fifth of its side.
type sign struct {
	point
	unit float64
	rows int // in which it was seen
}

// Where the middle of the first corner sign is in the picture, in its width and height. It need not be
// exact: the marks are looked for in the upright image. margin is what is around the picture in that.
const (
	signX  = 0.01
	signY  = 0.03
	margin = 0.06
)

// Bounds on looking for corner signs: the smallest fifth of a side, in pixels; how many signs, and how many
// groups of four of them are tried; how much of the image they surround; the size of the upright image.
const (
	leastUnit   = 1.4
	maxSigns    = 14
	maxGroups   = 4
	leastShare  = 0.02
	maxUpright  = 2560
	maxRatio    = 2.5 // of the sizes of a picture's signs
	manySigns   = 400 // patterns in rows that may be signs
	uprightRoom = 1.02
)

// findAngled looks for a picture by its corner signs. It returns no Upright where there is none.
func findAngled(m *Image) (p Place, mark scene.Mark, u *Upright) {
	for _, four := range groups(findSigns(m), m) {
		u := newUpright(m, four)
		if u == nil {
			continue
		}
		if p, mark, ok := find(u.Turn(m), scene.Strips[:1]); ok {
			return p, mark, u
		}
	}
	return p, mark, nil
}

// Turn returns the upright image, which is valid until the next call.
func (u *Upright) Turn(m *Image) *Image {
	for i, from := range u.from {
		if u.turned.Pix[i] = 0; from >= 0 {
			u.turned.Pix[i] = m.Pix[from]
		}
	}
	return &u.turned
}

// Bounds returns the smallest rectangle of the image that has the whole picture.
func (u *Upright) Bounds() (r image.Rectangle) {
	for _, c := range u.corners {
		r = r.Union(image.Rect(int(c.x), int(c.y), int(c.x)+1, int(c.y)+1))
	}
	return r
}

// findSigns finds squares of black, white, black: in rows by the lengths of their parts, then in the column
// of their middle.
func findSigns(m *Image) (list []sign) {
	window := max(8, m.Width/24)
	sums := make([]int, m.Width+1)
	var ends []int // of runs of one colour, black first
	for y := range m.Height {
		for x := range m.Width {
			sums[x+1] = sums[x] + m.at(x, y)
		}
		ends = ends[:0]
		white := false
		for x := range m.Width { // white is brighter than what is around it
			a, b := max(x-window, 0), min(x+window+1, m.Width)
			if now := m.at(x, y)*(b-a) > sums[b]-sums[a]; now != white {
				ends, white = append(ends, x), now
			}
		}
		ends = append(ends, m.Width)
		for i := 1 + len(ends)%2; i+3 < len(ends); i++ {
			if s, ok := signAt(m, ends, i, y); ok {
				list = addSign(list, s)
			}
		}
	}
	list = slices.DeleteFunc(list, func(s sign) bool { return s.rows < 2 })
	slices.SortFunc(list, func(a, b sign) int { return b.rows - a.rows })
	return list[:min(len(list), maxSigns)]
}

// alike reports whether a length is about one unit.
func alike(n int, unit float64) bool { return math.Abs(float64(n)-unit) <= max(1, 0.5*unit) }

// signAt returns the sign whose white, black and white parts are the runs that end at ends[i] to ends[i+2].
func signAt(m *Image, ends []int, i, y int) (s sign, ok bool) {
	start, left, right, end := ends[i-1], ends[i], ends[i+1], ends[i+2]
	unit := float64(end-start) / 3
	if unit < leastUnit || !alike(left-start, unit) || !alike(right-left, unit) || !alike(end-right, unit) {
		return s, false
	}
	x := (left + right) / 2
	dark, bright := m.at(x, y), (m.at((start+left)/2, y)+m.at((right+end)/2, y))/2
	if bright-dark < leastContrast {
		return s, false
	}
	middle := (dark + bright) / 2
	var reach [2][2]int // rows of black, then of white, upwards and downwards
	for k, step := range [2]int{-1, 1} {
		at := y
		for part := range 2 {
			for at+step >= 0 && at+step < m.Height && (m.at(x, at+step) > middle) == (part == 1) {
				reach[k][part]++
				at += step
			}
		}
	}
	high := reach[0][0] + reach[1][0] + 1
	tall := float64(high+reach[0][1]+reach[1][1]) / 3
	if tall < leastUnit || tall > 3*unit || unit > 3*tall || !alike(high, tall) || !alike(reach[0][1], tall) || !alike(reach[1][1], tall) {
		return s, false
	}
	return sign{point{float64(left+right-1) / 2, float64(y) + float64(reach[1][0]-reach[0][0])/2}, unit, 1}, true
}

// addSign adds a sign, or a row of one that is known.
func addSign(list []sign, s sign) []sign {
	for i := range list {
		known := &list[i]
		if math.Hypot(known.x-s.x, known.y-s.y) < 1.5*known.unit {
			n := float64(known.rows)
			known.x, known.y, known.unit = (n*known.x+s.x)/(n+1), (n*known.y+s.y)/(n+1), (n*known.unit+s.unit)/(n+1)
			known.rows++
			return list
		}
	}
	if len(list) == manySigns {
		return list
	}
	return append(list, s)
}

// groups returns groups of four signs that may be those of a picture, the largest ones first, each in the
// order left above, right above, right below, left below.
func groups(list []sign, m *Image) (found [][4]point) {
	area := func(p [4]point) (sum float64) { // negative where they do not go around clockwise
		for i := range p {
			q := p[(i+1)%4]
			sum += p[i].x*q.y - q.x*p[i].y
		}
		return sum / 2
	}
	n := len(list)
	for a := range n {
		for b := a + 1; b < n; b++ {
			for c := b + 1; c < n; c++ {
				for d := c + 1; d < n; d++ {
					four := [4]sign{list[a], list[b], list[c], list[d]}
					if units := []float64{four[0].unit, four[1].unit, four[2].unit, four[3].unit}; slices.Max(units) > maxRatio*slices.Min(units) {
						continue
					}
					slices.SortFunc(four[:], func(p, q sign) int { return cmp.Compare(p.y, q.y) })
					if four[0].x > four[1].x {
						four[0], four[1] = four[1], four[0]
					}
					if four[3].x > four[2].x {
						four[2], four[3] = four[3], four[2]
					}
					p := [4]point{four[0].point, four[1].point, four[2].point, four[3].point}
					if area(p) > leastShare*float64(m.Width*m.Height) && isConvex(p) {
						found = append(found, p)
					}
				}
			}
		}
	}
	slices.SortFunc(found, func(p, q [4]point) int { return cmp.Compare(area(q), area(p)) })
	return found[:min(len(found), maxGroups)]
}

func isConvex(p [4]point) bool {
	for i := range p {
		a, b, c := p[i], p[(i+1)%4], p[(i+2)%4]
		if (b.x-a.x)*(c.y-b.y)-(b.y-a.y)*(c.x-b.x) <= 0 {
			return false
		}
	}
	return true
}

// newUpright prepares to turn images in which the corner signs are at p; nil where they are in a line.
func newUpright(m *Image, p [4]point) *Upright {
	place := homography([4]point{{signX, signY}, {1 - signX, signY}, {1 - signX, 1 - signY}, {signX, 1 - signY}}, p)
	if place == nil {
		return nil
	}
	side := func(i int) float64 { q := p[(i+1)%4]; return math.Hypot(p[i].x-q.x, p[i].y-q.y) }
	width := min(int(uprightRoom*max(side(0), side(2))*(1+2*margin)), maxUpright)
	height := min(int(uprightRoom*max(side(1), side(3))*(1+2*margin)), maxUpright)
	u := &Upright{from: make([]int32, width*height), turned: Image{Pix: make([]byte, width*height), Width: width, Height: height, Stride: width, Step: 1}}
	for y := range height {
		v := (float64(y)+0.5)/float64(height)*(1+2*margin) - margin
		for x := range width {
			at := place((float64(x)+0.5)/float64(width)*(1+2*margin)-margin, v)
			u.from[y*width+x] = -1
			if at.x >= 0 && at.y >= 0 && at.x < float64(m.Width) && at.y < float64(m.Height) {
				u.from[y*width+x] = int32(int(at.y)*m.Stride + int(at.x)*m.Step + m.Offset)
			}
		}
	}
	for i, c := range [4]point{{0, 0}, {1, 0}, {1, 1}, {0, 1}} {
		u.corners[i] = place(c.x, c.y)
	}
	return u
}

// homography returns the projective mapping that takes four points to four others; nil where there is none.
func homography(from, to [4]point) func(x, y float64) point {
	a, b := mat.NewDense(8, 8, nil), mat.NewVecDense(8, nil)
	for i := range from {
		x, y, u, v := from[i].x, from[i].y, to[i].x, to[i].y
		a.SetRow(2*i, []float64{x, y, 1, 0, 0, 0, -u * x, -u * y})
		a.SetRow(2*i+1, []float64{0, 0, 0, x, y, 1, -v * x, -v * y})
		b.SetVec(2*i, u)
		b.SetVec(2*i+1, v)
	}
	var h mat.VecDense
	if h.SolveVec(a, b) != nil {
		return nil
	}
	k := h.RawVector().Data
	return func(x, y float64) point {
		w := k[6]*x + k[7]*y + 1
		return point{(k[0]*x + k[1]*y + k[2]) / w, (k[3]*x + k[4]*y + k[5]) / w}
	}
}
