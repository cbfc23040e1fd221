package registry

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media"
	"vividstrain/core/media/codec/h264"
	"vividstrain/core/media/container/annexb"
	"vividstrain/core/media/container/y4m"
)

// memory is a file in memory.
type memory struct {
	data []byte
	at   int
}

func (m *memory) Write(p []byte) (int, error) {
	if more := m.at + len(p) - len(m.data); more > 0 {
		m.data = append(m.data, make([]byte, more)...)
	}
	m.at += copy(m.data[m.at:], p)
	return len(p), nil
}

func (m *memory) Seek(offset int64, _ int) (int64, error) {
	m.at = int(offset)
	return offset, nil
}

// wrapped returns small streams of the corpus in a container.
func wrapped(f *testing.F, c media.Container, fragmented bool) {
	for _, name := range []string{"gray-8", "high-opengop"} {
		file, err := Open(streams + name + ".264")
		require.NoError(f, err)
		m := &memory{}
		_, err = Rewrap(f.Context(), file, c, m, fragmented)
		require.NoError(f, err)
		require.NoError(f, file.Close())
		f.Add(m.data[:min(len(m.data), 6000)])
	}
}

// fuzz reads whatever the bytes are to the end, twice. Reading ends, without a
// panic, and gives out no more than a small multiple of what there is.
func fuzz(f *testing.F, c media.Container) {
	f.Fuzz(func(t *testing.T, data []byte) {
		d, err := c.Open(bytes.NewReader(data), int64(len(data)))
		if err != nil {
			return
		}
		for range 2 {
			var p media.Packet
			total := 0
			for d.ReadPacket(&p) == nil {
				require.Less(t, p.Track, len(d.Tracks()))
				if total += len(p.Data) + 1; total > 100*len(data)+1000 {
					break
				}
			}
			if d.Rewind() != nil {
				return
			}
		}
	})
}

func FuzzMP4(f *testing.F) {
	wrapped(f, MP4, false)
	fuzz(f, MP4)
}

func FuzzFragments(f *testing.F) {
	wrapped(f, MP4, true)
	fuzz(f, MP4)
}

func FuzzMKV(f *testing.F) {
	wrapped(f, MKV, false)
	// A block with each kind of lacing.
	for _, flags := range []byte{2, 4, 6} {
		f.Add(append([]byte("\x1A\x45\xDF\xA3\x80\x18\x53\x80\x67\xFF\x16\x54\xAE\x6B\x8D\xAE\x8B\xD7\x81\x01\x83\x81\x01\x86\x83V_X\x1F\x43\xB6\x75\xFF\xE7\x81\x00\xA3\x8C\x81\x00\x00"),
			flags, 2, 0x82, 0xBF, 1, 2, 3, 4, 5))
	}
	fuzz(f, MKV)
}

func FuzzTS(f *testing.F) {
	wrapped(f, TS, false)
	fuzz(f, TS)
}

func FuzzRaw(f *testing.F) {
	wrapped(f, TS, false)
	fuzz(f, annexb.New(h264.Codec))
}

func FuzzY4M(f *testing.F) {
	f.Add([]byte("YUV4MPEG2 W4 H2 F25:1 Ip C420p10\nFRAME\n0123456789012345678901234567890123456789FRAME\n"))
	f.Add([]byte("YUV4MPEG2 W2 H2 F30000:1001 It\nFRAME X\n012345FRAME\n543210"))
	fuzz(f, y4m.Container)
}
