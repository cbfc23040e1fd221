// Package inspect describes a media file by its container, its packets and the headers of its
// video.
package inspect

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"path/filepath"
	"strconv"
	"strings"

	"vividstrain/core/media"
	"vividstrain/core/media/picture"
	"vividstrain/core/media/registry"
)

// Report describes the first video track of one file, and its audio.
type Report struct {
	File        string  `json:"file"`
	Container   string  `json:"container"`
	SizeBytes   int64   `json:"size_bytes"`
	Codec       string  `json:"codec"`
	Profile     string  `json:"profile,omitempty"`
	Level       string  `json:"level,omitempty"`
	LevelNeeded string  `json:"level_needed,omitempty"` // set where size, rate or bitrate exceed what the stated level allows
	Width       int     `json:"width"`
	Height      int     `json:"height"`
	Depth       int     `json:"depth"`  // bits a sample
	Chroma      string  `json:"chroma"` // "4:2:0"
	Scan        string  `json:"scan"`   // "progressive"
	Colour      *Colour `json:"colour,omitempty"`
	HDR         *HDR    `json:"hdr,omitempty"`
	FrameRate   float64 `json:"frame_rate"`          // frames a second, mean
	Constant    bool    `json:"frame_rate_constant"` //
	RateAssumed bool    `json:"frame_rate_assumed"`  // the file states no times
	BitrateBPS  float64 `json:"bitrate_bps"`         // mean
	BusiestBPS  float64 `json:"busiest_bps"`         // of the busiest second
	DurationS   float64 `json:"duration_s"`          // of the video
	Frames      int     `json:"frames"`
	KeyFrames   int     `json:"key_frames"`
	KeyMax      int     `json:"key_distance"`         // longest distance between key frames, in frames
	IDRs        int     `json:"idr_frames,omitempty"` // key frames that no reference crosses
	OpenGOP     bool    `json:"open_gop"`             // frames shown before a key frame are decoded after it
	BRun        int     `json:"b_run"`                // most consecutive B frames
	BDepth      int     `json:"b_depth"`              // levels of B frames that are predicted from one another
	References  int     `json:"reference_frames"`     // largest number of reference frames
	Entropy     string  `json:"entropy_coder,omitempty"`
	Slices      int     `json:"slices,omitempty"` // in a picture, at most
	Audio       []Audio `json:"sound"`
	Load        string  `json:"load,omitempty"` // the load line of the video, if there is one
}

// Colour names the code points of Rec. ITU-T H.273 that a file states.
type Colour struct {
	Primaries string `json:"primaries"`
	Transfer  string `json:"transfer"`
	Matrix    string `json:"matrix"`
	FullRange bool   `json:"full_range"`
}

// HDR is what a file states about its light levels.
type HDR struct {
	MasterMaxCDM2 float64 `json:"mastering_max_cd_m2"`
	MasterMinCDM2 float64 `json:"mastering_min_cd_m2"`
	MaxCLL        int     `json:"max_cll_cd_m2"`
	MaxFALL       int     `json:"max_fall_cd_m2"`
}

// Audio is one audio track.
type Audio struct {
	Codec    string `json:"codec"`
	Channels int    `json:"channels,omitempty"`
	RateHz   int    `json:"rate_hz,omitempty"`
}

// Format returns the format of the video, with the bitrate rounded to three significant figures,
// as in the load line.
func (r *Report) Format() media.Format {
	f := media.Format{Codec: r.Codec, Profile: r.Profile, Width: r.Width, Height: r.Height, Depth: max(r.Depth, 8),
		Interlaced: strings.HasPrefix(r.Scan, interlaced), Transfer: media.SDR}
	f.Chroma, _ = picture.ParseChroma(r.Chroma)
	if r.Colour != nil && r.Colour.Transfer == "PQ" {
		f.Transfer = media.PQ
	} else if r.Colour != nil && r.Colour.Transfer == "HLG" {
		f.Transfer = media.HLG
	}
	if rate, err := media.RateOf(r.FrameRate); err == nil {
		f.Rate = rate
	}
	if r.BitrateBPS >= 1 {
		f.Bitrate = roundTo(r.BitrateBPS, 3)
	}
	return f
}

