package cabac

import (
	"math/bits"
	"unsafe"

	"golang.org/x/sys/cpu"
)

// The places of the fields that the assembly knows.
var _ = [1]struct{}{}[unsafe.Offsetof(Decoder{}.spare)-8+unsafe.Offsetof(Decoder{}.rng)-16+unsafe.Offsetof(Decoder{}.pos)-24+
	unsafe.Offsetof(Decoder{}.data)-40+unsafe.Offsetof(Decoder{}.State)-64+unsafe.Offsetof(Contexts{}.afterLarge)-296+
	unsafe.Offsetof(blockRun{}.places)-40+numbersRow-8+
	unsafe.Offsetof(Residual{}.Factor)-32+unsafe.Offsetof(Residual{}.Hidden)-48+unsafe.Offsetof(Residual{}.Coded)-64+unsafe.Offsetof(Residual{}.Failed)-72+
	unsafe.Offsetof(Scan{}.LastX)-128+unsafe.Offsetof(Scan{}.LastShift)-138+unsafe.Offsetof(Scan{}.subs)-140+unsafe.Offsetof(scanned{}.first)-4+unsafe.Sizeof(scanned{})-8+
	unsafe.Offsetof(Scan{}.inner)-652+unsafe.Offsetof(Scan{}.subAt)-684+unsafe.Offsetof(Scan{}.longest)-764]

// blockRun is the state of the assembly that parses blocks.
type blockRun struct {
	set, coded, more uint64 // of the blocks to parse, and results as of Blocks
	base             int
	numbers, places  *uint8
}

// coefficients is coefficientsGo, or its twin in assembly.
func (c *Decoder) coefficients(coded int, t *Contexts, scan []uint8, out, scale []int32, shift uint) int {
	if !cpu.X86.HasBMI2 {
		return c.coefficientsGo(coded, t, scan, out, scale, shift)
	}
	last := len(scan) - 1
	_, _ = out[scan[last]], scale[scan[last]] // the largest place
	return coefficientsFast((*byte)(unsafe.Pointer(c)), coded, (*byte)(unsafe.Pointer(t)), &scan[0], last, &out[0], &scale[0], 1<<shift>>1, int(shift), &binSteps[0].lps[0])
}

// blocks is blocksGo, or its twin in assembly.
func (c *Decoder) blocks(set uint64, base int, t *Contexts, numbers []uint8, places *[32]uint8, scan []uint8, out, scale []int32, shift uint) (coded, more uint64) {
	if !cpu.X86.HasBMI1 || !cpu.X86.HasBMI2 || set == 0 {
		return c.blocksGo(set, base, t, numbers, places, scan, out, scale, shift)
	}
	last := len(scan) - 1
	_, _ = out[16*(bits.Len64(set)-1)+15], scale[15]
	r := blockRun{set: set, base: base, numbers: &numbers[0], places: &places[0]}
	blocksFast((*byte)(unsafe.Pointer(c)), (*byte)(unsafe.Pointer(&r)), (*byte)(unsafe.Pointer(t)), &scan[0], last, &out[0], &scale[0], 1<<shift>>1, int(shift), &binSteps[0].lps[0])
	return r.coded, r.more
}

// residual is residualGo, or its twin in assembly.
func (c *Decoder) residual(r *Residual) {
	if !cpu.X86.HasBMI1 || !cpu.X86.HasBMI2 || !cpu.X86.HasPOPCNT || r.Stat != nil {
		c.residualGo(r)
		return
	}
	_ = r.Out[r.Scan.last]
	residualFast((*byte)(unsafe.Pointer(c)), (*byte)(unsafe.Pointer(r)), &binSteps[0].lps[0])
}
