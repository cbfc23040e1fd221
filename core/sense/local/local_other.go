//go:build !linux

package local

import (
	"context"
	"os"
	"strconv"
	"time"

	"github.com/shirou/gopsutil/v4/cpu"
	"github.com/shirou/gopsutil/v4/mem"
	"github.com/shirou/gopsutil/v4/process"

	"vividstrain/core/sense"
	"vividstrain/core/sense/linux"
)

// Local returns the sources for this computer, as far as this system has any. The only process
// they watch is this program.
func Local(*linux.Group) []sense.Source {
	list := []sense.Source{&portableCPU{}, &portableMemory{}, elsewhere{}}
	if own, err := process.NewProcess(int32(os.Getpid())); err == nil {
		list = append(list, &portableProcess{process: own, threads: map[int32]float64{}})
	}
	return list
}

// Host returns the sources that measure what other programs take of this computer: this system
// has none.
func Host(*linux.Group) []sense.Source { return nil }

// elsewhere lists what can be read on Linux only.
type elsewhere struct{}

func (elsewhere) Kind() string { return sense.System }

func (elsewhere) Name() string { return "system" }

func (elsewhere) Sample(_ context.Context, _ time.Time, list []sense.Reading) ([]sense.Reading, error) {
	return list, nil
}

func (elsewhere) Absent() (list []sense.Absence) {
	for _, q := range []string{"pressure_*_pct", sense.Clock, sense.Temperature, sense.Fan, sense.Power, "gpu_*_pct", "disk_*", "net_*"} {
		list = append(list, sense.Absence{Quantity: q, Why: "this system is not Linux, whose kernel tells of it", Remedy: "take an outside meter (sensors: in vividstrain.yaml), or read the device from another computer"})
	}
	return list
}

// portableCPU reads the load of the cores.
type portableCPU struct {
	before []cpu.TimesStat
	labels []string
}

func (*portableCPU) Kind() string { return sense.System }

func (*portableCPU) Name() string { return "cpu" }

func (s *portableCPU) Sample(ctx context.Context, _ time.Time, list []sense.Reading) ([]sense.Reading, error) {
	times, err := cpu.TimesWithContext(ctx, true)
	if err != nil {
		return list, err
	}
	before := s.before
	if s.before = times; len(before) != len(times) {
		return list, nil // the first sample, or a core came or went
	}
	for len(s.labels) < len(times) {
		s.labels = append(s.labels, strconv.Itoa(len(s.labels)))
	}
	var busySum, totalSum float64
	for i := range times {
		busy, total := busyTime(times[i]), times[i].Total()
		busy, total = busy-busyTime(before[i]), total-before[i].Total()
		busySum, totalSum = busySum+busy, totalSum+total
		if total > 0 {
			list = append(list, sense.Reading{Quantity: sense.CPUCore, Label: s.labels[i], Value: sense.Percent(busy / total)})
		}
	}
	if totalSum > 0 {
		list = append(list, sense.Reading{Quantity: sense.CPU, Value: sense.Percent(busySum / totalSum)})
	}
	return list, nil
}

// busyTime returns the time in which a core was not available, including time that the host of a
// virtual machine took.
func busyTime(t cpu.TimesStat) float64 { return t.Total() - t.Idle - t.Iowait }

// portableMemory reads the memory.
type portableMemory struct {
	swapped uint64
	at      time.Time
}

func (*portableMemory) Kind() string { return sense.System }

func (*portableMemory) Name() string { return "memory" }

func (s *portableMemory) Sample(ctx context.Context, now time.Time, list []sense.Reading) ([]sense.Reading, error) {
	m, err := mem.VirtualMemoryWithContext(ctx)
	if err != nil {
		return list, err
	}
	list = append(list, sense.Reading{Quantity: sense.MemUsed, Value: float64(m.Total - m.Available)},
		sense.Reading{Quantity: sense.MemFree, Value: float64(m.Available)}, sense.Reading{Quantity: sense.MemTotal, Value: float64(m.Total)})
	swap, err := mem.SwapMemoryWithContext(ctx)
	if err != nil {
		return list, nil // a device without swap space says so in many ways
	}
	moved, before := swap.Sin+swap.Sout, s.at
	if !before.IsZero() && now.After(before) && moved >= s.swapped {
		list = append(list, sense.Reading{Quantity: sense.SwapRate, Value: float64(moved-s.swapped) / now.Sub(before).Seconds()})
	}
	s.swapped, s.at = moved, now
	return list, nil
}

// portableProcess reads what the watched process uses.
type portableProcess struct {
	process *process.Process
	used    float64 // processor seconds up to the last sample
	threads map[int32]float64
	at      time.Time
}

func (*portableProcess) Kind() string { return sense.System }

func (*portableProcess) Name() string { return "process" }

func (s *portableProcess) Sample(ctx context.Context, now time.Time, list []sense.Reading) ([]sense.Reading, error) {
	times, err := s.process.TimesWithContext(ctx)
	if err != nil {
		return list, err
	}
	elapsed := now.Sub(s.at).Seconds()
	first := s.at.IsZero() || elapsed <= 0
	used := times.User + times.System
	if !first {
		list = append(list, sense.Reading{Quantity: sense.GroupCPU, Value: 100 * max(0, used-s.used) / elapsed})
	}
	s.used, s.at = used, now
	if m, err := s.process.MemoryInfoWithContext(ctx); err == nil {
		list = append(list, sense.Reading{Quantity: sense.GroupMem, Value: float64(m.RSS)})
	}
	if busiest, ok := s.busiestThread(ctx, elapsed); ok && !first {
		list = append(list, sense.Reading{Quantity: sense.ThreadMax, Value: busiest})
	}
	return list, nil
}

// busiestThread returns the share of a core that the busiest thread has used since the last
// sample, in percent.
func (s *portableProcess) busiestThread(ctx context.Context, elapsed float64) (float64, bool) {
	threads, err := s.process.ThreadsWithContext(ctx)
	if err != nil || len(threads) == 0 {
		return 0, false
	}
	most := 0.0
	for id, t := range threads {
		used := t.User + t.System
		if before, known := s.threads[id]; known {
			most = max(most, used-before)
		}
		s.threads[id] = used
	}
	for id := range s.threads {
		if _, alive := threads[id]; !alive {
			delete(s.threads, id)
		}
	}
	return sense.Percent(most / elapsed), true
}

// kernelSpec is not known on this system.
func kernelSpec() map[string]string { return nil }