// interlaced is the first word of the scan of interlaced video.
const interlaced = "interlaced"

// File reads the whole file at path and describes it.
func File(ctx context.Context, path string) (Report, error) {
	f, err := registry.Open(path)
	if err != nil {
		return Report{}, err
	}
	defer f.Close()
	r, err := read(ctx, f)
	r.File, r.Container, r.SizeBytes = filepath.Base(path), f.Container, f.Size
	if err != nil {
		return r, fmt.Errorf("%s: %w", path, err)
	}
	return r, nil
}

func read(ctx context.Context, f *registry.File) (Report, error) {
	video, err := f.Video()
	if err != nil {
		return Report{}, err
	}
	track := f.Tracks()[video]
	r := Report{Codec: track.Codec, Audio: []Audio{}}
	for _, t := range f.Tracks() {
		if t.Kind == media.Audio {
			r.Audio = append(r.Audio, Audio{t.Codec, t.Channels, t.Rate})
		}
	}
	info := media.StreamInfo{Format: track.Format, Colour: track.Colour, HDR: track.HDR}
	parser, err := newParser(track)
	if err != nil {
		return r, err
	}
	var rhythm rhythm
	var packet media.Packet
	keys := keyCount{last: -1}
	for {
		err := f.ReadPacket(&packet)
		if errors.Is(err, io.EOF) {
			break
		}
		if err := errors.Join(err, ctx.Err()); err != nil {
			return r, err
		}
		if packet.Track != video {
			continue
		}
		rhythm.add(&packet, float64(track.Timescale))
		keys.add(packet.Key)
		if keys.frames == 1 && parser == nil {
			firstPicture(ctx, track, &packet, &info)
		}
		if parser != nil {
			if err := parser.Packet(packet.Data); err != nil {
				return r, media.At(err, packet.Offset)
			}
			parser.Shown()
		}
	}
	if keys.frames == 0 {
		return r, errors.New("its video track is empty")
	}
	keys.end()
	r.Frames, r.KeyFrames, r.KeyMax = keys.frames, keys.count, keys.most
	if parser != nil {
		parser.End()
		parser.Shown()
		stated := info
		info = parser.Info()
		if info.Format.Width == 0 { // no parameter sets were found
			info.Format = stated.Format
		}
		if info.Colour == (media.Colour{}) {
			info.Colour = stated.Colour
		}
		if info.HDR == nil {
			info.HDR = stated.HDR
		}
		if info.Frames > 0 && f.ByteStream() { // the container does not mark key frames, or packets are fields
			r.Frames, r.KeyFrames, r.KeyMax = info.Frames, info.Keys, info.KeyMax
		}
	}
	r.RateAssumed = !f.Timed() && info.Format.Rate.Num == 0
	r.describe(&info)
	r.measure(&rhythm, &info, track)
	if need := registry.Level(r.Format()); above(need, r.Level) {
		r.LevelNeeded = need
	}
	return r, nil
}

// above reports whether one level is higher than another; names that are not numbers never are.
func above(level, other string) bool {
	a, errA := strconv.ParseFloat(level, 64)
	b, errB := strconv.ParseFloat(other, 64)
	return errA == nil && errB == nil && a > b
}

// newParser returns a parser for the codec, nil if there is none.
func newParser(t media.Track) (media.UnitParser, error) {
	codec, err := registry.Codec(t.Codec)
	if err != nil || codec.NewParser == nil {
		return nil, nil
	}
	p := codec.NewParser()
	return p, media.At(p.Configure(t.Config), t.ConfigOffset)
}

