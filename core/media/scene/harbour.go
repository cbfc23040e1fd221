package scene

import "math"

// harbour is a harbour at night: a town that pans slowly, a searchlight and a
// ferry that sweep fast, water that glitters, and a window into which the view
// zooms.
type harbour struct {
	s      *Stage
	town   *texture // from the horizon up
	waves  *texture
	clouds *texture
	tint   *texture
}

// horizon is where the water begins, in picture heights from the top.
const horizon = 0.56

// townHeight is the height of the part of the picture that houses may fill.
const townHeight = 0.32

func newHarbour(s *Stage) view {
	seed := s.order.Seed
	h := &harbour{s: s}
	rows := int(townHeight*float64(s.height)) + 1
	const span = 4.4
	street := newStreet(s, span, seed)
	h.town = newTexture(s, rows, span, func(l line, row int) { street.draw(l, (float64(row)+0.5)/float64(s.height)) })
	h.waves = newTexture(s, 288, 4, func(l line, row int) {
		l.smooth(70, 48, float64(row)/18, 16, seed+1)
		l.smooth(50, 240, float64(row)/6, 48, seed+2)
	})
	h.clouds = newTexture(s, 144, 4, func(l line, row int) {
		l.smooth(80, 12, float64(row)/48, 3, seed+3)
		l.smooth(30, 60, float64(row)/12, 12, seed+4)
	})
	h.tint = newTexture(s, 96, 4, func(l line, row int) { l.smooth(100, 20, float64(row)/24, 4, seed+5) })
	return h
}

// street is a row of houses.
type street struct {
	houses []uint32 // what each is like
	kinds  []uint16 // for each position along the street, four per column: house*places + the place within the house
}

// Places within a house: outside the columns of windows and in each of them, and both again for
// positions under a mast.
const (
	columns = 1 + 8
	places  = 2 * columns
)

func newStreet(s *Stage, span float64, seed uint32) street {
	const house = 0.11 // picture heights
	st := street{kinds: make([]uint16, phases*int(span*float64(s.height)))}
	for i := range st.kinds {
		u := float64(i) / float64(len(st.kinds)) * span / house
		number := math.Floor(u)
		inside := u - number
		column := inside * 8
		place := 0
		if column-math.Floor(column) > 0.45 && inside > 0.06 && inside < 0.94 {
			place = 1 + int(column)
		}
		if inside > 0.48 && inside < 0.52 {
			place += columns
		}
		if len(st.houses) <= int(number) {
			st.houses = append(st.houses, hash(uint32(number)+seed))
		}
		st.kinds[i] = uint16(int(number)*places + place)
	}
	return st
}

// draw adds the brightness at the height up above the horizon.
func (st *street) draw(l line, up float64) {
	values := make([]float32, len(st.houses)*places)
	storey := up * 70
	for i, n := range st.houses {
		house := values[i*places:][:places]
		roof := 0.06 + 0.22*float64(n&255)/255
		for place := range house {
			column, mast := place%columns, place >= columns
			switch {
			case up > roof && mast && n>>8&3 == 0 && up < roof+0.04:
				house[place] = 90
			case up > roof:
				house[place] = noHouse
			case column > 0 && storey-math.Floor(storey) > 0.4 && hash(n+uint32(column-1)*37+uint32(storey)*4099)&3 == 0:
				house[place] = 120
			default:
				house[place] = -100 + 12*float32(n>>10&3)
			}
		}
	}
	for i, kind := range st.kinds {
		l.values[i] += values[kind]
	}
}

// where returns the left edge of the view at time t.
func (h *harbour) where(t float64) float64 { return 0.04*t + 1.7*float64(camera(t)) }

func (h *harbour) row(c *canvas, y int, t float64) {
	at := (float64(y) + 0.5) / float64(h.s.height)
	left := h.where(t)
	if at < horizon {
		c.colour = [2]int16{150 << 4, 116 << 4}
		c.tint = h.tint.at(h.s, int(at*180), left/2+0.1*t)
		c.layers(black+128+int(900*at), nil, h.clouds.at(h.s, int(at*240), left/4+0.02*t), 10, nil, 0)
		if row := int((horizon - at) * float64(h.s.height)); at > horizon-townHeight {
			overlay(c.line, h.town.at(h.s, row, left))
		}
		h.light(c, at, t)
		return
	}
	depth := (at - horizon) / (1 - horizon)
	c.colour = [2]int16{138 << 4, 112 << 4}
	c.tint = h.tint.at(h.s, int(at*270), -left-0.2*t)
	near := int(depth * 270)
	c.layers(black+480+int(400*depth), nil, h.waves.at(h.s, near+int(t*93), left*2+t*0.3), 4+int(10*depth),
		h.waves.at(h.s, near+150-int(t*51), -left-t*0.21), 4+int(8*depth))
	h.light(c, at, t)
}

