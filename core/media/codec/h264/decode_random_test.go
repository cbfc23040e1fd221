package h264

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
	"vividstrain/core/media/codec/bits"
	"vividstrain/core/media/codec/cabac"
	"vividstrain/core/media/codec/codectest"
	"vividstrain/core/media/codec/framepool"
	"vividstrain/core/media/codec/motion"
	"vividstrain/core/media/codec/nal"
	"vividstrain/core/media/codec/threads"
	"vividstrain/core/media/quality/browser"
)

// randomVideo makes streams whose slice data are random: what they mean is up
// to the decoder, so that every kind of macroblock comes up. With variable-length
// codes a slice may be cut behind any macroblock: it ends before the first that
// breaks a rule.
type randomVideo struct {
	*rand.Rand
	kind                      randomKind
	cabac                     bool
	width, height             int // in macroblocks
	s                         *stream
	w                         *worker
	frameNum                  int
	packet                    []byte
	packets                   [][]byte
	weighted, constrained, t8 bool
	bipred                    int
	job                       pictureTask
	slices                    int
	refs                      [2]int // active references of the picture
	set                       []byte // the sequence parameter set, behind the depths
	setBits                   int
	anyDepth                  bool // slice data mean the same at each bit depth
	lastQP                    int
}

type randomKind struct {
	name          string
	fields, mbaff bool // fields: each picture at random a frame or two fields
}

func newRandomVideo(seed uint64, kind randomKind, cabac bool) *randomVideo {
	v := &randomVideo{Rand: rand.New(rand.NewPCG(seed, 1)), kind: kind, cabac: cabac, width: 4, height: 4, s: &stream{}, w: newWorker(threads.NewTeam(1))}
	v.s.init()
	v.s.acquire = func(context.Context) (*pictureTask, error) { return &v.job, nil }
	v.s.submit = func(_ context.Context, j *pictureTask) error {
		v.w.run(j)
		j.reset()
		return nil
	}
	v.weighted, v.bipred = v.IntN(2) == 0, v.IntN(3)
	v.constrained, v.t8 = v.IntN(4) == 0, v.IntN(4) > 0
	v.parameters()
	return v
}

func (v *randomVideo) add(unit []byte) {
	v.packet = append(append(v.packet, 0, 0, 0, 1), unit...)
}

func (v *randomVideo) parameters() {
	interlaced := v.kind.fields || v.kind.mbaff
	w := &bits.Writer{}
	w.Flag(false)
	scaling := v.IntN(3) == 0
	w.Flag(scaling)
	if scaling {
		for i := range 8 {
			w.Flag(i%2 == 0)
			if i%2 == 0 {
				w.SE(8 + v.IntN(16)) // next: 16 and more
				for range []int{16, 64}[i/6] - 1 {
					w.SE(v.IntN(3) - 1)
				}
			}
		}
	}
	w.UE(4) // frame_num of 8 bits
	w.UE(0)
	w.UE(4) // POC of 8 bits
	w.UE(4) // reference frames
	w.Flag(false)
	w.UE(v.width - 1)
	if interlaced {
		w.UE(v.height/2 - 1)
	} else {
		w.UE(v.height - 1)
	}
	w.Flag(!interlaced)
	if interlaced {
		w.Flag(v.kind.mbaff)
	}
	w.Flag(true) // direct_8x8_inference
	w.Flag(false)
	w.Flag(false)
	v.setBits = w.Pos()
	v.set = w.Bytes()
	sps := v.sps(8, 8)
	v.add(sps)

	w = &bits.Writer{}
	w.UE(0)
	w.UE(0)
	w.Flag(v.cabac)
	w.Flag(true) // bottom_field_pic_order_in_frame_present
	w.UE(0)
	w.UE(1)
	w.UE(1)
	w.Flag(v.weighted)
	w.U(2, uint32(v.bipred))
	w.SE(0)
	w.SE(0)
	w.SE(v.IntN(9) - 4)
	w.Flag(true) // deblocking control
	w.Flag(v.constrained)
	w.Flag(false)
	w.Flag(v.t8)
	w.Flag(false)
	w.SE(v.IntN(9) - 4)
	w.Trailing()
	pps := unit(w, 0x68)
	v.add(pps)
	for _, unit := range [][]byte{sps, pps} {
		if err := v.s.parameterSet(unit); err != nil {
			panic(err)
		}
	}
}

// sps is the sequence parameter set with these bit depths.
func (v *randomVideo) sps(luma, chroma int) []byte {
	w := &bits.Writer{}
	w.U(8, 110)
	w.U(8, 0)
	w.U(8, 40)
	w.UE(0)
	w.UE(1) // 4:2:0
	w.UE(luma - 8)
	w.UE(chroma - 8)
	r := bits.NewReader(v.set)
	for range v.setBits {
		w.U(1, r.U(1))
	}
	w.Trailing()
	return unit(w, 0x67)
}

