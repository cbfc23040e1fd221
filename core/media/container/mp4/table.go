package mp4

import (
	"encoding/binary"
	"io"
)

// table is an array of fixed-size entries inside a box. It is read through a small window, so
// that memory use does not depend on the length of the film.
type table struct {
	r      io.ReaderAt
	start  int64 // file offset of entry 0
	count  int
	entry  int // bytes per entry
	window [4096]byte
	first  int // entries held in the window
	held   int
}

// openTable opens the entries of a full box. The entry count is at countAt bytes into the
// payload, and the entries follow it.
func openTable(r io.ReaderAt, b box, countAt int64, entry int) (*table, error) {
	head, err := b.payload(r, countAt+4, countAt+4)
	if err != nil {
		return nil, err
	}
	count := int64(binary.BigEndian.Uint32(head[countAt:]))
	if count*int64(entry) > b.size()-countAt-4 {
		return nil, damaged(b.start, "box %q says it has %d entries, more than it has room for", b.kind, count)
	}
	return &table{r: r, start: b.start + countAt + 4, count: int(count), entry: entry}, nil
}

// at returns the bytes of entry i, valid until the next call.
func (t *table) at(i int) ([]byte, error) {
	if i < t.first || i >= t.first+t.held {
		n := min(len(t.window)/t.entry, t.count-i)
		if err := readFull(t.r, t.window[:n*t.entry], t.start+int64(i)*int64(t.entry)); err != nil {
			t.held = 0
			return nil, err
		}
		t.first, t.held = i, n
	}
	return t.window[(i-t.first)*t.entry:][:t.entry], nil
}

// uint32s returns entry i as its first and second 32-bit words (0 where the
// entry has one).
func (t *table) uint32s(i int) (a, b uint32, err error) {
	e, err := t.at(i)
	if err != nil {
		return 0, 0, err
	}
	if len(e) >= 8 {
		b = binary.BigEndian.Uint32(e[4:])
	}
	return binary.BigEndian.Uint32(e), b, nil
}

// runs iterates sample by sample over a run-length coded table such as stts (8.6.1.2) or ctts
// (8.6.1.3).
type runs struct {
	table *table
	next  int    // table entry to read when left is 0
	left  uint32 // samples left in the present run
	value uint32
}

// take returns the value of the next sample. After the end of the table it repeats the last
// value.
func (s *runs) take() (uint32, error) {
	for s.left == 0 && s.table != nil && s.next < s.table.count {
		n, v, err := s.table.uint32s(s.next)
		if err != nil {
			return 0, err
		}
		s.left, s.value = n, v
		s.next++
	}
	if s.left > 0 {
		s.left--
	}
	return s.value, nil
}