// keyCount counts frames and the distances between key frames.
type keyCount struct{ frames, count, most, last int }

func (k *keyCount) add(key bool) {
	if key {
		k.count++
		k.end()
		k.last = k.frames
	}
	k.frames++
}

// end ends the distance from the last key frame.
func (k *keyCount) end() {
	if k.last >= 0 {
		k.most = max(k.most, k.frames-k.last)
	}
}

// firstPicture decodes a packet of a codec without parser, to learn the format of its pictures.
func firstPicture(ctx context.Context, t media.Track, p *media.Packet, info *media.StreamInfo) {
	codec, err := registry.Codec(t.Codec)
	if err != nil {
		return
	}
	d, err := codec.NewDecoder(t, 1)
	if err != nil {
		return
	}
	defer d.Close()
	own := *p
	own.Data = append([]byte(nil), p.Data...)
	if d.Send(ctx, &own) != nil {
		return
	}
	d.Drain()
	frame, err := d.Receive(ctx)
	if err != nil {
		return
	}
	info.Format.Depth, info.Format.Chroma = frame.Depth, frame.Chroma
	frame.Release()
}

// describe sets what the headers state.
func (r *Report) describe(info *media.StreamInfo) {
	f := &info.Format
	r.Profile, r.Level, r.Width, r.Height = f.Profile, info.Level, f.Width, f.Height
	r.Depth, r.Chroma, r.Scan = f.Depth, f.Chroma.String(), info.Scan
	if r.Depth == 0 { // an unknown codec
		r.Chroma = ""
	}
	if r.Scan == "" {
		r.Scan = "progressive"
		if f.Interlaced {
			r.Scan = interlaced
		}
	}
	if c := info.Colour; c != (media.Colour{}) {
		r.Colour = &Colour{c.PrimariesName(), c.TransferName(), c.MatrixName(), c.FullRange}
	}
	if h := info.HDR; h != nil {
		r.HDR = &HDR{float64(h.MaxLuminance) / 10000, float64(h.MinLuminance) / 10000, int(h.MaxCLL), int(h.MaxFALL)}
	}
	r.IDRs, r.OpenGOP, r.BRun, r.BDepth = info.IDRs, info.OpenGOP, info.BRun, info.BDepth
	r.References, r.Entropy, r.Slices = info.References, info.Entropy, info.Slices
}

// measure sets times, bitrates and the load line.
func (r *Report) measure(t *rhythm, info *media.StreamInfo, track media.Track) {
	t.end()
	r.BusiestBPS = t.busiest
	stated := track.Format.Rate
	if stated.Num == 0 {
		stated = info.Format.Rate
	}
	if t.timed > 1 {
		r.DurationS = t.duration()
		r.Constant = t.constant()
		r.FrameRate = float64(r.Frames) / r.DurationS
	}
	// The rate that the file states is exact where its times are rounded.
	if stated.Num > 0 && (r.FrameRate == 0 || r.Constant && math.Abs(stated.Hz()/r.FrameRate-1) < 0.02) {
		r.FrameRate = stated.Hz()
	}
	if r.DurationS == 0 && r.FrameRate > 0 {
		r.DurationS = float64(r.Frames) / r.FrameRate
	}
	if r.DurationS > 0 {
		r.BitrateBPS = t.bits / r.DurationS
	}
	r.BusiestBPS = max(r.BusiestBPS, r.BitrateBPS)
	f := r.Format()
	if f.Rate.Num == 0 || f.Bitrate == 0 {
		return
	}
	line := f.String()
	if _, err := media.ParseFormat(strings.Fields(line), registry.VideoCodecs()); err == nil {
		r.Load = line
	}
}

// roundTo rounds to a number of significant figures.
func roundTo(v float64, figures int) int64 {
	unit := math.Pow(10, max(0, math.Floor(math.Log10(v))-float64(figures)+1))
	return int64(math.Round(v/unit) * unit)
}
