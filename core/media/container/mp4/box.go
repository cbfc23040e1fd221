package mp4

import (
	"encoding/binary"
	"errors"
	"io"
)

// box is one box of the file (4.2): its type and where its payload is.
type box struct {
	kind       string
	start, end int64 // of the payload
}

func (b box) size() int64 { return b.end - b.start }

// maxDepth is how deep nested boxes are searched.
const maxDepth = 8

// maxChildren is the largest number of boxes in one box.
const maxChildren = 100_000

// readBox reads the box header at offset; the box must end by limit. A box that states a larger
// size is an error, unless cut is set and the box is not moov: then it is cut at limit, like the
// incomplete mdat of a truncated file.
func readBox(r io.ReaderAt, offset, limit int64, cut bool) (box, error) {
	var head [16]byte
	if limit-offset < 8 {
		return box{}, damaged(offset, "%d stray bytes where a box should be", limit-offset)
	}
	if err := readFull(r, head[:8], offset); err != nil {
		return box{}, err
	}
	b := box{kind: string(head[4:8]), start: offset + 8}
	size := int64(binary.BigEndian.Uint32(head[:4]))
	switch size {
	case 0: // to the end of the file
		b.end = limit
		return b, nil
	case 1:
		if limit-offset < 16 {
			return box{}, damaged(offset, "box %q has no room for its size", b.kind)
		}
		if err := readFull(r, head[8:16], offset+8); err != nil {
			return box{}, err
		}
		size = int64(binary.BigEndian.Uint64(head[8:16]))
		b.start += 8
	}
	if size < b.start-offset {
		return box{}, damaged(offset, "box %q says it has %d bytes", b.kind, size)
	}
	if size > limit-offset {
		if !cut || b.kind == "moov" {
			return box{}, damaged(offset, "box %q says it has %d bytes where %d are left", b.kind, size, limit-offset)
		}
		size = limit - offset
	}
	b.end = offset + size
	return b, nil
}

// children lists the boxes between start and end.
func children(r io.ReaderAt, start, end int64) ([]box, error) {
	var list []box
	for offset := start; offset+8 <= end; {
		b, err := readBox(r, offset, end, false)
		if err != nil {
			return nil, err
		}
		if list = append(list, b); len(list) > maxChildren {
			return nil, damaged(offset, "more than %d boxes in one", maxChildren)
		}
		offset = b.end
	}
	return list, nil
}

// find returns the first box at the path inside b, and whether there is one.
func (b box) find(r io.ReaderAt, path ...string) (box, bool, error) {
	if len(path) == 0 || len(path) > maxDepth {
		return b, len(path) == 0, nil
	}
	list, err := children(r, b.start, b.end)
	if err != nil {
		return box{}, false, err
	}
	for _, c := range list {
		if c.kind == path[0] {
			return c.find(r, path[1:]...)
		}
	}
	return box{}, false, nil
}

// need is like find, but a missing box is an error.
func (b box) need(r io.ReaderAt, path ...string) (box, error) {
	c, found, err := b.find(r, path...)
	if err == nil && !found {
		err = damaged(b.start, "no %q box in %q", path[len(path)-1], b.kind)
	}
	return c, err
}

// payload reads the first bytes of the box: at least least, at most most.
func (b box) payload(r io.ReaderAt, least, most int64) ([]byte, error) {
	if b.size() < least {
		return nil, damaged(b.start, "box %q has %d bytes, less than the %d it needs", b.kind, b.size(), least)
	}
	data := make([]byte, min(b.size(), most))
	return data, readFull(r, data, b.start)
}

// readFull fills p from offset.
func readFull(r io.ReaderAt, p []byte, offset int64) error {
	n, err := r.ReadAt(p, offset)
	if n == len(p) {
		return nil
	}
	if err == nil || errors.Is(err, io.EOF) {
		return damaged(offset+int64(n), "the file ends here, too early")
	}
	return err
}