// picture makes a frame, in one piece or as two fields.
func (v *randomVideo) picture(kind sliceType, poc int, reference bool) {
	idr := v.frameNum == 0 && kind == sliceI
	if v.kind.fields && v.IntN(3) > 0 {
		first := framepool.TopField
		if kind != sliceB && v.IntN(4) == 0 {
			first = framepool.BottomField
		}
		v.coded(kind, first, poc, reference, idr)
		if kind == sliceI {
			kind = sliceP
		}
		v.coded(kind, first.Opposite(), poc, reference, false)
	} else {
		v.coded(kind, framepool.WholeFrame, poc, reference, idr)
	}
	if reference {
		v.frameNum++
	}
	v.packets = append(v.packets, v.packet)
	v.packet = nil
}

// coded makes the slices of one coded picture.
func (v *randomVideo) coded(kind sliceType, s framepool.Fields, poc int, reference, idr bool) {
	end := v.width * v.height
	if s != framepool.WholeFrame {
		end /= 2
	}
	for next := 0; next < end; {
		next = v.slice(next, end, kind, s, poc, reference, idr)
	}
	if err := v.s.dispatch(context.Background()); err != nil {
		panic(err)
	}
}

// slice adds one good slice and returns which macroblock follows it.
func (v *randomVideo) slice(first, end int, kind sliceType, s framepool.Fields, poc int, reference, idr bool) int {
	for {
		w := v.header(first, kind, s, poc, reference, idr)
		nal := byte(nalSlice)
		if idr {
			nal = nalIDR
		}
		if reference {
			nal |= 0x60
		}
		for range 20 + v.IntN(600) {
			w.U(8, uint32(v.Uint64()&255))
		}
		at, bit := v.try(unit(w, nal), end)
		if at < 0 {
			continue
		}
		whole := w.Bytes() // is cut behind the last good macroblock
		w = &bits.Writer{Data: whole[: bit>>3 : bit>>3]}
		if bit&7 != 0 {
			w.U(bit&7, uint32(whole[bit>>3])>>(8-bit&7))
		}
		w.Trailing()
		cut := unit(w, nal)
		v.drop()
		if again, _ := v.try(cut, end); again != at {
			v.drop()
			continue
		}
		v.add(cut)
		v.slices++
		return at
	}
}

// unit makes a NAL unit of what was written.
func unit(w *bits.Writer, head byte) []byte { return nal.AppendUnit(nil, []byte{head}, w.Bytes()) }

// finish makes a function a finisher.
type finish func() error

func (f finish) reconstruct() error { return f() }

// drop takes back the slice that was tried last.
func (v *randomVideo) drop() {
	j := v.s.filling
	last := len(j.slices) - 1
	j.spare = append(j.spare, j.slices[last])
	j.slices = j.slices[:last]
}

// try decodes the picture with one more slice. It returns the macroblock that
// follows, and the bit at which the last good one ended; or -1.
func (v *randomVideo) try(unit []byte, end int) (next, bit int) {
	if err := v.s.slice(context.Background(), unit, 0); err != nil {
		panic(err)
	}
	j := v.s.filling
	m := v.w.thread(0)
	r, d := &m.byte, &m.d
	if len(v.w.mbs) != v.width*v.height {
		v.w.mbs = newMacroblocks(v.width * v.height)
	}
	for i := range v.w.mbs {
		v.w.mbs[i].slice = 0
	}
	d.pic, d.mbs, d.motion = j, v.w.mbs, j.f.mbs
	d.width, d.height = v.width, v.height
	r.begin(d, j.f)
	p := reconstructor[uint8]{r: r, d: d, job: j, end: end, rowUnit: 1 << 30} // rows are never complete: nothing is filtered
	for i, s := range j.slices {
		j.f.Damaged.Store(false)
		d.startSlice(s, i+1, end)
		v.lastQP = s.h.qp
		start := p.next
		_ = d.decode(finish(func() error { // which ends with an error at the latest behind the data
			if v.extreme(d) {
				return errCut
			}
			e := p.reconstruct()
			if e == nil && j.f.Damaged.Load() {
				e = errCut
			}
			if e == nil && (!s.h.mbaff || p.next&1 == 0) && d.skipRun <= 0 {
				next, bit = p.next, d.r.Pos()
			}
			return e
		}))
		if i == len(j.slices)-1 && next == start {
			v.drop()
			return -1, 0
		}
	}
	return next, bit
}

