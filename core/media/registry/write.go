package registry

import (
	"io"

	"vividstrain/core/media"
)

// muxer writes packets in the form that MP4 has them in into a container that may want another.
type muxer struct {
	media.Muxer
	filters map[int]media.Filter
}

// Write begins a file of a container with tracks whose packets will come as MP4
// has them; packets is how many, as a hint.
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
