package h264

import (
	"bytes"
	"math/rand/v2"
	"os"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
	"vividstrain/core/media/codec/bits"
	"vividstrain/core/media/codec/codectest"
	"vividstrain/core/media/codec/motion"
	"vividstrain/core/media/codec/nal"
)

// frames decodes packets on some threads and gives the MD5 of every picture
// and which are damaged.
func frames(t *testing.T, packets [][]byte, threads int) (sums []string, damaged []int) {
	d, err := NewDecoder(media.Track{}, threads)
	require.NoError(t, err)
	require.NoError(t, codectest.Decode(t, d, packets, func(f media.Frame) {
		if f.Damaged {
			damaged = append(damaged, len(sums))
		}
		sums = append(sums, f.MD5())
	}))
	return sums, damaged
}

// units returns the NAL units of a stream, each with its start code.
func units(t *testing.T, name string) (list [][]byte) {
	data, err := os.ReadFile("testdata/" + name + ".264")
	require.NoError(t, err)
	for unit := range nal.ByteStream(data) {
		list = append(list, append([]byte{0, 0, 0, 1}, unit...))
	}
	return list
}

// A damaged slice harms its own picture and those that refer to it, no others,
// and no picture is lost.
func TestDamagedSliceIsConcealed(t *testing.T) {
	const name = "baseline-multislice-refs" // three slices a picture
	want := codectest.Checksums(t, "testdata/"+name+".264")
	list := units(t, name)
	last := len(list) - 2 // the second slice of the last picture
	for what, change := range map[string]func(unit []byte) []byte{
		"cut":     func(unit []byte) []byte { return unit[:len(unit)/2] },
		"missing": func([]byte) []byte { return nil },
		"garbage": func(unit []byte) []byte {
			return append(bytes.Clone(unit[:12]), bytes.Repeat([]byte{0xFF}, len(unit)-12)...)
		},
		"no header": func(unit []byte) []byte { return unit[:6] },
	} {
		t.Run(what, func(t *testing.T) {
			changed := append([][]byte{}, list...)
			changed[last] = change(list[last])
			for _, threads := range []int{1, 3} {
				got, damaged := frames(t, [][]byte{bytes.Join(changed, nil)}, threads)
				require.Len(t, got, len(want))
				require.Equal(t, want[:len(want)-1], got[:len(want)-1])
				require.NotEqual(t, want[len(want)-1], got[len(want)-1])
				require.Equal(t, []int{len(want) - 1}, damaged)
			}
		})
	}
}

// What is missing of a picture is taken from the one before.
func TestMissingSliceShowsThePictureBefore(t *testing.T) {
	const name = "baseline-multislice-refs"
	list := units(t, name)
	var before, now []byte
	collect := func(packets [][]byte) (last, lastButOne []byte) {
		d, err := NewDecoder(media.Track{}, 1)
		require.NoError(t, err)
		var rows [][]byte
		require.NoError(t, codectest.Decode(t, d, packets, func(f media.Frame) {
			rows = append(rows, f.AppendRow(nil, 0, 0))
		}))
		return rows[len(rows)-1], rows[len(rows)-2]
	}
	list = append(list[:len(list)-3], list[len(list)-2:]...) // without the first slice of the last picture
	now, before = collect([][]byte{bytes.Join(list, nil)})
	require.Equal(t, before, now)
}

// A stream that begins in the middle is played from there on, its first
// pictures marked, until a key frame makes it whole.
func TestStreamThatBeginsInTheMiddle(t *testing.T) {
	const name = "main-weighted"
	want := codectest.Checksums(t, "testdata/"+name+".264")
	list := units(t, name)
	var sets, slices [][]byte
	for _, unit := range list {
		switch unit[4] & 31 {
		case nalSPS, nalPPS:
			sets = append(sets, unit)
		case nalSlice, nalIDR:
			slices = append(slices, unit)
		}
	}
	got, damaged := frames(t, [][]byte{bytes.Join(append(sets, slices[1:]...), nil)}, 2)
	require.Len(t, got, len(want)-1)
	require.NotEmpty(t, damaged)
}

// Features that are left out are refused by name.
func TestRefusedByName(t *testing.T) {
	sps := func(profile uint32, chroma int) []byte {
		w := &bits.Writer{}
		w.U(8, profile)
		w.U(16, 40)
		w.UE(0)
		w.UE(chroma)
		w.U(32, 0xFFFFFFFF)
		return unit(w, 0x67)
	}
	for what, unit := range map[string][]byte{
		"4:4:4 chroma":      sps(244, 3),
		"data partitioning": {nalPartitionA, 0x88, 0x80},
	} {
		d, err := NewDecoder(media.Track{}, 1)
		require.NoError(t, err)
		err = d.Send(t.Context(), &media.Packet{Data: append([]byte{0, 0, 1}, unit...)})
		var refused *media.UnsupportedError
		require.ErrorAs(t, err, &refused, what)
		require.Contains(t, err.Error(), what)
		d.Drain()
		d.Close()
	}
}