// references is how many pictures there are to refer to.
func (v *randomVideo) references(s framepool.Fields) (n int) {
	for _, f := range v.s.dpb.frames {
		switch {
		case s == framepool.WholeFrame && f.short == framepool.WholeFrame:
			n++
		case s != framepool.WholeFrame:
			n += int(f.short&1 + f.short>>1)
		}
	}
	return n
}

// extreme tells of values beyond what an encoder may send, with which decoders
// may do as they like: samples and coefficients that overflow 16 bits, vectors
// far outside the picture.
func (v *randomVideo) extreme(d *sliceDecoder) bool {
	for _, c := range &d.coeffs {
		if motion.Abs32(c) > 1<<13 {
			return true
		}
	}
	for l := range d.mv.mv {
		for b, mv := range &d.mv.mv[l] {
			if d.mv.ref[l][b>>3<<1|b>>1&1] >= 0 && (motion.Abs32(int32(mv.X)) > 400 || motion.Abs32(int32(mv.Y)) > 200) {
				return true
			}
		}
	}
	// A quantiser that wraps around and samples as they are depend on the depth.
	wraps := max(d.qp-v.lastQP, v.lastQP-d.qp) >= 26
	v.lastQP = d.qp
	return d.qp > 40 || v.anyDepth && (wraps || d.mb.kind == kindPCM)
}

// header writes a slice header with random settings.
func (v *randomVideo) header(first int, kind sliceType, s framepool.Fields, poc int, reference, idr bool) *bits.Writer {
	w := &bits.Writer{}
	if v.kind.mbaff && s == framepool.WholeFrame {
		first /= 2
	}
	w.UE(first)
	w.UE(int(kind))
	w.UE(0)
	w.U(8, uint32(v.frameNum))
	if v.kind.fields || v.kind.mbaff {
		w.Flag(s != framepool.WholeFrame)
		if s != framepool.WholeFrame {
			w.Flag(s == framepool.BottomField)
		}
	}
	if idr {
		w.UE(0)
	}
	if s == framepool.BottomField {
		poc++
	}
	w.U(8, uint32(poc&255))
	if s == framepool.WholeFrame {
		w.SE(1)
	}
	if kind == sliceB {
		w.Flag(v.IntN(2) == 0) // direct_spatial_mv_pred
	}
	// Slices of one picture have the same lists: not all decoders keep those
	// of each slice for direct prediction.
	if first == 0 {
		v.refs = [2]int{}
		for l := range int(map[sliceType]int{sliceP: 1, sliceB: 2}[kind]) {
			v.refs[l] = 1 + v.IntN(min(v.references(s), 4))
		}
	}
	refs := v.refs
	if kind != sliceI {
		w.Flag(true)
		w.UE(refs[0] - 1)
		if kind == sliceB {
			w.UE(refs[1] - 1)
		}
		w.Flag(false)
		if kind == sliceB {
			w.Flag(false)
		}
	}
	if kind == sliceP && v.weighted || kind == sliceB && v.bipred == 1 {
		w.UE(4)
		w.UE(3)
		for _, n := range refs {
			for range n {
				for plane := range 2 {
					set := v.IntN(2) == 0
					w.Flag(set)
					for range 1 + plane {
						if set {
							w.SE(8 + v.IntN(16))
							w.SE(v.IntN(21) - 10)
						}
					}
				}
			}
		}
	}
	if reference {
		if idr {
			w.U(2, 0)
		} else {
			w.Flag(false)
		}
	}
	if v.cabac && kind != sliceI {
		w.UE(v.IntN(3))
	}
	w.SE(v.IntN(14) - 10)
	idc := v.IntN(3)
	w.UE(idc)
	if idc != 1 {
		w.SE(v.IntN(7) - 3)
		w.SE(v.IntN(7) - 3)
	}
	return w
}

// Streams of random macroblocks decode the same in the browser and here, frame
// field pictures and macroblock pairs, with every kind of prediction.
func TestBrowserDecodesRandomMacroblocks(t *testing.T) {
	b, err := browser.Start(context.Background(), t.TempDir())
	require.NoError(t, err)
	defer b.Close()
	for _, kind := range []randomKind{{"frames", false, false}, {"MBAFF", false, true}, {"fields", true, false}, {"fields and MBAFF", true, true}} {
		t.Run(kind.name, func(t *testing.T) {
			for seed := range uint64(12) {
				v := newRandomVideo(seed, kind, false)
				v.picture(sliceI, 0, true)
				for i := range 3 {
					v.picture(sliceP, 8*i+8, true)
					v.picture(sliceB, 8*i+4, true)
					v.picture(sliceB, 8*i+2, false)
				}
				got, damaged := sums(t, v.packets)
				require.Zero(t, damaged, "seed %d", seed)
				want, err := b.Decode("avc1.640028", v.packets, true)
				require.NoError(t, err, "seed %d", seed)
				for i := range got {
					require.Equal(t, want.Sums[i], got[i], "seed %d, picture %d of %d (%s)", seed, i, len(got), fmt.Sprint(v.weighted, v.bipred, v.constrained, v.t8))
				}
				require.Len(t, want.Sums, len(got))
			}
		})
	}
}

