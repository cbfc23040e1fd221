package scene

import "math"

// kelp is a kelp forest: stalks that sway, beams of light from above, bubbles that rise and
// grow, and a school of fish that turns as one.
type kelp struct {
	s      *Stage
	stalks *texture
	leaves *texture
	beams  *texture
	tint   *texture
}

func newKelp(s *Stage) view {
	seed := s.order.Seed
	k := &kelp{s: s}
	k.stalks = newTexture(s, 1, 4, func(l line, _ int) {
		l.each(func(u float64) float64 {
			cell := u * 9
			d := math.Abs(cell - math.Floor(cell) - 0.3 - 0.4*unit(uint32(cell)+seed))
			return -110*math.Exp(-d*d*260) - 40*math.Exp(-d*d*20)
		})
	})
	k.leaves = newTexture(s, 384, 4, func(l line, row int) {
		l.smooth(70, 160, float64(row)/12, 32, seed+21)
		l.smooth(40, 440, float64(row)/6, 64, seed+22)
	})
	k.beams = newTexture(s, 1, 4, func(l line, _ int) {
		l.smooth(100, 24, 0, 1, seed+23)
		l.smooth(27, 80, 0, 1, seed+24)
	})
	k.tint = newTexture(s, 96, 4, func(l line, row int) { l.smooth(100, 24, float64(row)/24, 4, seed+25) })
	return k
}

func (k *kelp) row(c *canvas, y int, t float64) {
	at := (float64(y) + 0.5) / float64(k.s.height)
	c.colour = [2]int16{int16(120-16*at) << 4, int16(112-8*at) << 4}
	drift := 0.08*t + 1.3*float64(camera(t))
	c.tint = k.tint.at(k.s, int(at*120), drift+0.2*at)
	sway := 0.09 * (1 - at) * math.Sin(t*1.3+at*4)
	c.layers(black+2100-int(1500*at), nil, k.beams.at(k.s, 0, drift/3+0.5*at+0.15*math.Sin(t*0.5)), int(16*(1-at)),
		k.leaves.at(k.s, int(at*360)+int(t*27), drift+2*sway), 6)
	mix(c.line, 0, c.line, k.stalks.at(k.s, 0, drift+sway), 8, k.stalks.at(k.s, 0, 1.9*drift-2*sway+0.37), 14)
}

func (k *kelp) objects(c *canvas, t float64) {
	wide := float64(k.s.width) / float64(k.s.height)
	for i := range uint32(70) {
		speed := 0.12 + 0.3*unit(i*5+k.s.order.Seed)
		way := t*speed + unit(i*7)
		rise := way - math.Floor(way)
		n := i*11 + uint32(way)*13
		u := unit(n)*wide + 0.02*math.Sin(t*5+float64(i))
		c.ring(u, 1.02-1.05*rise, (0.004+0.014*unit(n+1))*(0.4+rise), 3000+int(3000*unit(n+2)))
	}
	turn := math.Sin(t * 0.7)
	for i := range uint32(48) {
		u := wide/2 + 0.6*turn + 0.5*(unit(i*17)-0.5) + 0.02*math.Sin(t*7+float64(i))
		v := 0.55 + 0.25*(unit(i*19)-0.5) + 0.1*math.Sin(t*1.1)
		c.rect(u, v, 0.03, 0.008, 3200)
		c.rect(u+0.03*math.Copysign(0.5, -turn)+0.01, v-0.006, 0.008, 0.02, 2300)
	}
}
