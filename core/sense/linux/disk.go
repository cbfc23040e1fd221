package linux

import (
	"context"
	"path/filepath"
	"strings"
	"time"

	"vividstrain/core/sense"
)

// diskSource reads disk activity from proc/diskstats (the kernel's admin-guide/iostats).
// Partitions and disks that were never used are left out.
type diskSource struct {
	files
	roots Roots
	path  string
	disks map[string]*disk
	at    time.Time
}

// disk is the state of one disk.
type disk struct {
	skip                                          bool
	requests, read, written, waited, busy, queued counter
}

func newDisk(r Roots) *diskSource {
	return &diskSource{roots: r, path: filepath.Join(r.Proc, "diskstats"), disks: map[string]*disk{}}
}

func (*diskSource) Kind() string { return sense.System }

func (*diskSource) Name() string { return "disk" }

const (
	maxDisks   = 256
	sectorSize = 512 // the unit of the file, whatever the disk's own sector size
)

func (s *diskSource) Sample(_ context.Context, now time.Time, list []sense.Reading) ([]sense.Reading, error) {
	data, err := s.read(s.path)
	if err != nil {
		return list, err
	}
	elapsed := now.Sub(s.at).Seconds()
	s.at = now
	for len(data) > 0 {
		var l []byte
		l, data = line(data)
		_, l = field(l) // major, minor
		_, l = field(l)
		name, l := field(l)
		var v [11]float64 // reads, merged, sectors, ms; writes, merged, sectors, ms; under way, ms busy, ms weighted
		for i := range v {
			var word []byte
			word, l = field(l)
			v[i], _ = parseFloat(word)
		}
		d := s.disks[string(name)]
		if d == nil {
			if v[0]+v[4] == 0 || len(s.disks) >= maxDisks {
				continue
			}
			d = &disk{skip: !s.whole(string(name))}
			s.disks[string(name)] = d
		}
		if !d.skip {
			list = d.readings(list, string(name), v, elapsed)
		}
	}
	return list, nil
}

// whole reports whether a name is that of a disk, not of a partition or of a file used as a
// disk.
func (s *diskSource) whole(name string) bool {
	return !strings.HasPrefix(name, "loop") && !strings.HasPrefix(name, "ram") && !strings.HasPrefix(name, "zram") &&
		len(glob(s.roots.Sys, "block", escapeGlob(name))) > 0
}

// escapeGlob escapes the characters of a name that have a meaning in patterns.
func escapeGlob(name string) string {
	return strings.NewReplacer(`\`, `\\`, "*", `\*`, "?", `\?`, "[", `\[`).Replace(name)
}

func (d *disk) readings(list []sense.Reading, name string, v [11]float64, elapsed float64) []sense.Reading {
	requests, known := d.requests.since(v[0] + v[4])
	read, _ := d.read.since(v[2])
	written, _ := d.written.since(v[6])
	waited, _ := d.waited.since(v[3] + v[7])
	busy, _ := d.busy.since(v[9])
	queued, _ := d.queued.since(v[10])
	if !known || elapsed <= 0 {
		return list
	}
	list = append(list, sense.Reading{Quantity: sense.DiskBusy, Label: name, Value: sense.Percent(busy / 1000 / elapsed)}, sense.Reading{Quantity: sense.DiskRead, Label: name, Value: max(0, read) * sectorSize / elapsed},
		sense.Reading{Quantity: sense.DiskWrite, Label: name, Value: max(0, written) * sectorSize / elapsed}, sense.Reading{Quantity: sense.DiskQueue, Label: name, Value: max(0, queued) / 1000 / elapsed})
	if requests > 0 {
		list = append(list, sense.Reading{Quantity: sense.DiskWait, Label: name, Value: max(0, waited) / requests})
	}
	return list
}
