package linux

import (
	"bytes"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strconv"
)

// Roots are the folders in which the kernel publishes the state of the device.
type Roots struct {
	Proc string // usually /proc
	Sys  string // usually /sys
}

// maxFile is the most that is read of a file. Even those of machines with thousands of cores are
// far shorter.
const maxFile = 1 << 20

var errLong = errors.New("the file is too long")

// files reads small files into a reused buffer. Those of the kernel stay open: read from their start again,
// they have their contents of that moment. After the first time that takes a third of the time, and no garbage
// is left.
type files struct {
	buf  []byte
	kept map[string]*os.File
}

// maxKept is how many files one source keeps open.
const maxKept = 512

// read returns the contents of a file, valid until the next call.
func (r *files) read(path string) ([]byte, error) {
	if f := r.kept[path]; f != nil {
		if data, err := r.contents(f, path); err == nil {
			return data, nil
		}
		r.forget(path) // its process has ended, or its device was taken away
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	data, err := r.contents(f, path)
	if err != nil || len(r.kept) >= maxKept || !ofKernel(f) {
		return data, errors.Join(err, f.Close())
	}
	if r.kept == nil {
		r.kept = map[string]*os.File{}
	}
	r.kept[path] = f
	return data, nil
}

// forget closes a file that stayed open.
func (r *files) forget(path string) {
	if f := r.kept[path]; f != nil {
		f.Close()
		delete(r.kept, path)
	}
}

// contents reads a file from its start.
func (r *files) contents(f *os.File, path string) ([]byte, error) {
	if r.buf == nil {
		r.buf = make([]byte, 16<<10)
	}
	n := 0
	for {
		k, err := f.ReadAt(r.buf[n:], int64(n))
		if n += k; err == io.EOF {
			return r.buf[:n], nil
		}
		if err != nil {
			return nil, err
		}
		if n >= maxFile {
			return nil, &os.PathError{Op: "read", Path: path, Err: errLong}
		}
		r.buf = append(r.buf, make([]byte, n)...)
	}
}

// number reads a file that contains one number.
func (r *files) number(path string) (float64, error) {
	data, err := r.read(path)
	if err != nil {
		return 0, err
	}
	word, _ := field(data)
	v, ok := parseFloat(word)
	if !ok {
		return 0, &os.PathError{Op: "read", Path: path, Err: errors.New("it holds no number")}
	}
	return v, nil
}

// text reads a file that contains a word.
func (r *files) text(path string) string {
	data, err := r.read(path)
	if err != nil {
		return ""
	}
	line, _ := line(data)
	return string(line)
}

// field splits off the first word, which ends at white space.
func field(b []byte) (word, rest []byte) {
	i := 0
	for i < len(b) && (b[i] == ' ' || b[i] == '\t' || b[i] == '\n') {
		i++
	}
	k := i
	for k < len(b) && b[k] != ' ' && b[k] != '\t' && b[k] != '\n' {
		k++
	}
	return b[i:k], b[k:]
}

// line splits off the first line.
func line(b []byte) (first, rest []byte) {
	for i, c := range b {
		if c == '\n' {
			return b[:i], b[i+1:]
		}
	}
	return b, nil
}

// parseUint parses an unsigned number; false if b is none.
func parseUint(b []byte) (v uint64, ok bool) {
	for _, c := range b {
		if c < '0' || c > '9' {
			return v, false
		}
		v = 10*v + uint64(c-'0')
	}
	return v, len(b) > 0 && len(b) < 20
}

func parseFloat(b []byte) (float64, bool) {
	if v, ok := parseUint(b); ok {
		return float64(v), true
	}
	if len(b) > 1 && b[0] == '-' {
		if v, ok := parseUint(b[1:]); ok {
			return -float64(v), true
		}
	}
	if len(b) == 0 {
		return 0, false
	}
	v, err := strconv.ParseFloat(string(b), 64)
	return v, err == nil
}

// glob lists the files of a pattern; a malformed pattern is a mistake in the program.
func glob(parts ...string) []string {
	list, err := filepath.Glob(filepath.Join(parts...))
	if err != nil {
		panic(err)
	}
	return list
}

// counter turns a growing total into a rate.
type counter struct {
	last  float64
	known bool
}

// since returns the growth since the last call; false for the first call and where the total was
// reset.
func (c *counter) since(total float64) (float64, bool) {
	added, ok := total-c.last, c.known && total >= c.last
	c.last, c.known = total, true
	return added, ok
}

// countCores counts the cores that proc/stat lists.
func (r *files) countCores(proc string) (n float64) {
	data, err := r.read(filepath.Join(proc, "stat"))
	if err != nil {
		return 0
	}
	for l := range bytes.Lines(data) {
		if bytes.HasPrefix(l, []byte("cpu")) && !bytes.HasPrefix(l, []byte("cpu ")) {
			n++
		}
	}
	return n
}
