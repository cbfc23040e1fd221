package hevc

import (
	"fmt"
	"slices"

	"vividstrain/core/media"
	"vividstrain/core/media/codec/bits"
	"vividstrain/core/media/codec/framepool"
	"vividstrain/core/media/codec/gop"
	"vividstrain/core/media/codec/motion"
	"vividstrain/core/media/codec/nal"
	"vividstrain/core/media/codec/ratecontrol"
	"vividstrain/core/media/picture"
)

// Encoder codes a video. Each picture is decided on and reconstructed, then filtered, and then written,
// since a block's sample adaptive offset comes before its coefficients. It is for one goroutine at a
// time.
type Encoder struct {
	gop.Order
	sps  *sps
	pps  *pps
	s    stream
	st   state
	byte *blockEncoder[uint8]
	wide *blockEncoder[uint16]

	anchors []int // picture order counts of the I and P pictures that are kept, the newest first
	middle  int   // that of the B picture that others refer to, 0 where there is none

	header        sliceHeader // as it is written
	list          [maxDPB]int
	head          bits.Writer
	unit          []byte
	packet        media.Packet
	reconstructed func(f *frame) // takes each reconstructed frame in order of display, for tests
	out           func(*media.Packet) error
}

// NewEncoder makes an encoder that hands each coded picture to out, in decoding order. The packet is
// valid until out returns. Its DTS is in units of frames; its PTS is the one given to Encode.
func NewEncoder(set media.EncoderSettings, out func(*media.Packet) error) (*Encoder, error) {
	if err := CheckFormat(set.Format); err != nil {
		return nil, err
	}
	if set.References == 0 {
		set.References = 1
		if set.Preset == media.Good {
			set.References = 2
		}
	}
	e := &Encoder{Order: gop.Order{Settings: set}, out: out}
	e.sps, e.pps = e.parameters()
	e.Layout = e.sps.frames()
	e.Code = e.codePicture
	e.Start()
	e.s.decode = func(*frame) {}
	for _, unit := range [][]byte{e.sps.append(nil), e.pps.append(nil)} {
		if err := e.s.parameterSet(unit); err != nil {
			return nil, err
		}
	}
	e.sps, e.pps = e.s.spss.Get(0), e.s.ppss.Get(0)
	if e.Layout.Wide() {
		e.wide = newBlockEncoder(e, fastWideKernels(), motion.FastWideDistanceKernels())
	} else {
		e.byte = newBlockEncoder(e, fastKernels(), motion.FastDistanceKernels())
	}
	return e, nil
}

// CheckFormat returns why the encoder cannot make a format, nil if it can.
func CheckFormat(f media.Format) error {
	switch {
	case f.Depth != 8 && f.Depth != 10:
		return fmt.Errorf("hevc is made with 8 or 10 bits a sample, not %d", f.Depth)
	case f.Chroma != picture.C420 && f.Chroma != picture.C422:
		return fmt.Errorf("hevc is made in 4:2:0 and 4:2:2, not %s", f.Chroma)
	case f.Interlaced:
		return fmt.Errorf("hevc is made progressive only")
	case f.Width%2 != 0 || f.Height%2 != 0:
		return fmt.Errorf("hevc cannot have %dx%d samples", f.Width, f.Height)
	case f.Width < 16 || f.Height < 16 || f.Width > 8192 || f.Height > 4320:
		return fmt.Errorf("hevc is made from 16x16 to 8192x4320, not %dx%d", f.Width, f.Height)
	}
	return nil
}

// parameters makes the parameter sets for the settings.
func (e *Encoder) parameters() (*sps, *pps) {
	set := &e.Settings
	s := formatSPS(set.Format)
	s.reorder = set.Reorder()
	s.maxDec = set.References + 1
	if set.BFrames > 0 {
		s.maxDec++
	}
	if set.BFrames > 2 {
		s.maxDec++
	}
	if set.KeyEvery == 1 {
		s.maxDec = 1
	}
	s.level, s.highTier, _ = lowestLevel(s, &set.Format)
	if c := set.Colour; c != (media.Colour{}) {
		s.vui.Signal = nal.Signal{Stated: true, Colour: c}
	}
	s.vui.unitsInTick, s.vui.timeScale = uint32(set.Format.Rate.Den), uint32(set.Format.Rate.Num)
	offset := presets[set.Preset].deblockOffset
	p := &pps{refs: [2]int{1, 1}, initQP: 26, mergeLevel: 2, beta: offset, tc: offset}
	return s, p
}

// Track describes the video as containers need it.
func (e *Encoder) Track() (media.Track, error) {
	return e.Order.Track(Name, toPackets, e.sps.appendVPS(nil), e.sps.append(nil), e.pps.append(nil))
}

// Flush codes the pictures that wait. The next picture begins a new group.
func (e *Encoder) Flush() error {
	err := e.Order.Flush()
	e.s.flush()
	e.releaseShown()
	return err
}

