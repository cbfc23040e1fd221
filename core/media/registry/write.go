package registry

import (
	"io"

	"vividstrain/core/media"
)

// muxer converts packets in the form that MP4 uses to the form that a container needs.
type muxer struct {
	media.Muxer
	filters map[int]media.Filter
}

// Write starts a file of a container with tracks whose packets come in the form that MP4 uses;
// packets is a hint of how many.
func Write(c media.Container, w io.WriteSeeker, tracks []media.Track, packets int) (media.Muxer, error) {
	inner, err := c.Create(w, tracks, packets)
	if err != nil || !c.ByteStreams {
		return inner, err
	}
	m := &muxer{Muxer: inner, filters: map[int]media.Filter{}}
	for i, t := range tracks {
		codec := codecs.Named(t.Codec)
		if codec == nil || codec.ToByteStream == nil {
			continue
		}
		if m.filters[i], err = codec.ToByteStream(t); err != nil {
			return nil, err
		}
	}
	return m, nil
}

func (m *muxer) WritePacket(p *media.Packet) error {
	filter := m.filters[p.Track]
	if filter == nil {
		return m.Muxer.WritePacket(p)
	}
	list, err := filter(p)
	if err != nil {
		return err
	}
	for _, q := range list {
		if err := m.Muxer.WritePacket(q); err != nil {
			return err
		}
	}
	return nil
}
