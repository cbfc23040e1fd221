package clip

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"sync"

	"vividstrain/core/media"
	"vividstrain/core/media/registry"
	"vividstrain/core/media/scene"
	"vividstrain/core/partial"
)

// ManifestName is the file that describes the clips of a folder.
const ManifestName = "clips.json"

// ManifestSchema identifies the form of a manifest.
const ManifestSchema = "vividstrain.clips/1"

// Manifest describes the clips of a folder. Equal entries mean equal bytes.
type Manifest struct {
	Schema string  `json:"schema"`
	Clips  []Entry `json:"clips"` // by file name
}

// Entry is one clip.
type Entry struct {
	File       string  `json:"file"`
	Load       string  `json:"load"` // its format as a load line
	Seconds    float64 `json:"seconds"`
	Scene      string  `json:"scene"`
	Seed       uint32  `json:"seed,omitempty"`
	Coding     string  `json:"coding,omitempty"` // "fast, key frame every 50, 2 B frames, CABAC"
	Made       string  `json:"made"`             // version of what makes clips
	Frames     int     `json:"frames"`
	Piece      int     `json:"piece_frames,omitempty"` // of the piece that it repeats, in which its pictures are numbered; 0: it is one piece
	Number     int     `json:"number,omitempty"`       // that its pictures carry; 0: none, in an older clip
	Bytes      int64   `json:"bytes"`
	BitrateBps int64   `json:"bitrate_bps"`       // of the file
	VideoBps   int64   `json:"video_bitrate_bps"` // of the pictures in it
	SHA256     string  `json:"sha256"`
	Took       float64 `json:"took_s,omitempty"` // time that making it took
}

// made returns the version of what makes clips of a codec: as long as it is the same, an order
// gives the same bytes.
func made(name string) string {
	codec, _ := registry.Encoder(name) // without one no clip is made
	return fmt.Sprintf("scene %d, coder %d", scene.Version, codec.EncoderVersion)
}

// maxManifest is the largest size of a manifest.
const maxManifest = 16 << 20

// ReadManifest reads the manifest of a folder. A folder without one has an empty
// manifest.
func ReadManifest(dir string) (*Manifest, error) {
	m := &Manifest{Schema: ManifestSchema}
	f, err := os.Open(filepath.Join(dir, ManifestName))
	if errors.Is(err, fs.ErrNotExist) {
		return m, nil
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	path := filepath.Join(dir, ManifestName)
	if err := json.NewDecoder(io.LimitReader(f, maxManifest)).Decode(m); err != nil {
		return nil, fmt.Errorf("%s is not a manifest: %w; delete it to start again", path, err)
	}
	if m.Schema != ManifestSchema {
		return nil, fmt.Errorf("%s is of %q, not %q", path, m.Schema, ManifestSchema)
	}
	for _, e := range m.Clips {
		if e.File == "" || e.File != filepath.Base(e.File) {
			return nil, fmt.Errorf("%s names a file outside its folder: %q", path, e.File)
		}
	}
	return m, nil
}

// Find returns the entry of a file, or nil.
func (m *Manifest) Find(file string) *Entry {
	i, found := slices.BinarySearchFunc(m.Clips, file, byFile)
	if !found {
		return nil
	}
	return &m.Clips[i]
}

func byFile(e Entry, file string) int { return cmp.Compare(e.File, file) }

var manifests sync.Mutex // held while a manifest is read and rewritten

// note adds the entry to the manifest of a folder.
func note(dir string, e Entry) error {
	manifests.Lock()
	defer manifests.Unlock()
	m, err := ReadManifest(dir)
	if err != nil {
		return err
	}
	i, found := slices.BinarySearchFunc(m.Clips, e.File, byFile)
	if found {
		m.Clips[i] = e
	} else {
		m.Clips = slices.Insert(m.Clips, i, e)
	}
	text, err := json.MarshalIndent(m, "", "  ")
	if err != nil {
		return err
	}
	return partial.Write(filepath.Join(dir, ManifestName), append(text, '\n'))
}

// Prune deletes the clips of a folder that its manifest lists, and the manifest. It returns how
// many clips there were and their bytes. Other files are left alone.
func Prune(dir string) (clips int, bytes int64, err error) {
	manifests.Lock()
	defer manifests.Unlock()
	m, err := ReadManifest(dir)
	if err != nil {
		return 0, 0, err
	}
	for _, e := range m.Clips {
		err := os.Remove(filepath.Join(dir, e.File))
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return clips, bytes, err
		}
		clips, bytes = clips+1, bytes+e.Bytes
	}
	if err := os.Remove(filepath.Join(dir, ManifestName)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return clips, bytes, err
	}
	return clips, bytes, nil
}

