package linux

import (
	"bytes"
	"context"
	"errors"
	"path/filepath"
	"time"

	"vividstrain/core/sense"
)

// memorySource reads the device's memory from proc/meminfo, and swapping from proc/vmstat.
type memorySource struct {
	files
	roots    Roots
	info     string // paths
	events   string
	pageSize float64
	swapped  counter
	at       time.Time
}

func newMemory(r Roots, pageSize int) *memorySource {
	return &memorySource{roots: r, pageSize: float64(pageSize), info: filepath.Join(r.Proc, "meminfo"), events: filepath.Join(r.Proc, "vmstat")}
}

func (*memorySource) Kind() string { return sense.System }

func (*memorySource) Name() string { return "memory" }

var errNoTotal = errors.New("meminfo does not say how much memory there is")

func (s *memorySource) Sample(_ context.Context, now time.Time, list []sense.Reading) ([]sense.Reading, error) {
	data, err := s.read(s.info)
	if err != nil {
		return list, err
	}
	var total, free, available, cached, swap, swapFree float64
	known := false
	for len(data) > 0 {
		var l []byte
		l, data = line(data)
		name, rest := field(l)
		var to *float64
		switch string(name) {
		case "MemTotal:":
			to = &total
		case "MemFree:":
			to = &free
		case "Cached:":
			to = &cached
		case "MemAvailable:":
			to = &available
		case "SwapTotal:":
			to = &swap
		case "SwapFree:":
			to = &swapFree
		default:
			continue
		}
		word, _ := field(rest)
		v, _ := parseFloat(word)
		*to = 1024 * v
		known = known || to == &available
	}
	if total == 0 {
		return list, errNoTotal
	}
	if !known { // kernels before 3.14
		available = free + cached
	}
	list = append(list, sense.Reading{Quantity: sense.MemUsed, Value: total - available}, sense.Reading{Quantity: sense.MemFree, Value: available}, sense.Reading{Quantity: sense.MemTotal, Value: total})
	if swap > 0 {
		list = append(list, sense.Reading{Quantity: sense.SwapUsed, Value: swap - swapFree})
	}
	return s.swapping(now, list), nil
}

// swapping reads how many pages were swapped.
func (s *memorySource) swapping(now time.Time, list []sense.Reading) []sense.Reading {
	data, err := s.read(s.events)
	if err != nil {
		return list
	}
	pages := 0.0
	for len(data) > 0 {
		var l []byte
		l, data = line(data)
		if !bytes.HasPrefix(l, []byte("pswp")) {
			continue
		}
		_, rest := field(l)
		word, _ := field(rest)
		v, _ := parseFloat(word)
		pages += v
	}
	elapsed := now.Sub(s.at).Seconds()
	if moved, ok := s.swapped.since(pages); ok && elapsed > 0 {
		list = append(list, sense.Reading{Quantity: sense.SwapRate, Value: moved * s.pageSize / elapsed})
	}
	s.at = now
	return list
}

// State reports how many programs were killed because memory ran out.
func (s *memorySource) State() map[string]string {
	var own files // Sample may be using the source's own
	data, err := own.read(s.events)
	if err != nil {
		return nil
	}
	for len(data) > 0 {
		var l []byte
		l, data = line(data)
		if name, rest := field(l); string(name) == "oom_kill" {
			word, _ := field(rest)
			return map[string]string{sense.MemoryKills: string(word)}
		}
	}
	return nil
}
