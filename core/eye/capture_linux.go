//go:build amd64 || arm64 || riscv64

package eye

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"

	"vividstrain/core/media"
	"vividstrain/core/media/picture"
	"vividstrain/core/media/registry"
)

// Structures and requests of Video4Linux2 (linux/videodev2.h, on 64-bit processors).
type (
	capability struct {
		driver              [16]byte
		card, bus           [32]byte
		version, all, ready uint32
		_                   [3]uint32
	}
	videoFormat struct {
		kind, _                                                 uint32
		width, height, pixels, field, bytesPerLine, size, space uint32
		_                                                       [192 - 20]byte
	}
	streamParameters struct {
		kind, capability, mode, numerator, denominator uint32
		_                                              [204 - 20]byte
	}
	bufferRequest struct{ count, kind, memory, capabilities, flags uint32 }
	buffer        struct {
		index, kind, used, flags, field, _ uint32
		seconds, micros                    int64
		timecode                           [16]byte
		sequence, memory                   uint32
		offset                             uint64
		length, _, _, _                    uint32
	}
)

const (
	captureKind      = 1 // V4L2_BUF_TYPE_VIDEO_CAPTURE
	memoryMapped     = 1 // V4L2_MEMORY_MMAP
	canCapture       = 0x00000001
	canCapturePlanes = 0x00001000
	canStream        = 0x04000000
	hasDeviceCaps    = 0x80000000
	monotonic        = 0x00002000 // V4L2_BUF_FLAG_TIMESTAMP_MONOTONIC
	broken           = 0x00000040 // V4L2_BUF_FLAG_ERROR

	queryCapability = 2<<30 | unsafe.Sizeof(capability{})<<16 | 'V'<<8
	getFormat       = 3<<30 | unsafe.Sizeof(videoFormat{})<<16 | 'V'<<8 | 4
	setFormat       = 3<<30 | unsafe.Sizeof(videoFormat{})<<16 | 'V'<<8 | 5
	requestBuffers  = 3<<30 | unsafe.Sizeof(bufferRequest{})<<16 | 'V'<<8 | 8
	queryBuffer     = 3<<30 | unsafe.Sizeof(buffer{})<<16 | 'V'<<8 | 9
	queueBuffer     = 3<<30 | unsafe.Sizeof(buffer{})<<16 | 'V'<<8 | 15
	dequeueBuffer   = 3<<30 | unsafe.Sizeof(buffer{})<<16 | 'V'<<8 | 17
	streamOn        = 1<<30 | unsafe.Sizeof(uint32(0))<<16 | 'V'<<8 | 18
	streamOff       = 1<<30 | unsafe.Sizeof(uint32(0))<<16 | 'V'<<8 | 19
	getParameters   = 3<<30 | unsafe.Sizeof(streamParameters{})<<16 | 'V'<<8 | 21
)

// pixelFormats are the layouts that are read, the one first that takes the least work.
var pixelFormats = []uint32{fourCC("NV12"), fourCC("YUYV"), fourCC("MJPG")}

func fourCC(s string) uint32 {
	return uint32(s[0]) | uint32(s[1])<<8 | uint32(s[2])<<16 | uint32(s[3])<<24
}

// driver is what the kernel offers of a capture card; simulated in tests.
type driver interface {
	control(request uintptr, argument unsafe.Pointer) error
	memory(offset uint64, length int) ([]byte, error)
	unmap(b []byte) error
	wait(time.Duration) (ready bool, err error)
	close() error
}

// card watches what a capture card sees.
type card struct {
	driver
	path    string
	format  videoFormat
	refresh float64
	buffers [][]byte

	at     Place
	found  bool
	missed int
	torn   int
	flat   bool
	any    bool // a picture came
	looked time.Time
	jpeg   media.Decoder // nil: none was needed yet
	packet media.Packet
}

// buffersWanted is the number of buffers of the card; frameTimeout is how long a picture is waited for.
const (
	buffersWanted = 8
	frameTimeout  = 100 * time.Millisecond
)

func openCapture(path string) (Eye, error) {
	f, err := os.OpenFile(path, os.O_RDWR|unix.O_NONBLOCK, 0)
	if err != nil {
		there, _ := filepath.Glob("/dev/video*")
		if len(there) == 0 {
			return nil, fmt.Errorf("--eye capture: %w; this computer has no capture card: record the screen elsewhere, and give --eye later", err)
		}
		return nil, fmt.Errorf("--eye capture: %w; there is %s", err, strings.Join(there, ", "))
	}
	c, err := newCard(path, &kernel{f})
	if err != nil {
		f.Close()
		return nil, fmt.Errorf("--eye capture:%s: %w", path, err)
	}
	return c, nil
}

