// Package gop puts the pictures that an encoder is given into coding order and into groups that begin
// with an IDR picture, and chooses their quantisers. Groups are closed: no picture refers beyond its own.
package gop

import (
	"vividstrain/core/media"
	"vividstrain/core/media/codec/framepool"
	"vividstrain/core/media/codec/motion"
	"vividstrain/core/media/codec/nal"
	"vividstrain/core/media/codec/ratecontrol"
	"vividstrain/core/media/picture"
)

// Source is a picture to be coded, padded to the coded size by repeating its last columns and rows.
type Source struct {
	framepool.Frame
	Number int // since the last IDR picture, in order of display
	IDR    bool
}

// Order hands pictures to Code in coding order: an I or P picture before the B pictures that are shown
// before it, and of three or more of these the middle one first, as a reference for the others.
type Order struct {
	Settings media.EncoderSettings
	Layout   framepool.Layout // of the coded pictures
	Fields   bool             // frames are coded as two fields, which rate control counts
	Rate     ratecontrol.Control
	IDRs     int // IDR pictures so far, from the first group of the video on
	// Code codes a picture. It is called from Encode and Flush.
	Code func(in *Source, kind ratecontrol.Kind, reference bool) error

	waiting   []*Source // in order of display
	spare     []*Source
	drawn     *Source // handed out to be drawn into
	nextGroup int     // frames of the group to come
	groupLeft int     // frames still to come of the one that has begun
	number    int     // of the next frame since the last IDR picture
}

// Start prepares for the first group.
func (o *Order) Start() {
	o.Settings.KeyEvery = max(o.Settings.KeyEvery, 1)
	o.nextGroup = o.Settings.KeyEvery
	o.Rate.Begin(o.rateSettings())
}

func (o *Order) rateSettings() ratecontrol.Settings {
	f := &o.Settings.Format
	return ratecontrol.Settings{Bitrate: float64(f.Bitrate), Rate: f.Rate.Hz() * float64(o.parts()), QP: o.Settings.QP, MinQP: -6 * (f.Depth - 8)}
}

// Track describes the video as containers need it: sets are its parameter sets, and toPackets is the
// codec's bitstream filter, which makes the configuration record of them.
func (o *Order) Track(codec string, toPackets func(t media.Track, first []byte) (media.Track, media.Filter, error), sets ...[]byte) (media.Track, error) {
	set := &o.Settings
	var first []byte
	for _, unit := range sets {
		first = nal.AppendStartCode(first, unit)
	}
	t, _, err := toPackets(media.Track{Codec: codec, Format: set.Format, Colour: set.Colour, HDR: set.HDR, Timescale: int64(set.Format.Rate.Num)}, first)
	return t, err
}

// parts is the number of pictures that a frame is coded as.
func (o *Order) parts() int {
	if o.Fields {
		return 2
	}
	return 1
}

// Picture implements [media.Encoder].
func (o *Order) Picture() *picture.Picture {
	if o.drawn == nil {
		o.drawn = o.acquire()
	}
	return &o.drawn.Picture
}

// Encode implements [media.Encoder].
func (o *Order) Encode(p *picture.Picture, pts int64) error {
	in := o.drawn
	if in != nil && p == &in.Picture {
		o.drawn = nil
	} else {
		in = o.acquire()
		in.copy(p)
	}
	in.extend(&o.Layout)
	in.PTS, in.Number = pts, o.number
	if o.groupLeft == 0 {
		o.Rate.BeginGroup(o.countPictures(o.nextGroup))
		o.groupLeft, o.nextGroup = o.nextGroup, o.Settings.KeyEvery
	}
	o.groupLeft--
	o.waiting = append(o.waiting, in)
	o.number++
	if in.Number == 0 || len(o.waiting) > o.Settings.BFrames || o.number == o.Settings.KeyEvery {
		if err := o.code(); err != nil {
			return err
		}
	}
	if o.number == o.Settings.KeyEvery {
		o.number = 0
	}
	return nil
}

// Flush implements [media.Encoder].
func (o *Order) Flush() error {
	err := o.code()
	o.number, o.groupLeft = 0, 0
	return err
}

