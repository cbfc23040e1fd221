package hevc

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media/codec/bits"
	"vividstrain/core/media/codec/motion"
	"vividstrain/core/media/codec/nal"
	"vividstrain/core/media/picture"
)

// randomVideo makes streams whose slice data are random: what they mean is up to the decoder, so that
// every kind of coding tree comes up, but for PCM, whose alignment bits would not be legal. A slice is cut after a coding tree block, before anything that an
// encoder may not send.
type randomVideo struct {
	*rand.Rand
	s       stream
	st      state
	w       worker[uint8]
	wide    worker[uint16]
	packet  []byte
	packets [][]byte
	whole   bool // pictures are one slice
	poc     int
	refs    []int // picture order counts that may be referred to
}

func newRandomVideo(seed uint64) *randomVideo {
	v := &randomVideo{Rand: rand.New(rand.NewPCG(seed, 2))}
	v.w.k, v.wide.k = fastKernels(), fastWideKernels()
	v.s.decode, v.whole = func(*frame) {}, v.some()
	v.parameters()
	return v
}

func (v *randomVideo) some() bool { return v.IntN(2) == 0 }

func (v *randomVideo) add(kind int, rbsp []byte) {
	unit := nal.AppendUnit(nil, []byte{byte(kind << 1), 1}, rbsp)
	v.packet = nal.AppendStartCode(v.packet, unit)
	if kind != nalVPS {
		if err := v.s.parameterSet(unit); err != nil {
			panic(err)
		}
	}
}

// parameters makes parameter sets with random tools.
func (v *randomVideo) parameters() {
	s := &sps{profile: profileMain, level: 93, chroma: picture.C420, depth: 8, chromaDepth: 8, pocBits: 8, maxDec: 5, reorder: 0}
	if v.some() {
		s.profile, s.depth, s.chromaDepth = profileMain10, 10, 10
	}
	s.minCb = 3 + v.IntN(2)
	s.ctb = max(4, s.minCb+v.IntN(3))
	s.minTb = 2 + v.IntN(s.minCb-2)
	s.maxTb = min(5, s.ctb, s.minTb+v.IntN(4))
	s.width, s.height = (1+v.IntN(16))<<s.minCb, (1+v.IntN(12))<<s.minCb
	s.depthInter, s.depthIntra = v.IntN(s.ctb-s.minTb+1), v.IntN(s.ctb-s.minTb+1)
	s.temporalMVP, s.strong, s.amp, s.sao = v.some(), v.some(), v.some(), v.some()
	v.add(nalVPS, s.vps())
	w := &bits.Writer{}
	if v.IntN(3) == 0 {
		s.scaling = defaultScaling()
	}
	s.write(w)
	v.add(nalSPS, w.Bytes())
	p := &pps{signHiding: v.some(), cabacInit: v.some(), refs: [2]int{1, 1}, initQP: 20 + v.IntN(20), constrainedIntra: v.IntN(4) == 0,
		transformSkip: v.some(), cuQPDelta: v.some(), cbOffset: v.IntN(9) - 4, crOffset: v.IntN(9) - 4,
		bypass: v.IntN(4) == 0, acrossSlices: v.some(), mergeLevel: 2 + v.IntN(s.ctb-1), deblockOff: v.IntN(6) == 0, beta: 2 * (v.IntN(9) - 4), tc: 2 * (v.IntN(9) - 4)}
	w = &bits.Writer{}
	p.cuQPDeltaDepth = v.IntN(s.ctb - s.minCb + 1)
	p.write(w)
	v.add(nalPPS, w.Bytes())
}