// newCard starts capturing.
func newCard(path string, d driver) (*card, error) {
	c := &card{driver: d, path: path, refresh: usualRate}
	var has capability
	if err := d.control(queryCapability, unsafe.Pointer(&has)); err != nil {
		return nil, errors.New("it is no capture card")
	}
	can := has.all
	if can&hasDeviceCaps != 0 {
		can = has.ready
	}
	switch {
	case can&canCapture == 0 && can&canCapturePlanes != 0:
		return nil, errors.New("it gives pictures in several planes only, which are not read; record with it, and give --eye later")
	case can&canCapture == 0 || can&canStream == 0:
		return nil, errors.New("it does not capture; a card often has several devices: try the next one")
	}
	if err := c.choose(); err != nil {
		return nil, err
	}
	p := streamParameters{kind: captureKind}
	if d.control(getParameters, unsafe.Pointer(&p)) == nil && p.numerator > 0 && p.denominator > 0 {
		c.refresh = min(max(float64(p.denominator)/float64(p.numerator), 1), 1000)
	}
	if err := c.start(); err != nil {
		return nil, errors.Join(err, c.release())
	}
	return c, nil
}

// choose keeps the card's format if it is one that is read, and sets one of these else.
func (c *card) choose() error {
	f := &c.format
	f.kind = captureKind
	if err := c.control(getFormat, unsafe.Pointer(f)); err != nil {
		return fmt.Errorf("its format is not known: %w", err)
	}
	for i := -1; i < len(pixelFormats); i++ {
		if i >= 0 {
			f.pixels, f.bytesPerLine, f.size = pixelFormats[i], 0, 0
			if c.control(setFormat, unsafe.Pointer(f)) != nil {
				continue
			}
		}
		for _, known := range pixelFormats {
			if f.pixels == known {
				if f.width < LeastWidth || f.width > media.MaxSide || f.height < 8 || f.height > media.MaxSide {
					return fmt.Errorf("its pictures have %dx%d samples", f.width, f.height)
				}
				return nil
			}
		}
	}
	return errors.New("it gives pictures in none of the formats NV12, YUYV and MJPEG")
}

// start has the card fill buffers.
func (c *card) start() error {
	want := bufferRequest{count: buffersWanted, kind: captureKind, memory: memoryMapped}
	if err := c.control(requestBuffers, unsafe.Pointer(&want)); err != nil {
		return fmt.Errorf("another program uses it, or it is not there any more: %w", err)
	}
	for i := range min(want.count, 32) {
		b := buffer{index: i, kind: captureKind, memory: memoryMapped}
		if err := c.control(queryBuffer, unsafe.Pointer(&b)); err != nil {
			return err
		}
		m, err := c.memory(b.offset, int(b.length))
		if err != nil {
			return err
		}
		c.buffers = append(c.buffers, m)
		if err := c.control(queueBuffer, unsafe.Pointer(&b)); err != nil {
			return err
		}
	}
	kind := uint32(captureKind)
	return c.control(streamOn, unsafe.Pointer(&kind))
}

// release gives buffers back.
func (c *card) release() (err error) {
	kind := uint32(captureKind)
	c.control(streamOff, unsafe.Pointer(&kind)) // fails where it never began
	for _, b := range c.buffers {
		err = errors.Join(err, c.unmap(b))
	}
	c.buffers = nil
	return err
}

// Close implements [Eye].
func (c *card) Close() error {
	if c.jpeg != nil {
		c.jpeg.Close()
	}
	return errors.Join(c.release(), c.close())
}

// Refresh implements [Eye]: it is how many pictures a second the card gives.
func (c *card) Refresh() float64 { return c.refresh }

// Torn implements [Eye].
func (c *card) Torn() int { return c.torn }

// Why implements [Eye].
func (c *card) Why() string {
	switch {
	case !c.any:
		return c.path + " gives no picture: is its cable in, and the screen on?"
	case c.flat:
		return c.path + " sees one colour: a source that is protected against copying, or none"
	}
	return c.path + " sees no marks of our clips: it must see the whole picture"
}

