//go:build !amd64

package cabac

func (c *Decoder) coefficients(coded int, t *Contexts, scan []uint8, out, scale []int32, shift uint) int {
	return c.coefficientsGo(coded, t, scan, out, scale, shift)
}

func (c *Decoder) blocks(set uint64, base int, t *Contexts, numbers []uint8, places *[32]uint8, scan []uint8, out, scale []int32, shift uint) (coded, more uint64) {
	return c.blocksGo(set, base, t, numbers, places, scan, out, scale, shift)
}

func (c *Decoder) residual(r *Residual) { c.residualGo(r) }
