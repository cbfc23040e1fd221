// Package transcode converts a video to a goal format: it decodes, scales, maps tones, changes
// the frame rate and encodes, in stages that run in parallel. Audio is copied.
package transcode

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"runtime"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"vividstrain/core/cputime"
	"vividstrain/core/media"
	"vividstrain/core/media/picture"
	"vividstrain/core/media/registry"
	"vividstrain/core/transcode/groups"
)

// Order states what to make.
type Order struct {
	Goal     media.Goal
	Preset   media.Preset
	Decoders int // decoding threads, 0: one
	Encoders int // groups of one second encoded at once, 0: one
	// From is where in the source to begin, in seconds of its times. The source must start at an
	// earlier key frame.
	From float64
	// Gate, if set, is called before every picture is decoded and encoded, and may wait: it can
	// limit a conversion to a share of the processor.
	Gate func(ctx context.Context) error
}

// Source is a file to convert: a registry.File, or something like it.
type Source interface {
	media.Demuxer
	Video() (int, error)
	ByteStream() bool // packets have start codes, not lengths
}

// Converter converts one file, once.
type Converter struct {
	order  Order
	source Source
	in     media.Track // the source's video
	video  int
	codec  media.Codec // of the result
	out    media.EncoderSettings
	tracks []media.Track      // of the output: video, then audio
	audio  map[int]audioTrack // by track of the source

	decoder    media.Decoder
	pool       picture.Pool
	ready      chan *groups.Group // in order, from the preparing stage
	mu         sync.Mutex
	audioQueue []*media.Packet // audio waiting for output
	begins     float64         // when the first picture is shown, in seconds of the source

	busy   [stages]atomic.Int64 // nanoseconds of processor time
	frames atomic.Int64         // coded
}

// audioTrack is a track of audio and the filter for its packets.
type audioTrack struct {
	place  int // index in the output
	filter media.Filter
}

// Stages of the work, for Stats.
const (
	scaling = iota
	mapping
	coding
	stages
)

// Stats says how much was done and what it took.
type Stats struct {
	Frames int           // coded
	Media  time.Duration // of the result
	// Processor time:
	Decode time.Duration
	Scale  time.Duration
	Tone   time.Duration
	Encode time.Duration
}

// CheckGoal returns why a goal cannot be reached, nil if it can.
func CheckGoal(g media.Goal) error {
	codec, err := registry.GroupEncoder(g.Codec)
	switch {
	case err != nil:
		return fmt.Errorf("the goal %q: %w", g, err)
	case g.Audio > 0 || g.Subtitle > 0:
		return fmt.Errorf("the goal %q: tracks are chosen by servers; conversions here copy the sound and burn in nothing", g)
	case g.Interlaced:
		return fmt.Errorf("the goal %q: conversions are progressive", g)
	}
	f := media.Format{Codec: codec.Name, Width: g.Width, Height: g.Height, Depth: 8}
	if err := codec.CheckFormat(f); err != nil {
		return fmt.Errorf("the goal %q: %w", g, err)
	}
	return nil
}

// New returns a converter of a source from its current position. track is the source's video
// (see registry.Describe). A source with audio is rewound. Audio that cannot be copied is left
// out.
func New(source Source, track media.Track, order Order) (*Converter, error) {
	if err := CheckGoal(order.Goal); err != nil {
		return nil, err
	}
	order.Decoders, order.Encoders = max(order.Decoders, 1), max(order.Encoders, 1)
	c := &Converter{order: order, source: source, in: track, audio: map[int]audioTrack{}}
	var err error
	if c.video, err = source.Video(); err != nil {
		return nil, err
	}
	if c.codec, err = registry.GroupEncoder(order.Goal.Codec); err != nil {
		return nil, err
	}
	c.out = settings(track, order, c.codec.Name)
	e, err := c.codec.NewEncoder(c.out, nil)
	if err != nil {
		return nil, err
	}
	t, err := e.Track()
	if err != nil {
		return nil, err
	}
	c.tracks = []media.Track{t}
	for i, s := range source.Tracks() {
		if s.Kind != media.Audio {
			continue
		}
		if s, filter, err := registry.FilterFor(s, source.ByteStream(), false, func() (media.Packet, error) { return first(source, i) }); err == nil {
			c.audio[i] = audioTrack{len(c.tracks), filter}
			c.tracks = append(c.tracks, s)
		}
	}
	if len(c.audio) > 0 {
		return c, source.Rewind()
	}
	return c, nil
}

// first returns the first packet of a track.
func first(source Source, track int) (p media.Packet, err error) {
	if err := source.Rewind(); err != nil {
		return p, err
	}
	for {
		if err := source.ReadPacket(&p); err != nil || p.Track == track {
			return p, err
		}
	}
}

// settings returns the encoder's settings: the whole picture fits into the goal's size.
func settings(in media.Track, o Order, codec string) media.EncoderSettings {
	f := media.Format{Codec: codec, Depth: 8, Chroma: picture.C420, Transfer: media.SDR, Rate: o.Goal.Rate, Bitrate: o.Goal.Bitrate}
	if f.Rate.Num == 0 {
		f.Rate = in.Format.Rate
	}
	f.Width, f.Height = fit(in.Format, o.Goal.Width, o.Goal.Height)
	colour := in.Colour
	if light(in) != nil {
		colour = media.Colour{Primaries: 1, Transfer: 1, Matrix: 1}
	}
	return media.EncoderSettings{Format: f, Colour: colour, KeyEvery: max(1, int(f.Rate.Hz()+0.5)), Preset: o.Preset}
}

