package inspect

import (
	"context"
	"errors"
	"fmt"
	"io"

	"vividstrain/core/media"
	"vividstrain/core/media/formats"
)

// Checksums decodes the video of the file at path on so many threads and calls
// each with the MD5 of every picture in display order.
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
	damaged, err := receive(inner, decoder, each)
	cancel()
	if feedErr := <-fed; feedErr != nil && err == nil {
		err = feedErr
	}
	decoder.Close()
	if err == nil && damaged > 0 {
		err = fmt.Errorf("%d pictures are damaged; what is missing in them was taken from others", damaged)
	}
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

// receive hands out the checksums of all pictures and counts those that were
// concealed in part. A picture of which nothing is left ends it.
func receive(ctx context.Context, d media.Decoder, each func(md5 string) error) (damaged int, err error) {
	for n := 0; ; n++ {
		frame, err := d.Receive(ctx)
		if errors.Is(err, io.EOF) {
			return damaged, nil
		}
		if err != nil {
			return damaged, fmt.Errorf("picture %d: %w", n, err)
		}
		if frame.Damaged {
			damaged++
		}
		sum := frame.MD5()
		frame.Release()
		if err := each(sum); err != nil {
			return damaged, err
		}
	}
}
