package scene

import "math"

// rain is rain on deck: planks that shine, drops that fall and rings where they
// hit, a lantern that swings, and lightning.
type rain struct {
	s      *Stage
	planks *texture
	shine  *texture
	tint   *texture
}

const rail = 0.38 // where the deck begins

func newRain(s *Stage) view {
	seed := s.order.Seed
	r := &rain{s: s}
	r.planks = newTexture(s, 192, 4, func(l line, row int) {
		l.smooth(40, 360, float64(row)/16, 12, seed+11)
		l.each(func(u float64) float64 {
			plank := u * 14
			if plank-math.Floor(plank) < 0.06 {
				return -80
			}
			return 30 * (unit(uint32(plank)+seed) - 0.5)
		})
	})
	r.shine = newTexture(s, 288, 4, func(l line, row int) {
		l.smooth(60, 80, float64(row)/9, 32, seed+12)
		l.smooth(60, 32, float64(row)/24, 12, seed+13)
	})
	r.tint = newTexture(s, 96, 4, func(l line, row int) { l.smooth(90, 16, float64(row)/24, 4, seed+14) })
	return r
}

// flash returns the brightness of lightning, 0 to 1.
func flash(t float64) float64 {
	age := math.Mod(t, 3.7)
	if age > 0.4 {
		return 0
	}
	return math.Exp(-age*9) * (0.6 + 0.4*math.Cos(age*70))
}

func (r *rain) row(c *canvas, y int, t float64) {
	at := (float64(y) + 0.5) / float64(r.s.height)
	light := int(1800 * flash(t))
	roll := 0.05*math.Sin(t*0.8) + 0.9*float64(camera(t))
	c.tint = r.tint.at(r.s, int(at*160), roll+0.05*t)
	if at < rail {
		c.colour = [2]int16{136 << 4, 122 << 4}
		c.layers(black+200+int(700*at)+light, nil, r.shine.at(r.s, int(at*180)+int(t*18), roll+0.15*t), 6, nil, 0)
		return
	}
	c.colour = [2]int16{118 << 4, 134 << 4}
	depth := (at - rail) / (1 - rail)
	c.layers(black+700+int(700*depth)+light/2, nil, r.planks.at(r.s, int(depth*180), roll*(0.4+depth)+0.02*t), 8+int(4*depth),
		r.shine.at(r.s, int(depth*270)+int(t*69), roll-0.11*t), 5+int(9*depth))
}

func (r *rain) objects(c *canvas, t float64) {
	wide := float64(r.s.width) / float64(r.s.height)
	c.rect(0, rail-0.012, wide, 0.024, 2600)
	for i := range 12 {
		c.rect(math.Mod(float64(i)*0.17+0.05*math.Sin(t*0.8)+0.01, wide), rail, 0.008, 0.09, 500)
	}
	swing := 0.16 * math.Sin(t*1.9)
	u, v := wide*0.7+swing, 0.16+0.03*math.Cos(t*3.8)
	c.disc(u, v, 0.055, 3300)
	c.disc(u, v, 0.03, highest)
	r.drops(c, t, wide)
}

// drops draws the falling rain, each drop as a streak, and rings on the deck.
func (r *rain) drops(c *canvas, t, wide float64) {
	for i := range uint32(220) {
		lane, speed := unit(i*5+r.s.order.Seed), 1.1+0.9*unit(i*7)
		way := t*speed + unit(i*11)
		fall := math.Mod(way, 1)
		u := math.Mod(lane+0.37*unit(i*13+uint32(way)*17), 1)*wide + 0.05*fall
		v := fall * 1.1
		c.rect(u, v-0.035, 0.0024, 0.035, 2200+int(1200*unit(i*19)))
	}
	for i := range uint32(26) {
		way := t*1.7 + unit(i*23)
		n := i*29 + uint32(way)*31
		age := way - math.Floor(way)
		u, v := unit(n)*wide, rail+0.06+(0.9-rail)*unit(n+1)
		c.ring(u, v, 0.05*age+0.004, int(1500*(1-age))+1500)
	}
}