// entry describes the clip at path, whose video has the given bits.
func (o Order) entry(path string, bits int64) (Entry, error) {
	size, sum, err := sumOf(context.Background(), path)
	if err != nil {
		return Entry{}, err
	}
	file := o.Name()
	o = o.complete()
	e := Entry{File: file, Load: o.Format.String(), Seconds: o.Seconds, Scene: o.Scene,
		Seed: o.Seed, Made: made(o.Format.Codec), Frames: o.Frames(), Number: o.Number(), Bytes: size, SHA256: sum,
		BitrateBps: o.rate(8 * size), VideoBps: o.rate(bits)}
	if round := o.Round(); round < e.Frames {
		e.Piece = round
	}
	if codec, err := registry.Encoder(o.Format.Codec); err == nil && codec.NewEncoder != nil {
		e.Coding = o.Coding.String()
	}
	return e, nil
}

// Round returns after how many frames the numbers that the clip's pictures carry begin again.
func (e *Entry) Round() int { return cmp.Or(e.Piece, e.Frames) }

// rate returns the bitrate of a film whose video has the given bits.
func (o Order) rate(bits int64) int64 {
	return int64(float64(bits) * o.Format.Rate.Hz() / float64(o.Frames()))
}

// String describes the coding.
func (c Coding) String() string {
	text := c.Preset.String()
	if c.KeyEvery == 1 {
		text += ", key frames only"
	} else {
		text += fmt.Sprintf(", key frame every %d", c.KeyEvery)
	}
	if c.BFrames > 0 {
		text += fmt.Sprintf(", %d B frames", c.BFrames)
	}
	if c.References > 0 {
		text += fmt.Sprintf(", %d references", c.References)
	}
	if c.Slices > 1 {
		text += fmt.Sprintf(", %d slices", c.Slices)
	}
	if c.CAVLC {
		return text + ", CAVLC"
	}
	return text + ", CABAC"
}

// sumOf returns the size and the SHA-256 of a file.
func sumOf(ctx context.Context, path string) (int64, string, error) {
	f, err := os.Open(path)
	if err != nil {
		return 0, "", err
	}
	defer f.Close()
	hash := sha256.New()
	buffer := make([]byte, 1<<20)
	size := int64(0)
	for {
		n, err := f.Read(buffer)
		hash.Write(buffer[:n])
		size += int64(n)
		if err == io.EOF {
			return size, hex.EncodeToString(hash.Sum(nil)), nil
		}
		if err == nil {
			err = ctx.Err()
		}
		if err != nil {
			return 0, "", err
		}
	}
}

// Unchanged returns an error unless the clip in dir has the bytes with which it was made.
func (e *Entry) Unchanged(ctx context.Context, dir string) error {
	size, sum, err := sumOf(ctx, filepath.Join(dir, e.File))
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return errors.New("it is missing")
	case err != nil:
		return err
	case size != e.Bytes:
		return fmt.Errorf("it has %d bytes, not %d", size, e.Bytes)
	case sum != e.SHA256:
		return errors.New("it was changed: its checksum is not that of the manifest")
	}
	return nil
}

// Verify returns an error unless the clip in dir is as its entry says: the same bytes, which
// decode without damage to frames that carry their numbers. progress may be nil.
func (e *Entry) Verify(ctx context.Context, dir string, threads int, progress func(done, total int)) error {
	if err := e.Unchanged(ctx, dir); err != nil {
		return err
	}
	path := filepath.Join(dir, e.File)
	f, err := registry.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	video, err := f.Video()
	if err != nil {
		return err
	}
	n := 0
	err = registry.Decode(ctx, f, video, threads, func(frame media.Frame) error {
		number, ok := scene.ReadNumber(frame.Picture)
		want := n
		if e.Piece > 0 {
			want %= e.Piece
		}
		switch {
		case frame.Damaged:
			return fmt.Errorf("frame %d is damaged", n)
		case !ok || number != want:
			return fmt.Errorf("frame %d does not carry its number", n)
		}
		n++
		if progress != nil {
			progress(n, e.Frames)
		}
		return nil
	})
	if err == nil && n != e.Frames {
		err = fmt.Errorf("it has %d frames, not %d", n, e.Frames)
	}
	return err
}
