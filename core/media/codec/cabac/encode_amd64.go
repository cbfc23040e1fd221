package cabac

import (
	"unsafe"

	"golang.org/x/sys/cpu"
)

//go:generate go run ./asm -out engine_amd64.s -stubs stubs_amd64.go -pkg cabac

// fastEncodeBins returns the fastest encodeBins that this processor runs.
func fastEncodeBins() func(e *engine, bins []uint16, state *[512]uint8) (done int) {
	if !cpu.X86.HasBMI2 {
		return encodeBins
	}
	return func(e *engine, bins []uint16, state *[512]uint8) (done int) {
		return encodeBinsFast((*byte)(unsafe.Pointer(e)), &bins[0], len(bins), state, &binSteps[0].lps[0])
	}
}
