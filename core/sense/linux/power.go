package linux

import (
	"context"
	"path/filepath"
	"strings"
	"time"

	"vividstrain/core/sense"
)

// powerSource reads power: the processor's energy counters (powercap), a battery's discharge,
// and hwmon chips that measure it.
type powerSource struct {
	files
	zones     []energyZone
	batteries []string
	probes    []probe
	denied    bool // energy counters are there but may not be read
	at        time.Time
}

// energyZone is a counter of microjoules that wraps.
type energyZone struct {
	path  string
	label string
	wrap  float64
	last  float64
	known bool
}

func newPower(r Roots) *powerSource {
	s := &powerSource{}
	for _, dir := range glob(r.Sys, "class", "powercap", "*:*") {
		z := energyZone{path: filepath.Join(dir, "energy_uj"), label: s.text(filepath.Join(dir, "name"))}
		if strings.Contains(dir, "mmio") || z.label == "" { // the same counters once more
			continue
		}
		z.wrap, _ = s.number(filepath.Join(dir, "max_energy_range_uj"))
		if _, err := s.number(z.path); err != nil {
			s.denied = true
			continue
		}
		s.zones = append(s.zones, z)
	}
	for _, dir := range glob(r.Sys, "class", "power_supply", "*") {
		if s.text(filepath.Join(dir, "type")) == "Battery" && s.text(filepath.Join(dir, "scope")) != "Device" {
			s.batteries = append(s.batteries, dir)
		}
	}
	for _, dir := range glob(r.Sys, "class", "hwmon", "hwmon*") {
		chip := s.text(filepath.Join(dir, "name"))
		paths := glob(dir, "power*_average")
		if len(paths) == 0 {
			paths = glob(dir, "power*_input")
		}
		for _, path := range paths {
			label := s.text(path[:strings.LastIndexByte(path, '_')] + "_label")
			s.probes = append(s.probes, probe{path, sense.Power, strings.TrimSpace(chip + " " + label), 1e-6})
		}
	}
	return s
}

func (*powerSource) Kind() string { return sense.System }

func (*powerSource) Name() string { return "power" }

func (s *powerSource) Sample(_ context.Context, now time.Time, list []sense.Reading) ([]sense.Reading, error) {
	elapsed := now.Sub(s.at).Seconds()
	s.at = now
	var packages, platform, battery float64
	for i := range s.zones {
		z := &s.zones[i]
		uj, err := s.number(z.path)
		if err != nil {
			return list, err
		}
		used := uj - z.last
		if used < 0 {
			used += z.wrap
		}
		if z.known && elapsed > 0 && used >= 0 {
			w := used * 1e-6 / elapsed
			list = append(list, sense.Reading{Quantity: sense.Power, Label: z.label, Value: w})
			switch {
			case z.label == "psys":
				platform = w
			case strings.HasPrefix(z.label, "package"):
				packages += w
			}
		}
		z.last, z.known = uj, true
	}
	for _, dir := range s.batteries {
		if capacity, err := s.number(filepath.Join(dir, "capacity")); err == nil {
			list = append(list, sense.Reading{Quantity: sense.Battery, Label: filepath.Base(dir), Value: capacity})
		}
		if s.text(filepath.Join(dir, "status")) == "Discharging" {
			battery += s.draw(dir)
		}
	}
	for _, p := range s.probes {
		if v, err := s.number(p.path); err == nil {
			list = append(list, sense.Reading{Quantity: p.quantity, Label: p.label, Value: v * p.scale})
		}
	}
	for _, w := range []float64{battery, platform, packages} { // sources that cover more of the device first
		if w > 0 {
			return append(list, sense.Reading{Quantity: sense.Power, Value: w}), nil
		}
	}
	return list, nil
}

// State reports where the power comes from, on devices with a battery.
func (s *powerSource) State() map[string]string {
	if len(s.batteries) == 0 {
		return nil
	}
	var own files // Sample may be using the source's own
	for _, dir := range s.batteries {
		if own.text(filepath.Join(dir, "status")) == "Discharging" {
			return map[string]string{"supply": "battery"}
		}
	}
	return map[string]string{"supply": "mains"}
}

// draw returns a battery's discharge in watts.
func (s *powerSource) draw(dir string) float64 {
	if uw, err := s.number(filepath.Join(dir, "power_now")); err == nil {
		return uw * 1e-6
	}
	ua, err := s.number(filepath.Join(dir, "current_now"))
	uv, err2 := s.number(filepath.Join(dir, "voltage_now"))
	if err != nil || err2 != nil {
		return 0
	}
	return ua * 1e-6 * uv * 1e-6
}

func (s *powerSource) Absent() []sense.Absence {
	switch {
	case s.denied && len(s.zones) == 0:
		return []sense.Absence{{Quantity: sense.Power, Why: "the processor's energy counters may be read by the administrator alone", Remedy: "run as administrator, or allow reading energy_uj below /sys/class/powercap"}}
	case len(s.zones)+len(s.batteries)+len(s.probes) == 0:
		return []sense.Absence{{Quantity: sense.Power, Why: "no energy counters, no battery, no chip that measures power", Remedy: "put a metering plug before the device (sensors: in vividstrain.yaml)"}}
	}
	return nil
}
