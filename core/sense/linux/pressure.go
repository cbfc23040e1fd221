package linux

import (
	"bytes"
	"context"
	"path/filepath"
	"time"

	"vividstrain/core/sense"
)

// pressureSource reads how much of the time tasks waited for cores, memory and
// disks: the kernel's pressure stall information, totals in microseconds.
type pressureSource struct {
	files
	paths  [len(pressures)]string
	totals [3]counter
	at     time.Time
}

func newPressure(r Roots) *pressureSource {
	s := &pressureSource{}
	for i, p := range pressures {
		s.paths[i] = filepath.Join(r.Proc, "pressure", p.file)
	}
	return s
}

func (*pressureSource) Kind() string { return sense.System }

func (*pressureSource) Name() string { return "pressure" }

var pressures = [3]struct{ file, quantity string }{{"cpu", sense.PressureCPU}, {"memory", sense.PressureMemory}, {"io", sense.PressureIO}}

func (s *pressureSource) Sample(_ context.Context, now time.Time, list []sense.Reading) ([]sense.Reading, error) {
	elapsed := now.Sub(s.at).Seconds()
	s.at = now
	for i, p := range pressures {
		data, err := s.read(s.paths[i])
		if err != nil {
			return list, err
		}
		first, _ := line(data) // "some avg10=0.00 avg60=0.00 avg300=0.00 total=0"
		_, total, found := bytes.Cut(first, []byte("total="))
		v, ok := parseFloat(total)
		if !found || !ok {
			continue
		}
		if waited, ok := s.totals[i].since(v); ok && elapsed > 0 {
			list = append(list, sense.Reading{Quantity: p.quantity, Value: sense.Percent(waited * 1e-6 / elapsed)})
		}
	}
	return list, nil
}

func (s *pressureSource) Absent() []sense.Absence {
	var own files // Sample may be using the source's own
	if _, err := own.read(s.paths[0]); err != nil {
		return []sense.Absence{{Quantity: "pressure_*_pct", Why: "the kernel does not account it: " + sense.Reason(err), Remedy: "start the kernel with psi=1"}}
	}
	return nil
}
