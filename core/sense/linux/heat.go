package linux

import (
	"context"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"vividstrain/core/sense"
)

// heatSource reads temperatures and fans from hwmon, and temperatures from
// thermal zones where hwmon has none of the processor.
type heatSource struct {
	files
	probes []probe
}

// probe is one file with one value.
type probe struct {
	path     string
	quantity string
	label    string
	scale    float64
}

// processors are the hwmon chips and thermal zones that measure the processor, best first;
// labels that begin with the second word are preferred.
var processors = [][2]string{{"coretemp", "Package"}, {"k10temp", "Tdie"}, {"k10temp", "Tctl"}, {"zenpower", "Tdie"}, {"cpu_thermal", ""}, {"x86_pkg_temp", ""}, {"cpu-thermal", ""},
	{"soc_thermal", ""}, {"soc-thermal", ""}, {"cpu", ""}, {"acpitz", ""}}

func newHeat(r Roots) *heatSource {
	s := &heatSource{}
	for _, dir := range glob(r.Sys, "class", "hwmon", "hwmon*") {
		chip := s.text(filepath.Join(dir, "name"))
		for _, path := range glob(dir, "temp*_input") {
			s.probes = append(s.probes, probe{path, sense.Temperature, s.labelOf(path, chip), 1e-3})
		}
		for _, path := range glob(dir, "fan*_input") {
			s.probes = append(s.probes, probe{path, sense.Fan, s.labelOf(path, chip), 1})
		}
	}
	for _, dir := range glob(r.Sys, "class", "thermal", "thermal_zone*") {
		kind := s.text(filepath.Join(dir, "type"))
		if !slices.ContainsFunc(s.probes, func(p probe) bool { return p.quantity == sense.Temperature && strings.HasPrefix(p.label, kind) }) {
			s.probes = append(s.probes, probe{filepath.Join(dir, "temp"), sense.Temperature, kind, 1e-3})
		}
	}
	s.probes = slices.DeleteFunc(s.probes, func(p probe) bool { // those that never answer
		_, err := s.number(p.path)
		return err != nil
	})
	s.unlikeLabels()
	if i := s.processor(); i >= 0 {
		s.probes[i].label = "" // of the device
	}
	return s
}

// labelOf labels a hwmon file by its chip and its own label or number.
func (s *heatSource) labelOf(path, chip string) string {
	base := strings.TrimSuffix(path, "_input")
	label := s.text(base + "_label")
	if label == "" {
		label = filepath.Base(base)
	}
	return strings.ReplaceAll(strings.TrimSpace(chip+" "+label), ":", "")
}

// unlikeLabels numbers equal labels.
func (s *heatSource) unlikeLabels() {
	seen := map[string]int{}
	for i := range s.probes {
		p := &s.probes[i]
		key := p.quantity + p.label
		if seen[key]++; seen[key] > 1 {
			p.label += " " + string(rune('0'+min(seen[key], 9)))
		}
	}
}

// processor returns the probe of the processor's temperature, or -1.
func (s *heatSource) processor() int {
	for _, want := range processors {
		for i, p := range s.probes {
			if p.quantity == sense.Temperature && (p.label == want[0] || strings.HasPrefix(p.label, strings.TrimSpace(want[0]+" "+want[1]))) {
				return i
			}
		}
	}
	return -1
}

func (*heatSource) Kind() string { return sense.System }

func (*heatSource) Name() string { return "heat" }

func (s *heatSource) Sample(_ context.Context, _ time.Time, list []sense.Reading) ([]sense.Reading, error) {
	var failed error
	for _, p := range s.probes {
		v, err := s.number(p.path)
		if err != nil {
			failed = err // others may still be read
			continue
		}
		list = append(list, sense.Reading{Quantity: p.quantity, Label: p.label, Value: v * p.scale})
	}
	return list, failed
}

func (s *heatSource) Absent() (list []sense.Absence) {
	has := func(quantity string) bool {
		return slices.ContainsFunc(s.probes, func(p probe) bool { return p.quantity == quantity })
	}
	if !has(sense.Temperature) {
		list = append(list, sense.Absence{Quantity: sense.Temperature, Why: "no hwmon chip and no thermal zone", Remedy: "load the driver of the board's sensors (coretemp, k10temp, ...), or take an outside meter (sensors: in vividstrain.yaml)"})
	}
	if !has(sense.Fan) {
		list = append(list, sense.Absence{Quantity: sense.Fan, Why: "no hwmon chip counts a fan", Remedy: "load the driver of the board's sensor chip; a device without a fan has none"})
	}
	return list
}