// Slices in another order than that of the picture are refused where the
// profile allows them, and damage elsewhere.
func TestSlicesOutOfOrder(t *testing.T) {
	list := units(t, "baseline-multislice-refs")
	i := 0
	for list[i][4]&31 != nalIDR {
		i++
	}
	list[i], list[i+1] = list[i+1], list[i]
	_, damaged := frames(t, [][]byte{bytes.Join(list[:i+3], nil)}, 1)
	require.Equal(t, []int{0}, damaged)
	for k := range list {
		if list[k][4]&31 == nalSPS {
			list[k][6] &^= 0x40 // constraint_set1_flag
		}
	}
	d, err := NewDecoder(media.Track{}, 1)
	require.NoError(t, err)
	err = codectest.Decode(t, d, [][]byte{bytes.Join(list, nil)}, func(media.Frame) {})
	require.ErrorContains(t, err, "arbitrary slice order is not supported")
}

// Fast kernels do what the plain ones do, for every size and at every fraction.
func TestFastKernelsEqualPlainOnes(t *testing.T) {
	fast, plain := fastKernels(), goKernels[uint8]()
	v := newRandomVideo(5, randomKind{}, false)
	src := make([]uint8, 64*64+motion.RowPadding)
	for range 200 {
		for i := range src {
			src[i] = uint8(v.Uint64())
			if v.IntN(8) == 0 { // the ends of the range overflow first
				src[i] = uint8(255 * v.IntN(2))
			}
		}
		both := func(call func(k *kernels[uint8], dst []uint8)) {
			a, b := bytes.Clone(src), bytes.Clone(src)
			call(&fast, a)
			call(&plain, b)
			require.Equal(t, b, a)
		}
		for _, w := range []int{4, 8, 16} {
			h := 4 << v.IntN(3)
			sample := uint8(v.Uint64())
			both(func(k *kernels[uint8], dst []uint8) { k.Copy(dst, 64, src[70:], 64, w, h) })
			both(func(k *kernels[uint8], dst []uint8) { k.Fill(dst, 64, w, h, sample) })
			both(func(k *kernels[uint8], dst []uint8) { k.Extend(dst, 70, 64, w, h) })
			both(func(k *kernels[uint8], dst []uint8) { k.Average(dst, 64, src[70:], 64, w, h) })
			both(func(k *kernels[uint8], dst []uint8) { k.across(dst, 64, src[70:], 64, w, h, 255) })
			both(func(k *kernels[uint8], dst []uint8) { k.down(dst, 64, src[70:], 64, w, h, 255) })
			both(func(k *kernels[uint8], dst []uint8) { k.center(dst, 64, src[70:], 64, w, h, 255) })
			dx, dy := v.IntN(8), v.IntN(8)
			both(func(k *kernels[uint8], dst []uint8) { k.bilinear(dst, 64, src[70:], 64, w/2, h/2, dx, dy) })
		}
		for _, size := range [][2]int{{16, 16}, {8, 16}, {8, 8}} { // with slopes that border samples can have
			both(func(k *kernels[uint8], dst []uint8) {
				r := &recon[uint8]{k: *k}
				r.plane(dst, 20*64+20, 64, size[0], size[1], 255)
			})
		}
		for _, n := range []int{4, 8} {
			var want, got averages[uint8]
			plain.smooth((*border[uint8])(src), n, &want)
			fast.smooth((*border[uint8])(src), n, &got)
			require.Equal(t, want[:3*n+2], got[:3*n+2])
			require.Equal(t, want[weighted+1:weighted+3*n+2], got[weighted+1:weighted+3*n+2])
		}
		c := anyCoefficients(v)
		both(func(k *kernels[uint8], dst []uint8) {
			d := [16]int32(c[:])
			k.add4(dst, 64, &d, 255)
			require.Zero(t, d)
		})
		some := v.Uint64()
		for _, size := range blocksOfDCs {
			both(func(k *kernels[uint8], dst []uint8) {
				var many [256]int32
				for i := range many {
					many[i] = c[i%64] + int32(i)
				}
				rest, set := many, some&(1<<(size[0]*size[1]/16)-1)
				k.addBlocks(dst, 64, size[0], size[1], many[:], set, 255)
				for i := range rest {
					rest[i] *= int32(1 - set>>(i/16)&1)
				}
				require.Equal(t, rest, many, "what was added is cleared")
			})
		}
		both(func(k *kernels[uint8], dst []uint8) { d := c; k.add8(dst, 64, &d, 255); require.Zero(t, d) })
		for _, size := range []int{4, 8} {
			both(func(k *kernels[uint8], dst []uint8) {
				d := c[0] * 8
				k.addDC(dst, 64, size, &d, 255)
				require.Zero(t, d)
			})
		}
		var dcs [16]int16
		for i := range dcs {
			dcs[i] = int16(v.IntN(600) - 300)
		}
		for _, size := range blocksOfDCs {
			both(func(k *kernels[uint8], dst []uint8) { k.addDCs(dst, 64, size[0], size[1], &dcs, 255) })
		}
		both(func(k *kernels[uint8], dst []uint8) { k.chromaDC(dst, 20*64+20, 64) })
		left, above := plain.borderSums(src, 20*64+20, 64)
		fastLeft, fastAbove := fast.borderSums(src, 20*64+20, 64)
		require.Equal(t, []int{left, above}, []int{fastLeft, fastAbove})
		levels := [4][16]int32{[16]int32(c[:])}
		levels[0][v.IntN(16)] *= int32(v.IntN(2))
		levels[1], levels[2], levels[3] = levels[0], levels[0], levels[0]
		var flat [2][16]int16
		var spread [2][256]int32
		scale := int32(v.IntN(1 << (4 + v.IntN(18))))
		flatLumaDC(&levels[0], scale, &flat[0])
		flatLumaDCGo(&levels[1], scale, &flat[1])
		require.Equal(t, flat[1], flat[0])
		require.Equal(t, spreadLumaDCGo(&levels[2], scale, &spread[1]), spreadLumaDC(&levels[3], scale, &spread[0]))
		require.Equal(t, spread[1], spread[0])
		require.Zero(t, levels)
		var f [3]edgeFilter[uint8]
		for i := range f {
			f[i] = edgeFilter[uint8]{alpha: int32(v.IntN(256)), beta: int32(v.IntN(19)), most: 255, tc0: anyLimits(v)}
		}
		smooth := v.IntN(2) == 0
		for i := range src { // edges that are filtered are of like samples
			if smooth {
				src[i] = 100 + src[i]>>5
			}
		}
		for _, columns := range []bool{false, true} {
			for _, bs := range anyStrengths(v) {
				both(func(k *kernels[uint8], dst []uint8) { k.lumaEdge(dst, 20*64+20, 64, columns, &f[0], bs) })
				if inner := anyInner(v); bs>>2&1 == 0 {
					both(func(k *kernels[uint8], dst []uint8) { k.lumaInner(dst, 20*64+20, 64, columns, &f[0], &inner) })
				}
				both(func(k *kernels[uint8], dst []uint8) {
					k.chromaEdges(&[2][]uint8{dst, dst[30*64:]}, 10*64+20, 64, columns, (*[2]edgeFilter[uint8])(f[1:]), bs)
				})
			}
		}
	}
}

