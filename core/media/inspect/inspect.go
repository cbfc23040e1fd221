// Package inspect says what a media file is, from its container and its
// packets.
package inspect

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"path/filepath"

	"vividstrain/core/media"
	"vividstrain/core/media/formats"
)

// Report describes the video of one file.
type Report struct {
	File       string  `json:"file"`
	Container  string  `json:"container"`
	Codec      string  `json:"codec"`
	Width      int     `json:"width"`
	Height     int     `json:"height"`
	FrameRate  float64 `json:"frame_rate"`   // frames a second, mean
	BitrateBPS float64 `json:"bitrate_bps"`  // mean
	BusiestBPS float64 `json:"busiest_bps"`  // of the busiest second
	DurationS  float64 `json:"duration_s"`   // of the video
	Frames     int     `json:"frames"`       //
	KeyFrames  int     `json:"key_frames"`   //
	KeyMax     int     `json:"key_distance"` // longest way from one key frame to the next, in frames
	SizeBytes  int64   `json:"size_bytes"`
}

// File reads the whole file at path and describes its video.
func File(ctx context.Context, path string) (Report, error) {
	f, err := formats.Open(path)
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

// second is a packet's time and bits, for finding the busiest second.
type second struct{ at, bits float64 }

func read(ctx context.Context, f *formats.File) (Report, error) {
	video, err := f.Video()
	if err != nil {
		return Report{}, err
	}
	track := f.Tracks()[video]
	r := Report{Codec: track.Codec, Width: track.Format.Width, Height: track.Format.Height}
	var (
		packet         media.Packet
		first, end     = math.Inf(1), math.Inf(-1)
		bits, inWindow float64
		window         []second
		lastKey        = -1
	)
	for {
		err := f.ReadPacket(&packet)
		if errors.Is(err, io.EOF) {
			break
		} else if err == nil {
			err = ctx.Err()
		}
		if err != nil {
			return r, err
		}
		if packet.Track != video {
			continue
		}
		start := float64(packet.PTS) / float64(track.Timescale)
		first = min(first, start)
		end = max(end, start+float64(packet.Duration)/float64(track.Timescale))
		now := second{float64(packet.DTS) / float64(track.Timescale), float64(len(packet.Data)) * 8}
		bits += now.bits
		inWindow += now.bits
		window = append(window, now)
		for window[0].at <= now.at-1+1e-9 {
			inWindow -= window[0].bits
			window = window[1:]
		}
		r.BusiestBPS = max(r.BusiestBPS, inWindow)
		if packet.Key {
			r.KeyFrames++
			if lastKey >= 0 {
				r.KeyMax = max(r.KeyMax, r.Frames-lastKey)
			}
			lastKey = r.Frames
		}
		r.Frames++
	}
	if r.Frames == 0 {
		return r, errors.New("its video track is empty")
	}
	if lastKey >= 0 {
		r.KeyMax = max(r.KeyMax, r.Frames-lastKey)
	}
	if r.DurationS = end - first; r.DurationS > 0 {
		r.FrameRate = float64(r.Frames) / r.DurationS
		r.BitrateBPS = bits / r.DurationS
	}
	r.BusiestBPS = max(r.BusiestBPS, r.BitrateBPS)
	return r, nil
}

// Checksums decodes the video of the file at path and calls each with the MD5
// of every picture in display order.
func Checksums(ctx context.Context, path string, threads int, each func(md5 string) error) error {
	f, err := formats.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := checksums(ctx, f, threads, each); err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	return nil
}

func checksums(ctx context.Context, f *formats.File, threads int, each func(md5 string) error) error {
	video, err := f.Video()
	if err != nil {
		return err
	}
	codec, err := formats.Codec(f.Tracks()[video].Codec)
	if err != nil {
		return err
	}
	decoder, err := codec.NewDecoder(f.Tracks()[video], threads)
	if err != nil {
		return err
	}
	inner, cancel := context.WithCancel(ctx)
	fed := make(chan error, 1)
	go func() { fed <- feed(inner, f, video, decoder) }()
	err = receive(inner, decoder, each)
	cancel()
	if feedErr := <-fed; feedErr != nil && err == nil {
		err = feedErr
	}
	decoder.Close()
	return err
}

// feed sends all packets of a track.
func feed(ctx context.Context, f *formats.File, video int, d media.Decoder) error {
	defer d.Drain()
	var packet media.Packet
	for {
		switch err := f.ReadPacket(&packet); {
		case errors.Is(err, io.EOF):
			return nil
		case err != nil:
			return err
		case packet.Track != video:
			continue
		}
		if err := d.Send(ctx, &packet); err != nil {
			return err
		}
	}
}

// receive hands out the checksums of all pictures. A picture that is damaged
// ends it.
func receive(ctx context.Context, d media.Decoder, each func(md5 string) error) error {
	for n := 0; ; n++ {
		frame, err := d.Receive(ctx)
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return fmt.Errorf("picture %d: %w", n, err)
		}
		sum := frame.MD5()
		frame.Release()
		if err := each(sum); err != nil {
			return err
		}
	}
}
