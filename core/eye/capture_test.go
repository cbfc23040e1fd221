//go:build linux && (amd64 || arm64 || riscv64)

package eye

import (
	"bytes"
	"errors"
	"image"
	"image/jpeg"
	"testing"
	"time"
	"unsafe"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"vividstrain/core/media"
	"vividstrain/core/media/picture"
	"vividstrain/core/media/scene"
)

// simulatedCard is the driver of a card that sees a film: every frame twice.
type simulatedCard struct {
	pixels  uint32 // the format that it has, or takes
	takes   bool   // others are refused
	can     uint32
	tables  bool // JPEG has its Huffman tables
	frames  int  // 0: there is no signal
	refuses uintptr

	drawer  *scene.Drawer
	buffers [][]byte
	queued  []uint32
	shown   int
	closed  bool
}

const cardWidth, cardHeight = 640, 360

func (s *simulatedCard) control(request uintptr, argument unsafe.Pointer) error {
	if request == s.refuses {
		return unix.EBUSY
	}
	switch request {
	case queryCapability:
		c := (*capability)(argument)
		c.all, c.ready = hasDeviceCaps, s.can
	case getFormat:
		f := (*videoFormat)(argument)
		f.width, f.height, f.pixels = cardWidth, cardHeight, s.pixels
		if s.takes {
			f.pixels = fourCC("RGB3")
		}
	case setFormat:
		f := (*videoFormat)(argument)
		if f.pixels != s.pixels {
			return unix.EINVAL
		}
		f.bytesPerLine = 0
	case getParameters:
		p := (*streamParameters)(argument)
		p.numerator, p.denominator = 1, 50
	case requestBuffers:
		(*bufferRequest)(argument).count = 3
	case queryBuffer:
		b := (*buffer)(argument)
		b.length, b.offset = 4*cardWidth*cardHeight, uint64(b.index)<<20
	case queueBuffer:
		s.queued = append(s.queued, (*buffer)(argument).index)
	case dequeueBuffer:
		b := (*buffer)(argument)
		if len(s.queued) == 0 {
			return unix.EAGAIN
		}
		if s.shown == 2*s.frames {
			return unix.ENODEV
		}
		b.index, s.queued = s.queued[0], s.queued[1:]
		b.used = uint32(s.draw(s.buffers[b.index], s.shown/2))
		s.shown++
	case streamOn, streamOff:
	default:
		return unix.ENOTTY
	}
	return nil
}

func (s *simulatedCard) memory(_ uint64, length int) ([]byte, error) {
	s.buffers = append(s.buffers, make([]byte, length))
	return s.buffers[len(s.buffers)-1], nil
}

func (*simulatedCard) unmap([]byte) error                 { return nil }
func (s *simulatedCard) wait(time.Duration) (bool, error) { return s.frames > 0, nil }
func (s *simulatedCard) close() error                     { s.closed = true; return nil }

// draw writes a frame in the card's format, and returns its size.
func (s *simulatedCard) draw(to []byte, frame int) int {
	p := picture.New(cardWidth, cardHeight, 8, picture.C420)
	s.drawer.Draw(p, frame)
	luma := p.Planes[0]
	switch s.pixels {
	case fourCC("MJPG"):
		var b bytes.Buffer
		m := image.NewYCbCr(image.Rect(0, 0, cardWidth, cardHeight), image.YCbCrSubsampleRatio420)
		for y := range cardHeight {
			copy(m.Y[y*m.YStride:], luma.Pix[y*luma.Stride:][:cardWidth])
		}
		if err := jpeg.Encode(&b, m, nil); err != nil {
			panic(err)
		}
		data := b.Bytes()
		if !s.tables {
			data = withoutTables(data)
		}
		return copy(to, data)
	case fourCC("YUYV"):
		for i := range cardWidth * cardHeight {
			to[2*i], to[2*i+1] = luma.Pix[i/cardWidth*luma.Stride+i%cardWidth], 128
		}
		return 2 * cardWidth * cardHeight
	}
	for y := range cardHeight {
		copy(to[y*cardWidth:], luma.Pix[y*luma.Stride:][:cardWidth])
	}
	return cardWidth * cardHeight * 3 / 2
}

