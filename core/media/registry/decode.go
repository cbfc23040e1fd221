package registry

import (
	"context"
	"errors"
	"fmt"
	"io"

	"vividstrain/core/media"
)

// Decode decodes a video track of f on the given number of threads and calls each with every
// picture in display order. The picture is valid until each returns. A picture that was lost
// completely ends it, as does an error from each.
func Decode(ctx context.Context, f *File, video, threads int, each func(media.Frame) error) error {
	codec, err := Codec(f.Tracks()[video].Codec)
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

// feed sends all packets of a track to the decoder.
func feed(ctx context.Context, f *File, video int, d media.Decoder) error {
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

// receive passes all pictures to each.
func receive(ctx context.Context, d media.Decoder, each func(media.Frame) error) error {
	for n := 0; ; n++ {
		frame, err := d.Receive(ctx)
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return fmt.Errorf("picture %d: %w", n, err)
		}
		err = each(frame)
		frame.Release()
		if err != nil {
			return err
		}
	}
}