// picture adds a picture of random slices.
func (v *randomVideo) picture(key bool) {
	kind := sliceI
	if !key {
		kind = v.IntN(3)
	}
	if key {
		v.poc, v.refs = 0, v.refs[:0]
	} else {
		v.poc++
	}
	l := v.s.spss.Last()
	for next := 0; next < l.ctbWidth*l.ctbHeight; {
		next = v.slice(next, kind, key)
	}
	v.s.cur.Advance(wholeFrame, 1<<30)
	v.filter()
	v.s.finish()
	for _, f := range v.s.ready {
		f.Drop()
	}
	v.s.ready = v.s.ready[:0]
	if v.refs = append([]int{v.poc}, v.refs...); len(v.refs) > 3 {
		v.refs = v.refs[:3]
	}
	v.packets, v.packet = append(v.packets, v.packet), nil
}

// header returns the header of the next slice as it is written.
func (v *randomVideo) header(address, kind int, key bool) []byte {
	s, p := v.s.spss.Last(), v.s.ppss.Get(0)
	w := &bits.Writer{}
	w.Flag(address == 0)
	if key {
		w.Flag(false)
	}
	w.UE(0)
	if address > 0 {
		w.U(bitsFor(s.ctbWidth*s.ctbHeight), uint32(address))
	}
	w.UE(kind)
	temporal := s.temporalMVP && v.poc&1 == 0 // the same in all slices of a picture
	if !key {
		w.U(s.pocBits, uint32(v.poc)&(1<<s.pocBits-1))
		w.Flag(false)
		set := shortRPS{}
		for _, r := range v.refs {
			set.delta[set.negative], set.used[set.negative] = int32(r-v.poc), true
			set.negative++
		}
		set.write(w)
		if s.temporalMVP {
			w.Flag(temporal)
		}
	}
	// The other decoder leaves out chroma offsets at the sides of blocks where pictures have several slices.
	saoLuma, saoC := v.some(), v.whole && v.some()
	if s.sao {
		w.Flag(saoLuma)
		w.Flag(saoC)
	}
	if kind != sliceI {
		refs := [2]int{1 + v.IntN(3), 1 + v.IntN(3)}
		w.Flag(true)
		w.UE(refs[0] - 1)
		if kind == sliceB {
			w.UE(refs[1] - 1)
			w.Flag(v.some()) // mvd_l1_zero_flag
		}
		if p.cabacInit {
			w.Flag(v.some())
		}
		if temporal {
			if kind == sliceB {
				w.Flag(true)
			}
			if refs[0] > 1 {
				w.UE(0) // one collocated picture in all slices
			}
		}
		w.UE(v.IntN(5)) // five_minus_max_num_merge_cand
	}
	w.SE(v.IntN(9) - 4)
	if p.acrossSlices && (s.sao && (saoLuma || saoC) || !p.deblockOff) {
		w.Flag(v.some())
	}
	w.Trailing()
	return w.Bytes()
}

// slice adds one good slice and returns the coding tree block that follows it.
func (v *randomVideo) slice(first, kind int, key bool) int {
	head := nalTrailN + 1
	if key {
		head = nalIDRNLP
	}
	for try := 0; ; try++ {
		if try > 3000 {
			panic("no slice is good")
		}
		header := v.header(first, kind, key)
		data := make([]byte, 40<<v.IntN(8))
		for i := range data {
			data[i] = byte(v.Uint64())
		}
		data[0] &= 0x7F // codIOffset is never 510 or 511 at the start
		unit := nal.AppendUnit(nil, []byte{byte(head << 1), 1}, append(slices.Clone(header), data...))
		next, ending := v.try(unit, first)
		v.drop()
		if next < 0 {
			continue
		}
		unit = nal.AppendUnit(nil, []byte{byte(head << 1), 1}, append(slices.Clone(header), ending...))
		if err := v.s.slice(unit, 0); err != nil {
			panic(err)
		}
		v.packet = nal.AppendStartCode(v.packet, unit)
		return next
	}
}

// drop takes back the slice that was tried last.
func (v *randomVideo) drop() {
	n := len(v.s.slices) - 1
	v.s.spare = append(v.s.spare, v.s.slices[n])
	v.s.slices, v.s.headers = v.s.slices[:n], v.s.headers[:n]
	v.s.cur.lists = v.s.cur.lists[:n]
}