// releaseShown releases the frames that are ready for output.
func (e *Encoder) releaseShown() {
	e.s.ready = framepool.DropAll(e.s.ready, e.reconstructed)
}

// sliceKinds maps the kinds of rate control to slice types.
var sliceKinds = [...]int{ratecontrol.P: sliceP, ratecontrol.B: sliceB, ratecontrol.I: sliceI}

// codePicture codes a picture and outputs its packet.
func (e *Encoder) codePicture(in *gop.Source, kind ratecontrol.Kind, reference bool) error {
	e.packet.Data = e.packet.Data[:0]
	if in.IDR && e.Settings.HDR != nil {
		e.unit = nal.AppendUnit(e.unit[:0], []byte{nalPrefixSEI << 1, 1}, nal.AppendHDR(nil, e.Settings.HDR))
		e.packet.Data = nal.AppendPrefixed(e.packet.Data, e.unit)
	}
	h, err := e.begin(in, kind, reference)
	if err != nil {
		return err
	}
	size := len(e.packet.Data)
	err = e.Attempt(kind, func(qp int) (bits int, err error) {
		h.qp = qp
		if e.wide != nil {
			codeSlice(e, e.wide, in, h)
		} else {
			codeSlice(e, e.byte, in, h)
		}
		e.packet.Data = nal.AppendPrefixed(e.packet.Data[:size], e.unit)
		return 8 * (len(e.packet.Data) - size), nil
	})
	if err != nil {
		return err
	}
	e.s.cur.Advance(framepool.WholeFrame, framepool.AllRows)
	e.s.finish()
	e.keep(in, kind, reference)
	e.releaseShown()
	e.packet.PTS, e.packet.Key = in.PTS, in.IDR
	return e.out(&e.packet)
}

// begin makes the header of a picture's slice and parses it again, which builds the reference lists and
// begins the picture.
func (e *Encoder) begin(in *gop.Source, kind ratecontrol.Kind, reference bool) (*sliceHeader, error) {
	h := &e.header
	*h = sliceHeader{sps: e.sps, pps: e.pps, kind: sliceKinds[kind], pocLSB: in.Number, maxMerge: presets[e.Settings.Preset].maxMerge,
		saoLuma: true, saoC: true, qp: 26}
	switch {
	case in.IDR:
		h.nalType = nalIDRWRADL
		e.anchors, e.middle = e.anchors[:0], 0
	case reference:
		h.nalType = nalTrailN + 1
	}
	if !in.IDR {
		e.references(h, in.Number)
	}
	w := &e.head
	w.Reset()
	h.write(w)
	e.unit = nal.AppendUnit(e.unit[:0], []byte{byte(h.nalType << 1), 1}, w.Bytes())
	if err := e.s.slice(e.unit, in.PTS); err != nil {
		return nil, err
	}
	return &e.s.slices[0].h, nil
}

// references sets the reference picture set and the sizes of the lists of a picture.
func (e *Encoder) references(h *sliceHeader, poc int) {
	if h.kind == sliceP {
		e.anchors, e.middle = e.anchors[:min(len(e.anchors), e.Settings.References)], 0
	}
	list := append(e.list[:0], e.anchors...)
	if e.middle != 0 {
		list = append(list, e.middle)
	}
	slices.SortFunc(list, func(a, b int) int { return b - a })
	set := &h.own
	for _, p := range list { // before the picture, the nearest first
		if p < poc {
			set.delta[set.negative], set.used[set.negative] = int32(p-poc), true
			set.negative++
		}
	}
	slices.Reverse(list)
	for _, p := range list {
		if p > poc {
			set.delta[set.n()], set.used[set.n()] = int32(p-poc), true
			set.positive++
		}
	}
	h.refs[0] = max(1, min(set.negative, e.Settings.References))
	if h.kind == sliceB {
		h.refs[1] = 1
	}
	h.temporalMVP = true
	h.short = set
}

// keep records a picture that later ones may refer to.
func (e *Encoder) keep(in *gop.Source, kind ratecontrol.Kind, reference bool) {
	switch {
	case kind == ratecontrol.B && reference:
		e.middle = in.Number
	case kind != ratecontrol.B && e.Settings.KeyEvery > 1:
		e.anchors = slices.Insert(e.anchors, 0, in.Number)
	}
}

// codeSlice codes a picture with the quantiser of its header as a NAL unit.
func codeSlice[T motion.Sample](e *Encoder, c *blockEncoder[T], in *gop.Source, h *sliceHeader) {
	e.st.begin(e.s.cur, e.s.layout)
	e.s.cur.forgetMotion() // blocks under way look at that of others
	e.st.headers = append(e.st.headers[:0], h)
	c.begin(&e.st, h, in)
	for y := range e.sps.ctbHeight {
		for x := range e.sps.ctbWidth {
			c.encodeTree(x, y)
		}
	}
	c.filterPicture()
	w := &e.head
	w.Reset()
	h.write(w)
	e.unit = nal.AppendUnit(e.unit[:0], []byte{byte(h.nalType << 1), 1}, c.writeSlice(w.Bytes()))
}
