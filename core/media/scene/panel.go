package scene

// drawPanel writes the time and the frame number on a dark ground.
func drawPanel(c *canvas, frame int, t float64) {
	const digit, gap = 0.075, 0.03 // width of a digit and the space after it
	c.rect(0.06, 0.10, 6*(digit+gap)+0.01, 0.20, black+6)
	x := 0.08
	for place := 100_000; place > 0; place /= 10 {
		drawDigit(c, x, 0.12, digit, 0.16, frame/place%10)
		x += digit + gap
	}
	ms := int(t * 1000)
	c.rect(0.06, 0.31, 7*0.06+2*0.03+0.02, 0.10, black+6)
	x = 0.08
	for i, place := range []int{600_000, 60_000, 10_000, 1000, 100, 10, 1} {
		value := ms / place % 10
		if i == 0 || i == 2 {
			value = ms / place % 6
		}
		drawDigit(c, x, 0.325, 0.04, 0.07, value)
		x += 0.06
		if i == 1 || i == 3 {
			c.rect(x, 0.38, 0.012, 0.015, white)
			if i == 1 {
				c.rect(x, 0.34, 0.012, 0.015, white)
			}
			x += 0.03
		}
	}
}

// segments of the digits 0 to 9: one bit each for top, upper right, lower
// right, bottom, lower left, upper left, middle.
var segments = [10]byte{0x3F, 0x06, 0x5B, 0x4F, 0x66, 0x6D, 0x7D, 0x07, 0x7F, 0x6F}

// drawDigit draws a digit of seven segments.
func drawDigit(c *canvas, x, y, w, h float64, value int) {
	bar := w / 4
	for i, s := range [7][4]float64{
		{0, 0, w, bar}, {w - bar, 0, bar, h / 2}, {w - bar, h / 2, bar, h / 2}, {0, h - bar, w, bar},
		{0, h / 2, bar, h / 2}, {0, 0, bar, h / 2}, {0, (h - bar) / 2, w, bar},
	} {
		if segments[value]>>i&1 != 0 {
			c.rect(x+s[0], y+s[1], s[2], s[3], white)
		}
	}
}
