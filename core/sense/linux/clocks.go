package linux

import (
	"context"
	"path/filepath"
	"strconv"
	"time"

	"vividstrain/core/sense"
)

// clockSource reads the clocks of the cores from cpufreq, and how often the processor was
// throttled for its temperature.
type clockSource struct {
	files
	sys       string
	policies  []policy
	throttles []string
	throttled counter
	at        time.Time
}

// policy is a set of cores with one clock.
type policy struct {
	dir     string
	current string
	full    float64 // kHz
	cores   float64
}

func newClocks(r Roots) *clockSource {
	s := &clockSource{sys: r.Sys}
	cpus := filepath.Join(r.Sys, "devices", "system", "cpu")
	for _, dir := range glob(cpus, "cpufreq", "policy*") {
		full, err := s.number(filepath.Join(dir, "cpuinfo_max_freq"))
		if err != nil || full <= 0 {
			continue
		}
		p := policy{dir: dir, current: filepath.Join(dir, "scaling_cur_freq"), full: full}
		if data, err := s.read(filepath.Join(dir, "affected_cpus")); err == nil {
			for word, rest := field(data); len(word) > 0; word, rest = field(rest) {
				p.cores++
			}
		}
		p.cores = max(p.cores, 1)
		s.policies = append(s.policies, p)
	}
	s.throttles = append(glob(cpus, "cpu[0-9]*", "thermal_throttle", "core_throttle_count"),
		glob(cpus, "cpu0", "thermal_throttle", "package_throttle_count")...)
	return s
}

func (*clockSource) Kind() string { return sense.System }

func (*clockSource) Name() string { return "clocks" }

func (s *clockSource) Sample(_ context.Context, now time.Time, list []sense.Reading) ([]sense.Reading, error) {
	var share, mhz, cores float64
	for _, p := range s.policies {
		khz, err := s.number(p.current)
		if err != nil {
			return list, err
		}
		share += p.cores * khz / p.full
		mhz += p.cores * khz / 1000
		cores += p.cores
	}
	if cores > 0 {
		list = append(list, sense.Reading{Quantity: sense.Clock, Value: 100 * share / cores}, sense.Reading{Quantity: sense.ClockMHz, Value: mhz / cores})
	}
	elapsed := now.Sub(s.at).Seconds()
	s.at = now
	if len(s.throttles) == 0 {
		return list, nil
	}
	total := 0.0
	for _, path := range s.throttles {
		n, err := s.number(path)
		if err != nil {
			return list, err
		}
		total += n
	}
	if n, ok := s.throttled.since(total); ok && elapsed > 0 {
		list = append(list, sense.Reading{Quantity: sense.Throttles, Value: n / elapsed})
	}
	return list, nil
}

func (s *clockSource) Absent() (list []sense.Absence) {
	if len(s.policies) == 0 {
		list = append(list, sense.Absence{Quantity: sense.Clock, Why: "the kernel offers no cpufreq here, as in most virtual machines", Remedy: "load the processor's cpufreq driver, or measure on the machine itself"})
	}
	if len(s.throttles) == 0 {
		list = append(list, sense.Absence{Quantity: sense.Throttles, Why: "the processor's driver does not count them", Remedy: "measure on a processor whose driver counts them"})
	}
	return list
}

// State reports what decides the clocks.
func (s *clockSource) State() map[string]string {
	var own files // Sample may be using the source's own
	facts := map[string]string{}
	set := func(name, value string) {
		if value != "" {
			facts[name] = value
		}
	}
	set("power_profile", own.text(filepath.Join(s.sys, "firmware", "acpi", "platform_profile")))
	least := 100
	for _, p := range s.policies {
		set("governor", own.text(filepath.Join(p.dir, "scaling_governor")))
		set("clock_preference", own.text(filepath.Join(p.dir, "energy_performance_preference")))
		if most, err := own.number(filepath.Join(p.dir, "scaling_max_freq")); err == nil {
			least = min(least, int(100*most/p.full+0.5))
		}
	}
	if len(s.policies) > 0 {
		set("clock_cap_pct", strconv.Itoa(least))
	}
	return facts
}
