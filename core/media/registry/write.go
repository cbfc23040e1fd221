package registry

import (
	"io"

	"vividstrain/core/media"
)

// muxer writes packets that are held with lengths, as MP4 has them, into a
// container that may want them otherwise.
type muxer struct {
	media.Muxer
	video map[int]func(dst []byte, p *media.Packet) []byte
	sound map[int]Form
	data  []byte
}

// Write begins a file of a container with tracks whose packets will come as MP4
// has them; packets is how many, as a hint.
func Write(c media.Container, w io.WriteSeeker, tracks []media.Track, packets int) (media.Muxer, error) {
	inner, err := c.Create(w, tracks, packets)
	if err != nil || !c.ByteStreams {
		return inner, err
	}
	m := &muxer{Muxer: inner, video: map[int]func([]byte, *media.Packet) []byte{}, sound: map[int]Form{}}
	for i, t := range tracks {
		switch t.Kind {
		case media.Video:
			codec, err := Codec(t.Codec)
			if err != nil || codec.ByteStream == nil {
				continue
			}
			if m.video[i], err = codec.ByteStream(t); err != nil {
				return nil, err
			}
		case media.Audio:
			if _, m.sound[i], err = AudioFilter(t, false, true, nil); err != nil {
				return nil, err
			}
		}
	}
	return m, nil
}

func (m *muxer) WritePacket(p *media.Packet) error {
	q := *p
	if convert := m.video[p.Track]; convert != nil {
		m.data = convert(m.data[:0], p)
		q.Data = m.data
	}
	list := []*media.Packet{&q}
	if form := m.sound[p.Track]; form != nil {
		var err error
		if list, err = form(&q); err != nil {
			return err
		}
	}
	for _, p := range list {
		if err := m.Muxer.WritePacket(p); err != nil {
			return err
		}
	}
	return nil
}