// try decodes the picture with one more slice. It returns the block that follows it and the data of the
// slice up to there, or -1.
func (v *randomVideo) try(unit []byte, first int) (next int, ending []byte) {
	if err := v.s.slice(unit, 0); err != nil {
		panic(err)
	}
	if v.s.active.depth > 8 {
		return tryLast(v, &v.wide, first)
	}
	return tryLast(v, &v.w, first)
}

func tryLast[T motion.Sample](v *randomVideo, w *worker[T], first int) (next int, ending []byte) {
	last := len(v.s.slices) - 1
	decodeAll(v, w, v.s.slices[:last])
	sl, n := v.s.slices[last], v.s.active.ctbWidth*v.s.active.ctbHeight
	w.startSlice(&sl.h, sl.number)
	data := sl.data.Rest()
	w.cabac.Start(data)
	w.reset()
	w.qpPrev, w.qpY, w.qpPred, w.chromaOffset = sl.h.qp, sl.h.qp, sl.h.qp, [2]int{}
	most := 1 + v.IntN(n-first)
	if v.whole {
		most = n
	}
	for ts := first; ts < n; ts++ {
		w.st.sliceAddr[ts], w.f.sliceOf[ts] = int32(sl.h.start), uint16(sl.number)
		w.codingTreeUnit(ts%w.sps.ctbWidth, ts/w.sps.ctbWidth)
		if w.failed || w.cabac.Overrun() || v.extreme(w.f) {
			return -1, nil
		}
		if ts-first+1 == most {
			return ts + 1, w.cabac.Ending(data)
		}
		if w.cabac.Terminate() {
			return -1, nil
		}
	}
	return -1, nil
}

// decodeAll decodes slices without filtering.
func decodeAll[T motion.Sample](v *randomVideo, w *worker[T], list []*slice) {
	v.st.begin(v.s.cur, v.s.layout)
	v.st.headers = v.s.headers
	w.begin(&v.st)
	w.concealed, w.deblocked, w.finished = 1<<20, 1<<20, 1<<20
	for _, sl := range list {
		sl.data = bits.NewReader(sl.rbsp)
		if err := new(sliceHeader).parse(&sl.data, append([]byte{byte(sl.h.nalType << 1), 1}, sl.rbsp...), &v.s.spss, &v.s.ppss, nil); err != nil {
			panic(err)
		}
		w.slice(sl)
		if w.failed {
			panic("a slice that was good is not")
		}
	}
}

// filter carries out the loop filters of the whole picture, which others refer to.
func (v *randomVideo) filter() {
	if v.s.active.depth > 8 {
		decodeAll(v, &v.wide, v.s.slices)
		v.wide.deblocked, v.wide.finished = 0, 0
		v.wide.filter(v.s.active.ctbHeight)
		return
	}
	decodeAll(v, &v.w, v.s.slices)
	v.w.deblocked, v.w.finished = 0, 0
	v.w.filter(v.s.active.ctbHeight)
}

// extreme tells of vectors beyond what an encoder may send, with which decoders may do as they like.
func (v *randomVideo) extreme(f *frame) bool {
	for i := range f.motion {
		for l, ref := range f.motion[i].ref {
			if m := f.motion[i].mv[l]; ref >= 0 && (motion.Abs32(int32(m.X)) > 2000 || motion.Abs32(int32(m.Y)) > 2000) {
				return true
			}
		}
	}
	return false
}

// What random syntax means is the same for another decoder, and with any number of threads.
func TestRandomStreams(t *testing.T) {
	for seed := range uint64(60) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			v := newRandomVideo(seed)
			for i := range 6 {
				v.picture(i == 0)
			}
			want, complaint := referenceDecode(t, bytes.Join(v.packets, nil))
			require.Empty(t, complaint)
			for _, threads := range []int{1, 3} {
				got, damaged := decoded(t, v.packets, threads)
				require.Zero(t, damaged)
				require.Equal(t, want, got)
			}
		})
	}
}
