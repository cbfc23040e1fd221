package linux

import (
	"bytes"
	"context"
	"path/filepath"
	"strconv"
	"time"

	"vividstrain/core/sense"
)

// cpuSource reads the load of the cores from proc/stat (proc_stat(5)).
type cpuSource struct {
	files
	path   string
	cores  []coreTimes
	labels []string
	all    coreTimes
}

// coreTimes are the totals of a core in ticks.
type coreTimes struct{ busy, steal, wait, total float64 }

func newCPU(r Roots) *cpuSource { return &cpuSource{path: filepath.Join(r.Proc, "stat")} }

func (*cpuSource) Kind() string { return sense.System }

func (*cpuSource) Name() string { return "cpu" }

func (s *cpuSource) Sample(_ context.Context, _ time.Time, list []sense.Reading) ([]sense.Reading, error) {
	data, err := s.read(s.path)
	if err != nil {
		return list, err
	}
	for len(data) > 0 {
		var l []byte
		l, data = line(data)
		if !bytes.HasPrefix(l, []byte("cpu")) {
			break
		}
		name, rest := field(l)
		t := parseTimes(rest)
		if len(name) == 3 {
			if d, ok := s.all.until(t); ok {
				list = append(list, sense.Reading{Quantity: sense.CPU, Value: sense.Percent(d.busy / d.total)}, sense.Reading{Quantity: sense.CPUSteal, Value: sense.Percent(d.steal / d.total)},
					sense.Reading{Quantity: sense.CPUWait, Value: sense.Percent(d.wait / d.total)})
			}
			s.all = t
			continue
		}
		n, ok := parseUint(name[3:])
		if !ok || n >= 1<<16 {
			continue
		}
		for int(n) >= len(s.cores) {
			s.labels = append(s.labels, strconv.Itoa(len(s.cores)))
			s.cores = append(s.cores, coreTimes{})
		}
		if d, ok := s.cores[n].until(t); ok {
			list = append(list, sense.Reading{Quantity: sense.CPUCore, Label: s.labels[n], Value: sense.Percent(d.busy / d.total)})
		}
		s.cores[n] = t
	}
	return list, nil
}

// parseTimes reads user, nice, system, idle, iowait, irq, softirq and steal.
// Time of guests is a part of user and nice.
func parseTimes(b []byte) (t coreTimes) {
	var v [8]float64
	for i := range v {
		var word []byte
		word, b = field(b)
		v[i], _ = parseFloat(word)
		t.total += v[i]
	}
	t.wait, t.steal = v[4], v[7]
	t.busy = t.total - v[3] - v[4]
	return t
}

// until returns what was added between two readings; false if nothing was.
func (t coreTimes) until(u coreTimes) (coreTimes, bool) {
	d := coreTimes{u.busy - t.busy, u.steal - t.steal, u.wait - t.wait, u.total - t.total}
	return d, t.total > 0 && d.total > 0
}
