// Package picture defines planar pictures, the form in which decoded video moves through the
// program.
package picture

import (
	"crypto/md5"
	"encoding/hex"
	"sync"
)

// Chroma is a chroma sampling.
type Chroma uint8

// The chroma samplings, by the names of Rec. ITU-T H.264, table 6-1.
const (
	C420 Chroma = iota // both chroma planes half as wide and half as high
	C422               // half as wide
	C444               // full size
	C400               // luma alone
)

var chromaNames = [...]string{"4:2:0", "4:2:2", "4:4:4", "4:0:0"}

func (c Chroma) String() string { return chromaNames[c] }

// ParseChroma parses "4:2:0", "4:2:2", "4:4:4" or "4:0:0".
func ParseChroma(s string) (Chroma, bool) {
	for c, name := range chromaNames {
		if s == name {
			return Chroma(c), true
		}
	}
	return 0, false
}

// IsTall reports whether chroma has as many rows as luma.
func (c Chroma) IsTall() bool { return c == C422 || c == C444 }

// Planes returns the number of planes: 3, or 1 without chroma.
func (c Chroma) Planes() int {
	if c == C400 {
		return 1
	}
	return 3
}

// PlaneSize returns the size of plane p (0 luma, 1 and 2 chroma) of a picture of width x height
// luma samples.
func (c Chroma) PlaneSize(p, width, height int) (w, h int) {
	if p == 0 {
		return width, height
	}
	switch c {
	case C420:
		return (width + 1) / 2, (height + 1) / 2
	case C422:
		return (width + 1) / 2, height
	case C444:
		return width, height
	}
	return 0, 0
}

// Plane is one rectangle of samples. Exactly one of Pix and Wide is set: Pix for 8-bit samples,
// Wide (the value in the low bits) if any plane of the picture has more bits.
type Plane struct {
	Pix    []byte
	Wide   []uint16
	Stride int // samples from one row to the next
}

// Picture is one planar picture, cropped to its visible part.
type Picture struct {
	Width, Height int // luma samples
	Depth         int // bits per luma sample
	ChromaDepth   int // bits per chroma sample; 0: as luma
	Chroma        Chroma
	Planes        [3]Plane // Y, Cb, Cr; for C400 the last two are empty

	release func(*Picture) // returns the picture to its owner; may be nil
}

// New allocates a picture.
func New(width, height, depth int, chroma Chroma) *Picture {
	p := &Picture{Width: width, Height: height, Depth: depth, Chroma: chroma}
	for i := range p.Planes {
		w, h := chroma.PlaneSize(i, width, height)
		if w == 0 {
			continue
		}
		p.Planes[i].Stride = w
		if depth > 8 {
			p.Planes[i].Wide = make([]uint16, w*h)
		} else {
			p.Planes[i].Pix = make([]byte, w*h)
		}
	}
	return p
}

// OnRelease sets the function that Release calls.
func (p *Picture) OnRelease(f func(*Picture)) { p.release = f }

// Release returns the picture to its owner, who may reuse its planes. Each picture is released
// once.
func (p *Picture) Release() {
	if p.release != nil {
		p.release(p)
	}
}

// PlaneDepth returns the bits per sample of plane i.
func (p *Picture) PlaneDepth(i int) int {
	if i > 0 && p.ChromaDepth > 0 {
		return p.ChromaDepth
	}
	return p.Depth
}

// AppendRow appends row y of plane i to b: one byte per sample at 8 bits, two bytes, the low one
// first, if any plane has more.
func (p *Picture) AppendRow(b []byte, i, y int) []byte {
	w, _ := p.Chroma.PlaneSize(i, p.Width, p.Height)
	plane := &p.Planes[i]
	if plane.Wide == nil {
		return append(b, plane.Pix[y*plane.Stride:][:w]...)
	}
	for _, v := range plane.Wide[y*plane.Stride:][:w] {
		b = append(b, byte(v), byte(v>>8))
	}
	return b
}

// MD5 returns the checksum of the picture's samples in hexadecimal: the planes Y, Cb and Cr in
// turn, row by row, as AppendRow writes them.
func (p *Picture) MD5() string {
	sum := md5.New()
	var row []byte
	for i := range p.Planes {
		_, h := p.Chroma.PlaneSize(i, p.Width, p.Height)
		for y := range h {
			row = p.AppendRow(row[:0], i, y)
			sum.Write(row)
		}
	}
	return hex.EncodeToString(sum.Sum(nil))
}

// Pool keeps pictures of one shape for reuse. It is safe for several goroutines. The zero value
// works.
type Pool struct {
	mu   sync.Mutex
	free []*Picture
}

// Get returns a picture whose samples are left over from its last use. Pictures of another shape
// that the pool still has are dropped.
func (l *Pool) Get(width, height, depth int, chroma Chroma) *Picture {
	l.mu.Lock()
	defer l.mu.Unlock()
	for n := len(l.free); n > 0; n = len(l.free) {
		p := l.free[n-1]
		l.free = l.free[:n-1]
		if p.Width == width && p.Height == height && p.Depth == depth && p.Chroma == chroma {
			return p
		}
	}
	p := New(width, height, depth, chroma)
	p.OnRelease(l.put)
	return p
}

func (l *Pool) put(p *Picture) {
	l.mu.Lock()
	l.free = append(l.free, p)
	l.mu.Unlock()
}
