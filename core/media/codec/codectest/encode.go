package codectest

import (
	"fmt"
	"math"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
	"vividstrain/core/media/picture"
	"vividstrain/core/media/quality"
	"vividstrain/core/media/scene"
)

// Film draws frame n of something that moves: waves that travel, a disc that crosses, a cut now and then,
// and fine noise.
func Film(p *picture.Picture, n int) {
	seed := uint32(n)*2654435761 + 1
	for i := range p.Planes {
		w, h := p.Chroma.PlaneSize(i, p.Width, p.Height)
		for y := range h {
			for x := range w {
				u, v := float64(x)*float64(p.Width)/float64(w), float64(y)*float64(p.Height)/float64(h)
				t := float64(n)
				s := 110 + 40*math.Sin((u+2.3*t)/9) + 30*math.Sin((v-1.1*t)/7+u/31) + float64(n/17%2*30)
				if math.Hypot(u-math.Mod(5*t, float64(p.Width)), v-float64(p.Height)/2) < float64(p.Height)/6 {
					s = 200 + 20*math.Sin(u*v/50)
				}
				if i > 0 {
					s = 128 + (s-128)*0.4
				}
				seed = seed*1664525 + 1013904223
				s += float64(seed>>28) / 4
				value := max(0, min(s, 255))
				if p.Planes[i].Wide != nil {
					p.Planes[i].Wide[y*p.Planes[i].Stride+x] = uint16(value * float64(int(1)<<(p.Depth-8)))
				} else {
					p.Planes[i].Pix[y*p.Planes[i].Stride+x] = byte(value)
				}
			}
		}
	}
}

// Encoding is how a codec's encoder is driven.
type Encoding struct {
	ToByteStream func(media.Track) (media.Filter, error)
	// New starts an encoder that hands each reconstructed picture to shown, in order of display.
	New func(set media.EncoderSettings, out func(*media.Packet) error, shown func(*picture.Picture)) (media.Encoder, error)
}

// Coded is what an encoder made.
type Coded struct {
	Track   media.Track
	Packets [][]byte // byte streams
	Sums    []string // MD5 of the encoder's own pictures
	Bits    int
	BitsOf  []int   // of each packet
	PSNR    float64 // of luma, mean
}

// Encode codes frames of Film.
func (c Encoding) Encode(t testing.TB, set media.EncoderSettings, frames int) (r Coded) {
	var sources []*picture.Picture
	shown := 0
	e, err := c.New(set, func(p *media.Packet) error {
		filter, err := c.ToByteStream(r.Track)
		require.NoError(t, err)
		list, err := filter(p)
		require.NoError(t, err)
		r.Packets = append(r.Packets, list[0].Data)
		r.Bits += 8 * len(p.Data)
		r.BitsOf = append(r.BitsOf, 8*len(p.Data))
		return nil
	}, func(p *picture.Picture) {
		r.Sums = append(r.Sums, p.MD5())
		r.PSNR += quality.PSNR(p, sources[shown]) / float64(frames)
		shown++
	})
	require.NoError(t, err)
	r.Track, err = e.Track()
	require.NoError(t, err)
	for n := range frames {
		p := picture.New(set.Format.Width, set.Format.Height, set.Format.Depth, set.Format.Chroma)
		Film(p, n)
		sources = append(sources, p)
		require.NoError(t, e.Encode(p, int64(n)))
	}
	require.NoError(t, e.Flush())
	require.Equal(t, frames, shown)
	return r
}

// BitrateIsHeld codes six seconds of 25 frames and requires that the bitrate of the settings comes out,
// within 3 %, and that no second takes more than 1.3 times as much.
func (c Encoding) BitrateIsHeld(t *testing.T, set media.EncoderSettings) {
	name, bitrate := fmt.Sprintf("%+v", set), float64(set.Format.Bitrate)
	r := c.Encode(t, set, 150)
	require.InEpsilon(t, bitrate*6, float64(r.Bits), 0.03, name)
	worst := 0
	for from := 25; from+25 <= len(r.BitsOf); from++ {
		sum := 0
		for _, n := range r.BitsOf[from : from+25] {
			sum += n
		}
		worst = max(worst, sum)
	}
	t.Logf("%s: mean %.3f worst second %.3f, %.1f dB", name, float64(r.Bits)/(6*bitrate), float64(worst)/bitrate, r.PSNR)
	require.Less(t, float64(worst), 1.3*bitrate, name)
}