// Look implements [Eye]: it waits for the card's next picture.
func (c *card) Look() (number int, ok bool, at time.Time, err error) {
	ready, err := c.wait(frameTimeout)
	if err != nil || !ready {
		return 0, false, time.Now(), err
	}
	b := buffer{kind: captureKind, memory: memoryMapped}
	if err := c.control(dequeueBuffer, unsafe.Pointer(&b)); err != nil {
		if errors.Is(err, unix.EAGAIN) {
			err = nil
		} else {
			err = fmt.Errorf("%s gives no more pictures: %w", c.path, err)
		}
		return 0, false, time.Now(), err
	}
	at = taken(&b)
	if b.flags&broken == 0 && int(b.index) < len(c.buffers) {
		number, ok = c.look(c.buffers[b.index][:min(int(b.used), len(c.buffers[b.index]))])
	}
	return number, ok, at, c.control(queueBuffer, unsafe.Pointer(&b))
}

// taken returns when a picture came: by the driver's clock, where that is the monotonic one.
func taken(b *buffer) time.Time {
	now := time.Now()
	var t unix.Timespec
	if b.flags&monotonic == 0 || unix.ClockGettime(unix.CLOCK_MONOTONIC, &t) != nil {
		return now
	}
	ago := time.Duration(t.Nano()) - time.Duration(b.seconds)*time.Second - time.Duration(b.micros)*time.Microsecond
	if ago < 0 || ago > time.Second {
		return now
	}
	return now.Add(-ago)
}

// look reads a picture.
func (c *card) look(data []byte) (number int, ok bool) {
	m, ok := c.image(data)
	if !ok {
		return 0, false
	}
	c.any = true
	if c.found {
		top, bottom, okTop, okBottom := Read(m, c.at)
		if okTop && okBottom && top != bottom {
			c.torn++
		}
		if okTop || okBottom {
			if c.missed = 0; okTop {
				return top.Frame, true
			}
			return bottom.Frame, true
		}
		if c.missed++; c.missed < maxMissed {
			return 0, false
		}
		c.found = false
	}
	if time.Since(c.looked) < searchEvery {
		return 0, false
	}
	c.looked = time.Now()
	place, mark, found := Find(m)
	c.at, c.found, c.flat = place, found, !found && isFlat(m)
	return mark.Frame, found
}

// image returns the luma of a picture; false if it is not whole.
func (c *card) image(data []byte) (m *Image, ok bool) {
	m = &Image{Pix: data, Width: int(c.format.width), Height: int(c.format.height), Step: 1}
	switch c.format.pixels {
	case fourCC("YUYV"):
		m.Step = 2
	case fourCC("MJPG"):
		p, err := c.decode(data)
		if err != nil || p.Planes[0].Pix == nil {
			return nil, false
		}
		m = &Image{Pix: p.Planes[0].Pix, Width: p.Width, Height: p.Height, Stride: p.Planes[0].Stride, Step: 1}
		return m, m.Width >= LeastWidth && m.Height > 0
	}
	m.Stride = max(int(c.format.bytesPerLine), m.Width*m.Step)
	return m, len(data) >= (m.Height-1)*m.Stride+m.Width*m.Step
}

// decode decodes a picture in JPEG.
func (c *card) decode(data []byte) (*picture.Picture, error) {
	if c.jpeg == nil {
		codec, err := registry.Codec(registry.NearVideoCodec("MJPG")) // the name that drivers give it
		if err != nil {
			return nil, err
		}
		if c.jpeg, err = codec.NewDecoder(media.Track{}, 1); err != nil {
			return nil, err
		}
	}
	c.packet.Data = append(c.packet.Data[:0], data...)
	if err := c.jpeg.Send(context.Background(), &c.packet); err != nil {
		return nil, err
	}
	frame, err := c.jpeg.Receive(context.Background())
	return frame.Picture, err // of which nobody else has the memory
}

// kernel is the driver of a device.
type kernel struct{ f *os.File }

func (k *kernel) control(request uintptr, argument unsafe.Pointer) error {
	for {
		_, _, no := unix.Syscall(unix.SYS_IOCTL, k.f.Fd(), request, uintptr(argument))
		switch no {
		case 0:
			return nil
		case unix.EINTR:
		default:
			return no
		}
	}
}

func (k *kernel) memory(offset uint64, length int) ([]byte, error) {
	return unix.Mmap(int(k.f.Fd()), int64(offset), length, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_SHARED)
}

func (k *kernel) unmap(b []byte) error { return unix.Munmap(b) }

func (k *kernel) wait(d time.Duration) (bool, error) {
	list := []unix.PollFd{{Fd: int32(k.f.Fd()), Events: unix.POLLIN}}
	n, err := unix.Poll(list, int(d.Milliseconds()))
	if errors.Is(err, unix.EINTR) {
		return false, nil
	}
	return n > 0, err
}

func (k *kernel) close() error { return k.f.Close() }