// Begin implements [media.Encoder].
func (o *Order) Begin(g media.Group) {
	o.nextGroup, o.groupLeft, o.number = g.Frames, 0, 0
	o.IDRs = g.Number
	if o.Settings.KeyEvery == 1 {
		o.IDRs *= g.Frames
	}
	o.Rate.Begin(o.rateSettings())
	o.Rate.Costs, o.Rate.Carry, o.Rate.GroupBits = g.Costs, g.Carry, g.Bits
}

// Costs implements [media.Encoder].
func (o *Order) Costs() media.Costs { return o.Rate.Costs }

// countPictures counts the pictures of each kind in a group of n frames.
func (o *Order) countPictures(n int) (count [3]int) {
	parts := o.parts()
	if o.Settings.KeyEvery == 1 {
		count[ratecontrol.I] = n * parts
		return count
	}
	anchors := (n - 1 + o.Settings.BFrames) / (o.Settings.BFrames + 1)
	count[ratecontrol.I] = 1
	count[ratecontrol.B] = parts * (n - 1 - anchors)
	count[ratecontrol.P] = anchors*parts + parts - 1
	return count
}

// code codes the waiting pictures: the last one first, then those before it.
func (o *Order) code() error {
	n := len(o.waiting)
	if n == 0 {
		return nil
	}
	anchor := o.waiting[n-1]
	kind := ratecontrol.P
	if anchor.IDR = anchor.Number == 0 || o.Settings.KeyEvery == 1; anchor.IDR {
		kind, anchor.Number = ratecontrol.I, 0
	}
	err := o.Code(anchor, kind, true)
	if anchor.IDR {
		o.IDRs++
	}
	if err == nil {
		err = o.codeBetween(o.waiting[:n-1])
	}
	o.spare = append(o.spare, o.waiting...)
	o.waiting = o.waiting[:0]
	return err
}

func (o *Order) codeBetween(list []*Source) error {
	middle := -1
	if len(list) > 2 {
		middle = len(list) / 2
		if err := o.Code(list[middle], ratecontrol.B, true); err != nil {
			return err
		}
	}
	for i, in := range list {
		if i == middle {
			continue
		}
		if err := o.Code(in, ratecontrol.B, false); err != nil {
			return err
		}
	}
	return nil
}

// Attempt codes a picture with the quantisers that rate control asks for until it accepts the size.
// code returns the number of bits that it took.
func (o *Order) Attempt(kind ratecontrol.Kind, code func(qp int) (bits int, err error)) error {
	for rejected := 0; ; rejected++ {
		qp := o.Rate.QP(kind, rejected)
		bits, err := code(qp)
		if err != nil || o.Rate.Accept(kind, qp, bits, rejected) {
			return err
		}
	}
}

// acquire returns an unused source picture.
func (o *Order) acquire() *Source {
	if n := len(o.spare); n > 0 {
		in := o.spare[n-1]
		o.spare = o.spare[:n-1]
		in.IDR = false
		return in
	}
	in := &Source{}
	in.Init(o.Layout, nil)
	return in
}

// copy copies the samples of p.
func (in *Source) copy(p *picture.Picture) {
	for i := range in.Planes {
		w, h := p.Chroma.PlaneSize(i, p.Width, p.Height)
		dst, src := &in.Planes[i], &p.Planes[i]
		for y := range h {
			if dst.Wide != nil {
				copy(dst.Wide[y*dst.Stride:], src.Wide[y*src.Stride:][:w])
			} else {
				copy(dst.Pix[y*dst.Stride:], src.Pix[y*src.Stride:][:w])
			}
		}
	}
}

// extend repeats the last columns and rows.
func (in *Source) extend(l *framepool.Layout) {
	for i := range in.Planes {
		w, h := l.Chroma.PlaneSize(i, l.Width, l.Height)
		full, rows := l.Chroma.PlaneSize(i, l.CodedWidth, l.CodedHeight)
		if plane := &in.Planes[i]; plane.Wide != nil {
			extendPlane(plane.Wide, plane.Stride, w, h, full, rows)
		} else {
			extendPlane(plane.Pix, plane.Stride, w, h, full, rows)
		}
	}
}

func extendPlane[T motion.Sample](pix []T, stride, w, h, full, rows int) {
	if full > w {
		motion.ExtendBlock(pix, w, stride, full-w, h)
	}
	for y := h; y < rows; y++ {
		copy(pix[y*stride:][:full], pix[(h-1)*stride:])
	}
}
