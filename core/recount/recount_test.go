package recount

import (
	"context"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
	"vividstrain/core/media/clip"
	"vividstrain/core/media/picture"
	"vividstrain/core/media/registry"
	"vividstrain/core/media/scene"
)

// shoot is a recording of a screen that shows a film.
type shoot struct {
	width, height int     // of the recording
	rate          int     // of the recording
	x, y          int     // of the picture in it
	scale         float64 // of the picture
	noise         int
	blur          bool
	low, high     int   // black and white
	bitrate       int64 // of the recording's h264
	seconds       float64
	clip          int                 // the film's number
	angle         float64             // at which the camera sees the screen, around the vertical axis
	tilt          float64             // and the camera's own, both in degrees
	shows         func(t float64) int // the frame at a time, by the film's numbers
	other         func(t float64) int // on another screen, half a recording to the right; nil: there is none
	torn          map[int]bool        // recorded pictures whose lower half is of the next frame
	wrong         map[int]bool        // recorded pictures a tenth of which is a light area
}

// record makes the recording.
func record(t *testing.T, s shoot) string {
	film := media.Format{Codec: "h264", Width: 640, Height: 360, Rate: media.Rate{Num: 25, Den: 1}, Depth: 8, Chroma: picture.C420, Bitrate: 1e6}
	stage, err := scene.New(scene.Order{Format: film, Clip: s.clip})
	require.NoError(t, err)
	drawer, p := stage.NewDrawer(), picture.New(film.Width, film.Height, 8, picture.C420)
	w, h := int(float64(film.Width)*s.scale)&^1, int(float64(film.Height)*s.scale)&^1
	scaler := picture.NewScaler(picture.Shape{Width: film.Width, Height: film.Height, Depth: 8}, picture.Shape{Width: w, Height: h, Depth: 8}, picture.AllRows)
	scaled, next := picture.New(w, h, 8, picture.C420), picture.New(w, h, 8, picture.C420)
	out := media.Format{Codec: "h264", Width: s.width, Height: s.height, Rate: media.Rate{Num: s.rate, Den: 1}, Depth: 8, Chroma: picture.C420, Bitrate: s.bitrate}
	path := filepath.Join(t.TempDir(), "recording.mp4")
	file, err := os.Create(path)
	require.NoError(t, err)
	defer file.Close()
	codec, err := registry.Codec("h264")
	require.NoError(t, err)
	var muxer media.Muxer
	var encoder media.Encoder
	encoder, err = codec.NewEncoder(media.EncoderSettings{Format: out, KeyEvery: s.rate}, func(p *media.Packet) error {
		if p.Duration = 1; muxer == nil {
			track, err := encoder.Track()
			require.NoError(t, err)
			track.Timescale = int64(s.rate)
			muxer, err = registry.Write(registry.MP4, file, []media.Track{track}, int(s.seconds*float64(s.rate)))
			require.NoError(t, err)
		}
		return muxer.WritePacket(p)
	})
	require.NoError(t, err)
	r, screen := rand.New(rand.NewPCG(1, 2)), picture.New(s.width, s.height, 8, picture.C420)
	gain := float64(s.high-s.low) / 219
	noise := make([]int, 1<<16)
	for i := range noise {
		noise[i] = r.IntN(2*s.noise+1) - s.noise
	}
	for k := range int(s.seconds * float64(s.rate)) {
		n := s.shows(float64(k) / float64(s.rate))
		draw := func(n int, to *picture.Picture) {
			drawer.Draw(p, n)
			scaler.Scale(to, p)
		}
		draw(n, scaled)
		lower := scaled
		if s.torn[k] {
			draw(n+1, next)
			lower = next
		}
		if s.other != nil {
			draw(s.other(float64(k)/float64(s.rate)), next)
		}
		if s.angle != 0 || s.tilt != 0 {
			lower = askew(s, scaled, lower)
		}
		for y := range s.height {
			row := screen.Planes[0].Pix[y*screen.Planes[0].Stride:][:s.width]
			for x := range row {
				row[x] = 16
			}
			if in := y - s.y; in >= 0 && in < h {
				from := scaled
				if in > h/2 || s.angle != 0 || s.tilt != 0 {
					from = lower
				}
				copy(row[s.x:], from.Planes[0].Pix[in*from.Planes[0].Stride:][:w])
				if s.other != nil {
					copy(row[s.x+s.width/2:], next.Planes[0].Pix[in*next.Planes[0].Stride:][:w])
				}
			}
			if s.wrong[k] && y > s.height/2 && y < s.height*7/10 {
				for x := s.width/4 + 1; x < s.width*3/4; x++ {
					row[x] = 200
				}
			}
			grain := noise[r.IntN(len(noise)-s.width):]
			for x, v := range row {
				row[x] = byte(max(0, min(s.low+int(float64(int(v)-16)*gain)+grain[x], 255)))
			}
			if s.blur {
				for x := 2; x < s.width-2; x++ {
					row[x] = byte((int(row[x-2]) + int(row[x-1]) + int(row[x]) + int(row[x+1]) + int(row[x+2])) / 5)
				}
			}
		}
		for c := 1; c < 3; c++ {
			for i := range screen.Planes[c].Pix {
				screen.Planes[c].Pix[i] = 128
			}
		}
		require.NoError(t, encoder.Encode(screen, int64(k)))
	}
	require.NoError(t, encoder.Flush())
	require.NoError(t, muxer.Close())
	return path
}