// noHouse marks where the sky is visible between houses.
const noHouse = -127

// overlay puts the houses in front of the sky.
func overlay(line []int16, town []int8) {
	town = town[:len(line)]
	n := overlayFast(line, town)
	for x, v := range town[n:] {
		if v != noHouse {
			line[n+x] = 2000 + int16(v)*13
		}
	}
}

// brightest is what the searchlight adds in the middle of its beam.
const brightest = 2600

// light adds the searchlight, a highlight in the middle of its beam.
func (h *harbour) light(c *canvas, at, t float64) {
	const wide = 0.07
	u := math.Mod(t*1.3, 2.4) - 0.3 + 0.1*(at-0.5)
	x0, x1 := c.column(u-wide), c.column(u+wide)
	middle := u * float64(h.s.height)
	fall := brightest / (wide * float64(h.s.height))
	beam(c.line[x0:max(x0, x1)], x0, middle, fall)
}

// beam adds light to the values from column x on, less by fall for each column between the middle and them.
func beam(line []int16, x int, middle, fall float64) {
	n := lightFast(line, float64(x), middle, fall)
	for i := n; i < len(line); i++ {
		line[i] += int16(brightest - fall*math.Abs(float64(x+i)+0.5-middle))
	}
}

func (h *harbour) objects(c *canvas, t float64) {
	wide := float64(h.s.width) / float64(h.s.height)
	left := math.Mod(t, 2)/2*(wide+0.5) - 0.45
	c.rect(left, 0.60, 0.42, 0.05, 60<<4)
	c.rect(left+0.05, 0.55, 0.30, 0.05, 200<<4)
	c.rect(left+0.12, 0.49, 0.04, 0.06, 120<<4)
	for i := range 9 {
		c.rect(left+0.07+0.03*float64(i), 0.565, 0.015, 0.015, black)
	}
	h.sparks(c, t)
	h.zoom(c, t, wide)
}

// sparks are fireworks: every second a burst flies apart and falls.
func (h *harbour) sparks(c *canvas, t float64) {
	burst := uint32(t)
	age := t - math.Floor(t)
	u, v := 0.3+unit(burst*3+h.s.order.Seed), 0.12+0.15*unit(burst*3+1)
	for i := range uint32(60) {
		angle, speed := 2*math.Pi*unit(burst*101+i), 0.05+0.2*unit(burst*103+i)
		x := u + speed*age*math.Cos(angle)
		y := v + speed*age*math.Sin(angle) + 0.12*age*age
		c.disc(x, y, 0.004*(1-age)+0.001, int(highest*(1-0.7*age)))
	}
}

// zoom shows a part of the town through a window, from near and from far.
func (h *harbour) zoom(c *canvas, t, wide float64) {
	const u, v, size = 0.08, 0.62, 0.30
	scale := 0.4 + 0.35*math.Sin(t*0.9) // town heights to a window height
	x0, x1, y0, y1 := c.column(wide-u-size), c.column(wide-u), c.row(v), c.row(v+size)
	if x1-x0 < 8 {
		return
	}
	c.rect(wide-u-size-0.008, v-0.008, size+0.016, size+0.016, 2800)
	town := h.town.rows[0]
	from := h.where(t) + 0.5
	height := float64(h.s.height)
	places := c.places[:x1-x0]
	for i := range places {
		place := int((from + (float64(i)/float64(len(places))-0.5)*scale*townHeight) * height)
		places[i] = int32(wrapped(place, h.town.period))
	}
	line, drawn := c.line[:x1-x0], -1
	for y := y0; y < y1; y++ {
		if (y-c.first)%c.step != 0 {
			continue
		}
		up := townHeight * (0.5 + (0.5-float64(y-y0)/float64(y1-y0))*scale)
		if row := max(0, min(int(up*height), len(town)-1)); row != drawn { // from near, rows are seen several times
			drawn = row
			values := town[row]
			for i, place := range places {
				line[i] = 500
				if b := values[place]; b != noHouse {
					line[i] = 2000 + int16(b)*13
				}
			}
		}
		c.copy(x0, y, line)
	}
}
