package mjpeg

import (
	"bytes"
	"context"
	"image"
	"image/jpeg"
	"io"
	"sync"
	"time"

	"vividstrain/core/media"
	"vividstrain/core/media/codec/threads"
	"vividstrain/core/media/picture"
)

// decoder decodes several packets at once, each on a thread of its own, and outputs the pictures
// in the order of the packets.
type decoder struct {
	work    *threads.Pool[*job]
	ordered chan *job // the jobs in the order of Send
	drained sync.Once
}

// job is the decoding of one packet.
type job struct {
	data   []byte
	reader bytes.Reader
	frame  media.Frame
	offset int64 // of the packet in its file
	err    error
	done   chan struct{} // holds a token when frame or err is set
}

// NewDecoder starts a decoder with threadCount threads (at least one).
func NewDecoder(t media.Track, threadCount int) (media.Decoder, error) {
	threadCount = max(threadCount, 1)
	jobs := make([]*job, threadCount+1)
	for i := range jobs {
		jobs[i] = &job{done: make(chan struct{}, 1)}
	}
	return &decoder{
		ordered: make(chan *job, len(jobs)),
		work: threads.Start(threadCount, jobs, func() func(*job) {
			return func(j *job) {
				j.data = withTables(j.data)
				j.reader.Reset(j.data)
				j.frame.Picture, j.err = decode(&j.reader, t.Format)
				j.done <- struct{}{}
			}
		}),
	}, nil
}

func (d *decoder) Send(ctx context.Context, p *media.Packet) error {
	if p.Hidden {
		return nil
	}
	j, err := d.work.Acquire(ctx)
	if err != nil {
		return err
	}
	j.data, p.Data = p.Data, j.data[:0]
	j.frame.PTS, j.offset = p.PTS, p.Offset
	d.ordered <- j // never blocks: there are no more jobs than room
	d.work.Submit(j)
	return nil
}

func (d *decoder) Drain() { d.drained.Do(func() { close(d.ordered) }) }

func (d *decoder) Receive(ctx context.Context) (media.Frame, error) {
	select {
	case j, open := <-d.ordered:
		if !open {
			return media.Frame{}, io.EOF
		}
		<-j.done
		frame, err := j.frame, media.At(j.err, j.offset)
		d.work.Release(j)
		return frame, err
	case <-ctx.Done():
		return media.Frame{}, ctx.Err()
	}
}

func (d *decoder) Close() {
	d.Drain()
	d.work.Close()
}

// Busy returns the processor time used by the decoder's threads.
func (d *decoder) Busy() time.Duration { return d.work.Busy() }

// withTables returns an image with Huffman tables. Cameras and capture cards leave out those of annex K.3 of
// Rec. ITU-T T.81, which are meant where there are none.
func withTables(data []byte) []byte {
	for i := 2; i+4 <= len(data) && data[i] == 0xFF; { // segments before the scan
		switch data[i+1] {
		case dht:
			return data
		case sos:
			return append(appendTables(append(make([]byte, 0, len(data)+500), data[:i]...)), data[i:]...)
		}
		i += 2 + int(data[i+2])<<8 + int(data[i+3])
	}
	return data
}

// decode decodes one image. If the track states a size, the image must have it, which limits
// what a hostile file can allocate.
func decode(r *bytes.Reader, f media.Format) (*picture.Picture, error) {
	size := r.Size()
	config, err := jpeg.DecodeConfig(r)
	if err != nil {
		return nil, &media.FormatError{Format: Name, Offset: -1, What: err.Error()}
	}
	if config.Width > media.MaxSide || config.Height > media.MaxSide ||
		(f.Width > 0 && (config.Width != f.Width || config.Height != f.Height)) {
		return nil, &media.FormatError{Format: Name, Offset: -1, What: "a picture of another size than the track's"}
	}
	if _, err := r.Seek(-size, io.SeekEnd); err != nil {
		return nil, err
	}
	decoded, err := jpeg.Decode(r)
	if err != nil {
		return nil, &media.FormatError{Format: Name, Offset: -1, What: err.Error()}
	}
	return wrap(decoded)
}

// wrap returns a picture of the planes of a decoded image.
func wrap(decoded image.Image) (*picture.Picture, error) {
	size := decoded.Bounds().Size()
	p := &picture.Picture{Width: size.X, Height: size.Y, Depth: 8}
	switch m := decoded.(type) {
	case *image.Gray:
		p.Chroma = picture.C400
		p.Planes[0] = picture.Plane{Pix: m.Pix, Stride: m.Stride}
		return p, nil
	case *image.YCbCr:
		switch m.SubsampleRatio {
		case image.YCbCrSubsampleRatio420:
			p.Chroma = picture.C420
		case image.YCbCrSubsampleRatio422:
			p.Chroma = picture.C422
		case image.YCbCrSubsampleRatio444:
			p.Chroma = picture.C444
		default:
			return nil, &media.UnsupportedError{Format: Name, What: "chroma sampling " + m.SubsampleRatio.String()}
		}
		p.Planes = [3]picture.Plane{{Pix: m.Y, Stride: m.YStride}, {Pix: m.Cb, Stride: m.CStride}, {Pix: m.Cr, Stride: m.CStride}}
		return p, nil
	}
	return nil, &media.UnsupportedError{Format: Name, What: "a colour model other than YCbCr and grey"}
}