// askew returns what a camera sees of a picture at the recording's angle, the far side smaller; the lower
// half is that of another picture.
func askew(s shoot, p, lower *picture.Picture) *picture.Picture {
	out := picture.New(p.Width, p.Height, 8, picture.C420)
	w, h := float64(p.Width), float64(p.Height)
	turnSin, turnCos := math.Sincos(s.angle * math.Pi / 180)
	tiltSin, tiltCos := math.Sincos(s.tilt * math.Pi / 180)
	const distance, shrink = 2.2, 1.4 // in widths
	for y := range p.Height {
		for x := range p.Width {
			// The ray of the pixel meets the screen, which is turned around its middle.
			u, v := shrink*(float64(x)-w/2)/w/distance, shrink*(float64(y)-h/2)/w/distance
			u, v = u*tiltCos-v*tiltSin, u*tiltSin+v*tiltCos
			at := u * distance / (turnCos - u*turnSin)
			sx, sy := w/2+at*w, h/2+v*(distance+at*turnSin)*w
			from := p
			if sy > h/2 {
				from = lower
			}
			v8 := byte(30)
			if sx >= 0 && sy >= 0 && sx < w && sy < h {
				v8 = from.Planes[0].Pix[int(sy)*from.Planes[0].Stride+int(sx)]
			}
			out.Planes[0].Pix[y*out.Planes[0].Stride+x] = v8
		}
	}
	return out
}

// playing shows a film of 25 frames a second, with dropped frames.
func playing(dropped ...int) func(t float64) int {
	return func(t float64) int {
		n := int(t*25 + 1e-6)
		for range 5 {
			for _, d := range dropped {
				if n == d {
					n--
				}
			}
		}
		return n
	}
}

// usual is a recording of a capture card.
func usual() shoot {
	return shoot{width: 640, height: 360, rate: 60, scale: 1, low: 16, high: 235, bitrate: 2e6, seconds: 1.6, clip: 7, shows: playing(8, 20, 21, 33)}
}

func count(t *testing.T, s shoot) *Account {
	return file(t, record(t, s), "")
}

// file counts a recording of one screen.
func file(t *testing.T, path, clip string) *Account {
	r, err := File(t.Context(), path, Options{Refresh: 60, Clip: clip})
	require.NoError(t, err)
	require.Len(t, r.Screens, 1)
	require.Nil(t, r.DelayMS)
	return r.Screens[0]
}

func TestRecordingsAreCounted(t *testing.T) {
	for name, change := range map[string]func(s *shoot){
		"as it is":        func(*shoot) {},
		"small and moved": func(s *shoot) { s.width, s.height, s.scale, s.x, s.y = 1280, 720, 0.37, 700, 300 },
		"twice as large":  func(s *shoot) { s.width, s.height, s.scale = 1280, 720, 2 },
		"letterboxed, full range": func(s *shoot) {
			s.width, s.height, s.scale, s.x, s.y, s.low, s.high = 720, 576, 1, 40, 108, 0, 255
		},
		"noisy and dim": func(s *shoot) { s.noise, s.low, s.high, s.bitrate = 10, 30, 110, 6e6 },
		"blurred":       func(s *shoot) { s.blur = true },
		"at 150 kb/s":   func(s *shoot) { s.bitrate = 150_000 },
		"faster":        func(s *shoot) { s.rate = 120 },
	} {
		t.Run(name, func(t *testing.T) {
			s := usual()
			change(&s)
			a := count(t, s)
			f := a.Frames
			require.Equal(t, []int{4, 0, 0, 0}, []int{f.Dropped, f.Unread, f.Wrong, a.Blank}, "%+v", a)
			require.InDelta(t, 40, f.Due, 1)
			require.Equal(t, f.Due, f.Shown+f.Dropped)
			require.Equal(t, 25., a.FilmRate)
			require.Equal(t, 0, a.Torn)
			require.InDelta(t, 100*640*s.scale/float64(s.width), a.W, 1)
		})
	}
}

