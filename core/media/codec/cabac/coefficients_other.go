//go:build !amd64

package cabac

func (c *Decoder) coefficients(coded int, t *Contexts, scan []uint8, out, scale []int32, shift uint) int {
	return c.coefficientsGo(coded, t, scan, out, scale, shift)
}

func (c *Decoder) flags(contexts *[16]uint8, base, first, last int) uint {
	return c.flagsGo(contexts, base, first, last)
}
