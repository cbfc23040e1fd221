// Package meter reads the device from outside over open protocols: SNMP, OpenMetrics, MQTT, JSON
// over HTTP, commands, and growing files. Each meter is a sense.Poller with an interval and a
// goroutine of its own, so that none delays another.
package meter

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"
	"sync"
	"time"

	"vividstrain/core/sense"
)

// Pick is one quantity to read from a meter's data.
type Pick struct {
	Quantity string
	Label    string
	At       string  // its place in the data: an OID, a metric, a path, a column
	Scale    float64 // factor from the meter's unit to the quantity's
	Offset   float64 // added after scaling
}

// reading converts the meter's value to a reading.
func (p *Pick) reading(v float64) (sense.Reading, error) {
	v = v*p.Scale + p.Offset
	if math.IsNaN(v) || math.IsInf(v, 0) {
		return sense.Reading{}, fmt.Errorf("%s: it is not a number", p.Quantity)
	}
	return sense.Reading{Quantity: p.Quantity, Label: p.Label, Value: v}, nil
}

// pace is the interval at which a meter is read, and the time limit of one reading.
type pace struct {
	kind, name string
	every      time.Duration
}

func (p *pace) Kind() string { return p.kind }

func (p *pace) Name() string { return p.name }

// Every returns the interval, and a time limit that allows for one slow answer.
func (p *pace) Every() (interval, timeout time.Duration) { return p.every, 5 * time.Second }

// lacks records picks that a meter does not have. The others are read all the same.
type lacks struct {
	mu   sync.Mutex
	list []sense.Absence
}

// begin clears the record for a new reading.
func (l *lacks) begin() {
	l.mu.Lock()
	l.list = nil
	l.mu.Unlock()
}

// add records that a pick could not be read.
func (l *lacks) add(p *Pick, err error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	key := sense.Reading{Quantity: p.Quantity, Label: p.Label}.Key()
	l.list = append(l.list, sense.Absence{Quantity: key, Why: fmt.Sprintf("%.80q: %v", p.At, err), Remedy: "look at what is named under \"read\""})
}

// all returns an error if none of the picks could be read.
func (l *lacks) all(picks int) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	if picks == 0 || len(l.list) < picks {
		return nil
	}
	return errors.New(l.list[0].Why)
}

// Absent returns the missing picks.
func (l *lacks) Absent() []sense.Absence {
	l.mu.Lock()
	defer l.mu.Unlock()
	return slices.Clone(l.list)
}

// Source is a meter.
type Source interface {
	sense.Poller
	Close() error
}

// unit is the conversion from a unit to the one in which a quantity is kept.
type unit struct{ scale, offset float64 }

// units are the units that a meter may use, by the unit of the quantity.
var units = map[string]map[string]unit{
	"W":   {"W": {1, 0}, "mW": {1e-3, 0}, "uW": {1e-6, 0}, "kW": {1e3, 0}},
	"°C":  {"C": {1, 0}, "°C": {1, 0}, "mC": {1e-3, 0}, "dC": {0.1, 0}, "F": {5.0 / 9, -160.0 / 9}, "K": {1, -273.15}},
	"%":   {"%": {1, 0}, "share": {100, 0}},
	"B":   {"B": {1, 0}, "kB": {1e3, 0}, "KiB": {1 << 10, 0}, "MB": {1e6, 0}, "MiB": {1 << 20, 0}, "GB": {1e9, 0}, "GiB": {1 << 30, 0}},
	"B/s": {"B/s": {1, 0}, "kB/s": {1e3, 0}, "MB/s": {1e6, 0}},
	"b/s": {"b/s": {1, 0}, "kb/s": {1e3, 0}, "Mb/s": {1e6, 0}, "Gb/s": {1e9, 0}, "B/s": {8, 0}, "kB/s": {8e3, 0}, "MB/s": {8e6, 0}},
	"MHz": {"Hz": {1e-6, 0}, "kHz": {1e-3, 0}, "MHz": {1, 0}, "GHz": {1e3, 0}},
	"ms":  {"ms": {1, 0}, "s": {1e3, 0}, "us": {1e-3, 0}},
	"s":   {"s": {1, 0}, "ms": {1e-3, 0}},
	"rpm": {"rpm": {1, 0}}, "dB": {"dB": {1, 0}}, "V": {"V": {1, 0}, "mV": {1e-3, 0}}, "A": {"A": {1, 0}, "mA": {1e-3, 0}},
}

// Convert returns the conversion of values in a unit to values of a quantity.
func Convert(quantity, from string) (scale, offset float64, err error) {
	to := sense.Unit(quantity)
	u, known := units[to][from]
	if !known {
		return 0, 0, fmt.Errorf("%s cannot be given in %q; there are %s", quantity, from, strings.Join(slices.Sorted(maps.Keys(units[to])), ", "))
	}
	return u.scale, u.offset, nil
}

// EndingFor returns the ending of quantities that can be given in a unit, or "".
func EndingFor(unit string) string {
	for _, ending := range sense.Endings() {
		if _, _, err := Convert("x"+ending, unit); err == nil {
			return ending
		}
	}
	return ""
}

// CheckQuantity returns an error unless a name is valid for a quantity: lower-case words, the
// last of which is the unit.
func CheckQuantity(name string) error {
	if name == "" || len(name) > 64 || strings.Trim(name, "abcdefghijklmnopqrstuvwxyz0123456789_") != "" || sense.Unit(name) == "" && !sense.IsCount(name) {
		return fmt.Errorf("%q is no name of a quantity; such names are of small letters and end with their unit: %s", name, strings.Join(sense.Endings(), ", "))
	}
	return nil
}

// patience limits how often an unreachable meter is tried: the wait grows with each failure, up
// to a minute.
type patience struct {
	failures int
	until    time.Time
}

func (p *patience) ready(now time.Time) bool { return !now.Before(p.until) }

func (p *patience) failed(now time.Time) {
	p.failures = min(p.failures+1, 6)
	p.until = now.Add(time.Second << p.failures)
}

func (p *patience) worked() { *p = patience{} }

// do runs one reading of a meter, unless it must wait after a failure; then it returns the last
// error.
func (p *patience) do(ctx context.Context, now time.Time, last *error, read func() error) error {
	if !p.ready(now) && *last != nil {
		return *last
	}
	*last = read()
	if *last != nil && ctx.Err() == nil {
		p.failed(now)
	} else {
		p.worked()
	}
	return *last
}
