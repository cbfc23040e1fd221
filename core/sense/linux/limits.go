package linux

import (
	"bytes"
	"context"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"vividstrain/core/sense"
)

// limitSource reads the limits of the watched processes: control groups of either version (the
// kernel's admin-guide/cgroup-v1 and cgroup-v2), and the set of cores on which they may run
// (proc(5), Cpus_allowed_list). Without a limit it reads nothing.
type limitSource struct {
	files
	roots   Roots
	group   *Group
	held    counter
	at      time.Time
	looked  time.Time
	memory  [2]string // files of the limit and of what is in use
	stat    string    // of memory
	quota   float64   // cores, 0: no limit
	cpuStat string
}

func newLimits(r Roots, g *Group) *limitSource { return &limitSource{roots: r, group: g} }

func (*limitSource) Kind() string { return sense.System }

func (*limitSource) Name() string { return "limits" }

func (s *limitSource) Sample(_ context.Context, now time.Time, list []sense.Reading) ([]sense.Reading, error) {
	if pid, any := s.group.first(); any && now.Sub(s.looked) >= lookEvery {
		s.look(pid)
		s.looked = now
	}
	elapsed := now.Sub(s.at).Seconds()
	s.at = now
	if s.memory[0] != "" {
		limit, err := s.number(s.memory[0])
		used, err2 := s.number(s.memory[1])
		if err == nil && err2 == nil {
			used -= s.entry(s.stat, "inactive_file") // the kernel can free it at once
			list = append(list, sense.Reading{Quantity: sense.GroupMemLimit, Value: limit}, sense.Reading{Quantity: sense.GroupCharged, Value: max(0, used)})
		}
	}
	if s.quota > 0 {
		list = append(list, sense.Reading{Quantity: sense.GroupCPULimit, Value: 100 * s.quota})
	}
	if s.cpuStat != "" {
		held, scale := s.entry(s.cpuStat, "throttled_usec"), 1e-6
		if held == 0 {
			held, scale = s.entry(s.cpuStat, "throttled_time"), 1e-9
		}
		if d, ok := s.held.since(held * scale); ok && elapsed > 0 {
			list = append(list, sense.Reading{Quantity: sense.HeldBack, Value: 100 * d / elapsed})
		}
	}
	return list, nil
}

// entry reads one line of a file of names and numbers.
func (s *limitSource) entry(path, name string) float64 {
	data, err := s.read(path)
	if err != nil {
		return 0
	}
	for len(data) > 0 {
		var l []byte
		l, data = line(data)
		if word, rest := field(l); string(word) == name {
			word, _ = field(rest)
			v, _ := parseFloat(word)
			return v
		}
	}
	return 0
}

// look finds the control groups of a process and the limits that apply there or further up.
func (s *limitSource) look(pid int) {
	s.memory, s.stat, s.quota, s.cpuStat = [2]string{}, "", 0, ""
	defer s.useCores(pid) // compared with the tightest quota
	data, err := s.read(filepath.Join(s.roots.Proc, strconv.Itoa(pid), "cgroup"))
	if err != nil {
		return
	}
	base := filepath.Join(s.roots.Sys, "fs", "cgroup")
	for l := range bytes.Lines(bytes.Clone(data)) {
		_, rest, _ := strings.Cut(strings.TrimSpace(string(l)), ":")
		controllers, path, found := strings.Cut(rest, ":")
		if !found || strings.Contains(path, "..") {
			continue
		}
		for dir := filepath.Clean(path); ; dir = filepath.Dir(dir) {
			for _, c := range strings.Split(controllers, ",") {
				switch c {
				case "":
					s.useMemory(filepath.Join(base, dir), "memory.max", "memory.current")
					s.useQuota(filepath.Join(base, dir), "cpu.max", "")
				case "memory":
					s.useMemory(filepath.Join(base, "memory", dir), "memory.limit_in_bytes", "memory.usage_in_bytes")
				case "cpu":
					s.useQuota(filepath.Join(base, controllers, dir), "cpu.cfs_quota_us", "cpu.cfs_period_us")
				}
			}
			if dir == "/" || dir == "." {
				break
			}
		}
	}
}

// useCores applies the number of cores on which a process may run, if the device has more.
func (s *limitSource) useCores(pid int) {
	data, err := s.read(filepath.Join(s.roots.Proc, strconv.Itoa(pid), "status"))
	if err != nil {
		return
	}
	_, rest, _ := bytes.Cut(data, []byte("Cpus_allowed_list:"))
	allowed, _ := line(rest)
	n := countList(string(bytes.TrimSpace(allowed)))
	if n > 0 && float64(n) < s.countCores(s.roots.Proc) && (s.quota == 0 || float64(n) < s.quota) {
		s.quota, s.cpuStat = float64(n), ""
	}
}

// countList counts the members of a list such as 0-3,8.
func countList(list string) (n int) {
	for part := range strings.SplitSeq(list, ",") {
		from, to, isRange := strings.Cut(part, "-")
		if !isRange {
			to = from
		}
		first, err := strconv.Atoi(from)
		last, err2 := strconv.Atoi(to)
		if err != nil || err2 != nil || last < first || last > 1<<16 {
			return 0
		}
		n += last - first + 1
	}
	return n
}

// useMemory applies a memory limit, unless a tighter one is known.
func (s *limitSource) useMemory(dir, limit, used string) {
	v, err := s.number(filepath.Join(dir, limit))
	if err != nil || v <= 0 || v >= 1<<60 { // "max" is not a number; version 1 has a very large one
		return
	}
	if s.memory[0] != "" {
		if known, err := s.number(s.memory[0]); err == nil && known <= v {
			return
		}
	}
	s.memory = [2]string{filepath.Join(dir, limit), filepath.Join(dir, used)}
	s.stat = filepath.Join(dir, "memory.stat")
}

// useQuota applies a limit of processor time, unless a tighter one is known.
func (s *limitSource) useQuota(dir, quota, period string) {
	data, err := s.read(filepath.Join(dir, quota))
	if err != nil {
		return
	}
	word, rest := field(data)
	us, ok := parseFloat(word)
	word, _ = field(rest)
	every, known := parseFloat(word)
	if period != "" {
		every, err = s.number(filepath.Join(dir, period))
		known = err == nil
	}
	if ok && known && us > 0 && every > 0 && (s.quota == 0 || us/every < s.quota) {
		s.quota, s.cpuStat = us/every, filepath.Join(dir, "cpu.stat")
	}
}
