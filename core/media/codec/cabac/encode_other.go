//go:build !amd64

package cabac

func fastEncodeBins() func(e *engine, bins []uint16, state *[512]uint8) (done int) { return encodeBins }
