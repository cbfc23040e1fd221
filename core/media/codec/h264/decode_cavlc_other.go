//go:build !amd64

package h264

func (d *sliceDecoder) cavlcCoeffs(b *block, table int) (int, error) {
	return d.cavlcCoeffsGo(b, table)
}

func (d *sliceDecoder) cavlcBlocks(_ *block, set uint64) (coded, more, left uint64) {
	return 0, 0, set
}