// The same for samples of two bytes, of 8 to 10 bits.
func TestFastWideKernelsEqualPlainOnes(t *testing.T) {
	fast, plain := fastWideKernels(), goKernels[uint16]()
	v := rand.New(rand.NewPCG(3, 4))
	for range 300 {
		most := 1<<(8+v.IntN(3)) - 1
		src := make([]uint16, 64*64)
		for i := range src {
			src[i] = uint16(v.IntN(most + 1))
			if v.IntN(3) == 0 { // the ends of the range overflow first
				src[i] = uint16(most * v.IntN(2))
			}
		}
		both := func(call func(k *kernels[uint16], dst []uint16)) {
			a, b := slices.Clone(src), slices.Clone(src)
			call(&fast, a)
			call(&plain, b)
			require.Equal(t, b, a)
		}
		for _, w := range []int{4, 8, 16} {
			h := 4 << v.IntN(3)
			both(func(k *kernels[uint16], dst []uint16) { k.Average(dst, 64, src[70:], 64, w, h) })
			both(func(k *kernels[uint16], dst []uint16) { k.across(dst, 64, src[70:], 64, w, h, int32(most)) })
			both(func(k *kernels[uint16], dst []uint16) { k.down(dst, 64, src[70:], 64, w, h, int32(most)) })
			dx, dy := v.IntN(8), v.IntN(8)
			both(func(k *kernels[uint16], dst []uint16) { k.bilinear(dst, 64, src[70:], 64, w/2, h/2, dx, dy) })
			both(func(k *kernels[uint16], dst []uint16) { k.Average(dst, 64, src[70:], 64, w/2, h/2) })
			both(func(k *kernels[uint16], dst []uint16) { k.center(dst, 64, src[70:], 64, w, h, int32(most)) })
		}
		c := anyCoefficients(v)
		both(func(k *kernels[uint16], dst []uint16) {
			d := [16]int32(c[:])
			k.add4(dst, 64, &d, int32(most))
			require.Zero(t, d)
		})
		both(func(k *kernels[uint16], dst []uint16) { d := c; k.add8(dst, 64, &d, int32(most)); require.Zero(t, d) })
		for _, size := range []int{4, 8} {
			both(func(k *kernels[uint16], dst []uint16) {
				d := c[0] * 16
				k.addDC(dst, 64, size, &d, int32(most))
				require.Zero(t, d)
			})
		}
		var dcs [16]int16
		for i := range dcs {
			dcs[i] = int16(v.IntN(4000) - 2000)
		}
		for _, size := range blocksOfDCs {
			both(func(k *kernels[uint16], dst []uint16) { k.addDCs(dst, 64, size[0], size[1], &dcs, int32(most)) })
		}
		var f [3]edgeFilter[uint16]
		shift := uint(v.IntN(3))
		for i := range f {
			f[i] = edgeFilter[uint16]{alpha: int32(v.IntN(most)), beta: int32(v.IntN(76)), most: int32(most), tc0: anyLimits(v), shift: shift}
		}
		if v.IntN(2) == 0 { // edges that are filtered are of like samples
			for i := range src {
				src[i] = uint16(most/2) + src[i]>>5
			}
		}
		for _, columns := range []bool{false, true} {
			for _, bs := range anyStrengths(v) {
				both(func(k *kernels[uint16], dst []uint16) { k.lumaEdge(dst, 20*64+20, 64, columns, &f[0], bs) })
				both(func(k *kernels[uint16], dst []uint16) {
					k.chromaEdges(&[2][]uint16{dst, dst[30*64:]}, 10*64+20, 64, columns, (*[2]edgeFilter[uint16])(f[1:]), bs)
				})
			}
		}
	}
}

