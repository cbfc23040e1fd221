package screen

import "golang.org/x/sys/cpu"

//go:generate go run ./asm -out pixels_amd64.s -stubs pixels_amd64.go -pkg screen

// paintFast paints the first pixels of a row, a multiple of 8, and returns how many.
func paintFast(dst, luma, cb, cr []byte, m *matrix) int {
	n := len(luma) &^ 7
	if n == 0 || !cpu.X86.HasAVX2 {
		return 0
	}
	paintPixels(&dst[:4*n][0], &luma[0], &cb[:n/2][0], &cr[:n/2][0], n, &m.y)
	return n
}