// AllocatesNothing requires that pictures after the first two groups allocate next to nothing.
func (c Encoding) AllocatesNothing(t *testing.T, set media.EncoderSettings) {
	e, err := c.New(set, func(*media.Packet) error { return nil }, nil)
	require.NoError(t, err)
	n := 0
	next := func() {
		p := e.Picture()
		Film(p, n)
		require.NoError(t, e.Encode(p, int64(n)))
		n++
	}
	for range 2 * set.KeyEvery {
		next()
	}
	require.Less(t, testing.AllocsPerRun(2*set.KeyEvery, next), 1.0, "%d bits", set.Format.Depth)
}

// drawn returns pictures of a scene.
func drawn(b *testing.B, name string, f media.Format, noise float64, count int) (list []*picture.Picture) {
	stage, err := scene.New(scene.Order{Scene: name, Format: f, Noise: noise})
	require.NoError(b, err)
	d := stage.NewDrawer()
	for n := range count {
		p := picture.New(f.Width, f.Height, f.Depth, f.Chroma)
		d.Draw(p, n)
		list = append(list, p)
	}
	return list
}

// BenchmarkQuality encodes a second of each scene at 720p with constant QPs on one thread, and reports
// bits, PSNR and speed.
func (c Encoding) BenchmarkQuality(b *testing.B, set media.EncoderSettings) {
	for _, name := range scene.Names() {
		for i := range 4 {
			set := set
			set.Preset, set.QP = media.Preset(i&1), 27+10*(i>>1)
			set.Format.Width, set.Format.Height, set.KeyEvery = 1280, 720, 60
			if set.Preset == media.Good {
				set.BFrames = 1
			}
			b.Run(fmt.Sprintf("%s %s QP %d", name, []string{"fast", "good"}[set.Preset], set.QP), func(b *testing.B) {
				sources := drawn(b, name, set.Format, 1, 28)
				bits, db, frames := 0, 0.0, 0
				for b.Loop() {
					shown := 0
					e, err := c.New(set, func(p *media.Packet) error { bits += 8 * len(p.Data); return nil }, func(p *picture.Picture) {
						b.StopTimer()
						db += quality.PSNR(p, sources[shown])
						shown++
						frames++
						b.StartTimer()
					})
					require.NoError(b, err)
					for n, p := range sources {
						require.NoError(b, e.Encode(p, int64(n)))
					}
					require.NoError(b, e.Flush())
				}
				b.ReportMetric(0, "ns/op")
				b.ReportMetric(float64(bits)/float64(frames)/1000, "kbit/frame")
				b.ReportMetric(db/float64(frames), "dB")
				b.ReportMetric(float64(frames)/b.Elapsed().Seconds(), "frames/s")
			})
		}
	}
}

// BenchmarkEncoder codes 1080p with a constant quantiser on one thread, without drawing.
func (c Encoding) BenchmarkEncoder(b *testing.B, set media.EncoderSettings) {
	for _, depth := range []int{8, 10} {
		for _, effort := range []media.Preset{media.Fast, media.Good} {
			b.Run(fmt.Sprintf("%d bit %s", depth, []string{"fast", "good"}[effort]), func(b *testing.B) {
				set := set
				set.Format.Width, set.Format.Height, set.Format.Depth, set.Preset, set.KeyEvery = 1920, 1080, depth, effort, 50
				e, err := c.New(set, func(p *media.Packet) error { return nil }, nil)
				require.NoError(b, err)
				list := drawn(b, "", set.Format, 0, 10)
				n := 0
				b.ReportAllocs()
				for b.Loop() {
					require.NoError(b, e.Encode(list[n%10], int64(n)))
					n++
				}
				b.ReportMetric(float64(n)/b.Elapsed().Seconds(), "frames/s")
				b.ReportMetric(0, "ns/op")
			})
		}
	}
}