// anyCoefficients makes up a block.
func anyCoefficients(v interface{ IntN(int) int }) (c [64]int32) {
	for i := range c {
		c[i] = int32(v.IntN(1<<12)-1<<11) << (v.IntN(2) * v.IntN(14)) // at times beyond 16 bits
	}
	return c
}

// blocksOfDCs are the sizes of luma and of chroma that addDCs is for.
var blocksOfDCs = [][2]int{{16, 16}, {8, 8}, {8, 16}}

// anyInner returns strengths of the edges within a macroblock.
func anyInner(v interface{ IntN(int) int }) (bs [4]strengths) {
	for k := range bs {
		bs[k] = strengths(v.IntN(1<<30)&0x03030303) * strengths(v.IntN(2))
	}
	return bs
}

// anyLimits makes up tC0 by bS.
func anyLimits(v interface{ IntN(int) int }) [8]int8 {
	return [8]int8{-1, int8(v.IntN(26)), int8(v.IntN(26)), int8(v.IntN(26))}
}

// anyStrengths makes up the strengths of two edges, one of them with bS 4.
func anyStrengths(v interface{ IntN(int) int }) []strengths {
	return []strengths{strengths(v.IntN(4) | v.IntN(4)<<8 | v.IntN(4)<<16 | v.IntN(4)<<24), allOf(4)}
}

// Nothing of a damaged macroblock is left in the ones after it: where no picture refers to another, all others are
// whole.
func TestDamageLeavesNothingBehind(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	want, list := codectest.Checksums(t, "testdata/intra-cavlc.264"), units(t, "intra-cavlc")
	for range 1500 {
		at := random.IntN(len(list)/2) + 1
		if kind := list[at][4] & 31; kind != 1 && kind != 5 {
			continue
		}
		changed := slices.Clone(list)
		changed[at] = bytes.Clone(list[at])
		for range 1 + random.IntN(4) {
			changed[at][12+random.IntN(len(list[at])-12)] ^= 1 << random.IntN(8)
		}
		got, damaged := frames(t, [][]byte{bytes.Join(changed, nil)}, 1)
		if len(got) != len(want) || len(damaged) > 1 {
			continue // it broke what other pictures depend on
		}
		differ := 0
		for i := range want {
			differ += oneIf(got[i] != want[i])
		}
		require.LessOrEqual(t, differ, 1, "unit %d", at)
	}
}