// sums decodes packets and gives the SHA-1 of every picture.
func sums(t *testing.T, packets [][]byte) (list []string, damaged int) {
	d, err := NewDecoder(media.Track{}, 2)
	require.NoError(t, err)
	require.NoError(t, codectest.Decode(t, d, packets, func(f media.Frame) {
		list = append(list, browser.Sum(f.Picture))
		if f.Damaged {
			damaged++
		}
	}))
	return list, damaged
}

// Macroblocks whose samples are not coded, between CABAC data, are the same in
// the browser and here.
func TestBrowserDecodesUncodedSamples(t *testing.T) {
	b, err := browser.Start(context.Background(), t.TempDir())
	require.NoError(t, err)
	defer b.Close()
	v := newRandomVideo(1, randomKind{name: "PCM"}, true)
	for mb := range v.width * v.height {
		w := v.header(mb, sliceI, framepool.WholeFrame, 0, true, true)
		w.Align(1)
		head := slices.Clone(w.Bytes())
		var h sliceHeader
		r := bits.NewReader(head)
		require.NoError(t, h.parse(&r, 0x65, &v.s.spss, &v.s.ppss))
		var c cabac.Decoder
		initContexts(&c.State, 0, h.qp)
		var e cabac.Encoder
		e.Start(&c.State, head)
		e.Decision(3, 1) // not I_NxN
		e.Terminate(1)   // but I_PCM
		for range 384 {
			e.Out = append(e.Out, byte(v.IntN(256)))
		}
		e.Start(&c.State, e.Out)
		e.Terminate(1) // end of slice
		v.add(nal.AppendUnit(nil, []byte{0x65}, e.Out))
	}
	got, damaged := sums(t, [][]byte{v.packet})
	require.Zero(t, damaged)
	want, err := b.Decode("avc1.640028", [][]byte{v.packet}, true)
	require.NoError(t, err)
	require.Equal(t, want.Sums, got)
}

// Luma and chroma may differ in depth. No browser plays such streams, but what
// one plane becomes does not depend on the depth of another.
func TestUnequalDepths(t *testing.T) {
	for _, kind := range []randomKind{{"frames", false, false}, {"fields and MBAFF", true, true}} {
		for seed := range uint64(6) {
			v := newRandomVideo(seed, kind, false)
			v.anyDepth = true
			v.picture(sliceI, 0, true)
			v.picture(sliceP, 8, true)
			v.picture(sliceB, 4, true)
			first := bytes.Clone(v.packets[0])
			film := func(luma, chroma int) (planes [2][]string) {
				v.packets[0] = bytes.Replace(first, v.sps(8, 8), v.sps(luma, chroma), 1)
				d, err := NewDecoder(media.Track{}, 2)
				require.NoError(t, err)
				require.NoError(t, codectest.Decode(t, d, v.packets, func(f media.Frame) {
					require.Equal(t, [2]int{luma, chroma}, [2]int{f.PlaneDepth(0), f.PlaneDepth(1)})
					for i := range f.Planes {
						var values []uint16
						_, h := f.Chroma.PlaneSize(i, f.Width, f.Height)
						for y := range h {
							for _, b := range f.AppendRow(nil, i, y) {
								values = append(values, uint16(b))
							}
						}
						if f.Planes[i].Wide != nil { // two bytes a sample
							for k := range len(values) / 2 {
								values[k] = values[2*k] | values[2*k+1]<<8
							}
							values = values[:len(values)/2]
						}
						planes[min(i, 1)] = append(planes[min(i, 1)], fmt.Sprint(values))
					}
				}))
				return planes
			}
			shallow, deep, lumaDeep, chromaDeep := film(8, 8), film(10, 10), film(10, 8), film(8, 10)
			require.NotEqual(t, shallow, deep)
			require.True(t, slices.Equal(deep[0], lumaDeep[0]), "%s %d: luma of 10 bits", kind.name, seed)
			require.True(t, slices.Equal(shallow[1], lumaDeep[1]), "%s %d: chroma of 8 bits", kind.name, seed)
			require.True(t, slices.Equal(shallow[0], chromaDeep[0]), "%s %d: luma of 8 bits", kind.name, seed)
			require.True(t, slices.Equal(deep[1], chromaDeep[1]), "%s %d: chroma of 10 bits", kind.name, seed)
		}
	}
}