// withoutTables removes the Huffman tables of an image.
func withoutTables(data []byte) []byte {
	out := append([]byte(nil), data[:2]...)
	for i := 2; ; {
		n := 2 + int(data[i+2])<<8 + int(data[i+3])
		switch data[i+1] {
		case 0xC4:
		case 0xDA:
			return append(out, data[i:]...)
		default:
			out = append(out, data[i:i+n]...)
		}
		i += n
	}
}

func newSimulatedCard(t *testing.T, pixels string) *simulatedCard {
	stage, err := scene.New(scene.Order{Format: media.Format{Width: cardWidth, Height: cardHeight, Rate: media.Rate{Num: 25, Den: 1}, Depth: 8}, Clip: 9})
	require.NoError(t, err)
	return &simulatedCard{pixels: fourCC(pixels), can: canCapture | canStream, frames: 12, drawer: stage.NewDrawer()}
}

func TestCaptureCardsAreRead(t *testing.T) {
	for _, pixels := range []string{"NV12", "YUYV", "MJPG"} {
		for _, takes := range []bool{false, true} {
			s := newSimulatedCard(t, pixels)
			s.takes, s.tables = takes, takes
			c, err := newCard("/dev/video0", s)
			require.NoError(t, err)
			require.Equal(t, 50., c.Refresh())
			for i := range 2 * s.frames {
				number, ok, _, err := c.Look()
				require.NoError(t, err)
				require.True(t, ok, "%s, picture %d", pixels, i)
				require.Equal(t, i/2, number)
			}
			_, _, _, err = c.Look() // the card is pulled out
			require.ErrorIs(t, err, unix.ENODEV)
			require.ErrorContains(t, err, "/dev/video0 gives no more pictures")
			require.NoError(t, c.Close())
			require.True(t, s.closed)
		}
	}
}

func TestCaptureCardsThatCannot(t *testing.T) {
	for want, change := range map[string]func(s *simulatedCard){
		"it is no capture card":   func(s *simulatedCard) { s.refuses = queryCapability },
		"try the next one":        func(s *simulatedCard) { s.can = canStream },
		"several planes":          func(s *simulatedCard) { s.can = canCapturePlanes | canStream },
		"its format is not known": func(s *simulatedCard) { s.refuses = getFormat },
		"none of the formats":     func(s *simulatedCard) { s.takes, s.pixels = true, fourCC("H264") },
		"another program uses it": func(s *simulatedCard) { s.refuses = requestBuffers },
	} {
		s := newSimulatedCard(t, "YUYV")
		change(s)
		_, err := newCard("/dev/video0", s)
		require.ErrorContains(t, err, want)
	}
	s := newSimulatedCard(t, "YUYV")
	s.frames = 0
	c, err := newCard("/dev/video0", s)
	require.NoError(t, err)
	_, ok, _, err := c.Look()
	require.NoError(t, err)
	require.False(t, ok)
	require.Contains(t, c.Why(), "is its cable in")
	_, err = Open("capture:/dev/no-such-card")
	require.True(t, errors.Is(err, unix.ENOENT), "%v", err)
}

// What a card gives is not trusted.
func FuzzCapturedPictures(f *testing.F) {
	f.Add([]byte{0xFF, 0xD8, 0xFF, 0xDA, 0, 2, 1, 2, 3}, uint16(640), uint16(0), byte(2))
	f.Fuzz(func(t *testing.T, data []byte, width, stride uint16, kind byte) {
		c := &card{format: videoFormat{width: uint32(width), height: 32, bytesPerLine: uint32(stride), pixels: pixelFormats[int(kind)%len(pixelFormats)]}}
		c.look(data)
	})
}