// A camera stands beside the screen, and not quite level.
func TestRecordingsAtAnAngle(t *testing.T) {
	for _, angle := range [][2]float64{{30, 4}, {-20, -8}} {
		s := usual()
		s.width, s.height, s.scale, s.noise, s.bitrate, s.angle, s.tilt = 1280, 720, 2, 4, 6e6, angle[0], angle[1]
		a := count(t, s)
		f := a.Frames
		require.True(t, a.Angled)
		require.Equal(t, []int{4, 0, 0, 0, 0}, []int{f.Dropped, f.Unread, f.Wrong, a.Blank, a.Torn}, "%+v", a)
		require.InDelta(t, 40, f.Due, 1)
		require.InDelta(t, 68, a.W, 12)
	}
}

// A recording with fewer pictures than the screen had cannot tell all.
func TestSlowRecordingsGiveARange(t *testing.T) {
	s := usual()
	s.rate = 25
	a := count(t, s)
	require.Equal(t, 4, a.Frames.Dropped+a.Frames.Unread)
	require.NotZero(t, a.Frames.Unread)
}

func TestTornFreezesAndLoops(t *testing.T) {
	s := usual()
	s.torn, s.seconds = map[int]bool{30: true, 100: true}, 2
	s.shows = func(t float64) int {
		if t > 0.4 && t < 0.9 {
			t = 0.4
		}
		return int(t*25+1e-6) % 30
	}
	a := count(t, s)
	require.Equal(t, 2, a.Torn)
	require.Equal(t, 1, a.Frames.Freezes)
	require.InDelta(t, 520, a.Frames.LongestFreezeMS, 30)
	require.Equal(t, 30, a.Round)
	require.Equal(t, 11, a.Frames.Dropped) // 11 to 21
}

func TestSlowMotionAndDamageAreSeenWithTheClip(t *testing.T) {
	format := media.Format{Codec: "h264", Width: 640, Height: 360, Rate: media.Rate{Num: 25, Den: 1}, Depth: 8, Chroma: picture.C420, Bitrate: 1e6}
	order := clip.Order{Format: format, Seconds: 4}
	path, err := clip.Clip(t.Context(), t.TempDir(), order)
	require.NoError(t, err)
	s := usual()
	s.clip = order.Number()
	s.shows = func(t float64) int { return int(t*20 + 1e-6) }
	s.wrong = map[int]bool{60: true, 61: true, 62: true} // of frame 20
	a := file(t, record(t, s), path)
	require.InDelta(t, 0.8, a.Frames.Speed, 0.01)
	require.Equal(t, 0, a.Frames.Dropped)
	require.False(t, a.Guessed)
	require.Equal(t, 1, a.Damage.Damaged)
	require.InDelta(t, 10, a.Damage.WorstPct, 2)
	require.InDelta(t, 1, a.Damage.WorstS, 0.02)
	s = usual()
	s.clip = order.Number()
	s.wrong, s.noise, s.blur, s.low, s.high, s.width, s.height, s.scale, s.x, s.y = nil, 6, true, 30, 160, 720, 576, 0.9, 50, 100
	a = file(t, record(t, s), path)
	require.Equal(t, []int{0, 4}, []int{a.Damage.Damaged, a.Frames.Dropped})
	require.Greater(t, a.Damage.Checked, 30)
}

// Two screens beside each other are compared frame by frame.
func TestTwoScreens(t *testing.T) {
	s := usual()
	s.width, s.height, s.scale, s.x, s.y = 1280, 400, 0.9, 20, 30
	s.other = func(t float64) int { return playing(31, 32)(max(0, t-0.1)) }
	r, err := File(t.Context(), record(t, s), Options{Refresh: 60})
	require.NoError(t, err)
	require.Len(t, r.Screens, 2)
	left, right := r.Screens[0], r.Screens[1]
	require.Equal(t, []int{4, 2, 0, 0}, []int{left.Frames.Dropped, right.Frames.Dropped, left.Blank, right.Blank})
	require.InDelta(t, 100, *r.DelayMS, 1)
	require.InDelta(t, 50, right.X-left.X, 1)
}

func TestWithoutMarks(t *testing.T) {
	s := usual()
	s.low, s.high, s.seconds = 16, 17, 1
	_, err := File(t.Context(), record(t, s), Options{Refresh: 60})
	require.ErrorIs(t, err, ErrNoMarks)
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = File(ctx, record(t, usual()), Options{Refresh: 60})
	require.ErrorIs(t, err, context.Canceled)
}
