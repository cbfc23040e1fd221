//go:build !amd64

package h264

func (d *sliceDecoder) cavlcCoeffs(b *block, table int) (int, error) {
	return d.cavlcCoeffsGo(b, table)
}

func (d *sliceDecoder) cavlcBlocks(_ *block, _ int, set uint64, _ *[16]uint8) (coded, more, left uint64) {
	return 0, 0, set
}