// fit returns the largest size within the goal's that has the shape of the source. The formats
// of Rec. ITU-R BT.601 fill the goal: their samples are not square.
func fit(f media.Format, width, height int) (w, h int) {
	if f.Width == 720 && (f.Height == 576 || f.Height == 480) || f.Width <= 0 || f.Height <= 0 {
		return width, height
	}
	shape := float64(f.Width) / float64(f.Height)
	w, h = width, height
	if goal := float64(width) / float64(height); shape > goal*1.01 {
		h = int(math.Round(float64(width)/shape/2)) * 2
	} else if shape < goal/1.01 {
		w = int(math.Round(float64(height)*shape/2)) * 2
	}
	return max(w, 16), max(h, 16)
}

// light returns how high dynamic range video represents light, nil for standard range.
func light(t media.Track) *picture.Light {
	for transfer, l := range map[media.Transfer]picture.Light{media.PQ: picture.PQ, media.HLG: picture.HLG} {
		if t.Format.Transfer == transfer || media.TransferOf(t.Colour.Transfer) == transfer {
			return &l
		}
	}
	return nil
}

// Tracks returns the tracks of the output, whose packets have the form that MP4 uses.
func (c *Converter) Tracks() []media.Track { return c.tracks }

// Stats returns what was done so far.
func (c *Converter) Stats() Stats {
	n := int(c.frames.Load())
	s := Stats{Frames: n, Media: time.Duration(float64(n) / c.out.Format.Rate.Hz() * float64(time.Second))}
	s.Scale, s.Tone, s.Encode = time.Duration(c.busy[scaling].Load()), time.Duration(c.busy[mapping].Load()), time.Duration(c.busy[coding].Load())
	c.mu.Lock()
	defer c.mu.Unlock()
	if w, knows := c.decoder.(media.Worker); knows {
		s.Decode = w.Busy()
	}
	return s
}

// spend adds the processor time of this thread since before to a stage.
func (c *Converter) spend(stage int, before time.Duration) (now time.Duration) {
	now = cputime.Thread()
	c.busy[stage].Add(int64(now - before))
	return now
}

// Run converts and outputs the packets in order; while out waits, the conversion stops, a second
// or two later.
func (c *Converter) Run(ctx context.Context, out func(p *media.Packet) error) error {
	codec, err := registry.Codec(c.in.Codec)
	if err != nil {
		return err
	}
	track := c.in
	track.Config = c.source.Tracks()[c.video].Config
	decoder, err := codec.NewDecoder(track, c.order.Decoders)
	if err != nil {
		return err
	}
	c.mu.Lock()
	c.decoder = decoder
	c.mu.Unlock()
	c.ready = make(chan *groups.Group)
	defer decoder.Close()
	// The first error is the result, however the others end: a stage that fails closes what the
	// next one reads, which may then end as after the last picture.
	work, inner := errgroup.WithContext(ctx)
	for _, stage := range []func(context.Context) error{c.feed, c.prepare} {
		work.Go(func() error {
			runtime.LockOSThread() // its processor time can be read
			defer runtime.UnlockOSThread()
			return stage(inner)
		})
	}
	work.Go(func() error { return c.encode(inner, out) })
	return work.Wait()
}

// feed reads the source.
func (c *Converter) feed(ctx context.Context) error {
	defer c.decoder.Drain()
	var p media.Packet
	for {
		err := c.source.ReadPacket(&p)
		switch {
		case errors.Is(err, io.EOF):
			return nil
		case err != nil:
			return err
		}
		if p.Track == c.video {
			if err := c.gate(ctx); err != nil {
				return err
			}
			if err := c.decoder.Send(ctx, &p); err != nil {
				return err
			}
		} else if s, taken := c.audio[p.Track]; taken {
			if err := c.queueAudio(&p, s); err != nil {
				return err
			}
		}
	}
}

func (c *Converter) gate(ctx context.Context) error {
	if c.order.Gate == nil {
		return nil
	}
	return c.order.Gate(ctx)
}

// maxQueuedAudio is the largest number of audio packets that wait for their pictures.
const maxQueuedAudio = 1 << 16

// queueAudio stores a packet of audio.
func (c *Converter) queueAudio(p *media.Packet, s audioTrack) error {
	list := []*media.Packet{p}
	if s.filter != nil {
		var err error
		if list, err = s.filter(p); err != nil {
			return err
		}
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, q := range list {
		if len(c.audioQueue) >= maxQueuedAudio {
			return errors.New("its audio is too far from its pictures")
		}
		copied := *q
		copied.Track, copied.Data = s.place, append([]byte(nil), q.Data...)
		if t := c.tracks[s.place]; copied.Duration <= 0 { // some containers do not state it
			copied.Duration = max(1, registry.FrameSamples(t.Codec)*t.Timescale/max(1, int64(t.Rate)))
		}
		c.audioQueue = append(c.audioQueue, &copied)
	}
	return nil
}

// writeAudio outputs the audio up to a time in seconds of the output.
func (c *Converter) writeAudio(until float64, out func(p *media.Packet) error) error {
	for {
		p := c.nextAudio(until)
		if p == nil {
			return nil
		}
		if p.PTS < 0 || p.DTS < 0 {
			continue // before the first picture
		}
		if err := out(p); err != nil {
			return err
		}
	}
}

// nextAudio returns the next packet of audio if its time has come, else nil.
func (c *Converter) nextAudio(until float64) *media.Packet {
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(c.audioQueue) == 0 {
		return nil
	}
	p := c.audioQueue[0]
	scale := float64(c.tracks[p.Track].Timescale)
	if float64(p.DTS)/scale-c.begins > until {
		return nil
	}
	c.audioQueue = c.audioQueue[1:]
	shift := int64(math.Round(c.begins * scale))
	p.PTS, p.DTS = p.PTS-shift, p.DTS-shift
	return p
}
