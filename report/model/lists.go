package model

import (
	"fmt"
	"time"

	"vividstrain/core/load"
	"vividstrain/core/sense"
)

// DeviceLine is a simulated device in a list.
type DeviceLine struct {
	Name  string            `json:"name"`
	Title string            `json:"title"`
	About string            `json:"about"`
	Spec  map[string]string `json:"spec"`
}

// Devices returns a table of simulated devices.
func Devices(list []DeviceLine) Table {
	t := Table{Head: []string{"device", "price", "about"}, Right: []int{1}}
	for _, d := range list {
		t.Rows = append(t.Rows, Cells(d.Name, d.Spec["price"], d.About))
	}
	return t
}

// LadderLine is a ladder in a list.
type LadderLine struct {
	Name    string   `json:"name"`
	About   string   `json:"about"`
	HoldS   float64  `json:"hold_s"`
	Columns []string `json:"columns"`
	Rungs   int      `json:"rungs"`
}

// LadderLines returns the lines of ladders.
func LadderLines(ladders []*load.Ladder) []LadderLine {
	list := []LadderLine{}
	for _, l := range ladders {
		line := LadderLine{Name: l.Name, About: l.About, HoldS: time.Duration(l.Hold).Seconds()}
		for _, column := range l.Columns {
			line.Columns = append(line.Columns, column.Name)
			line.Rungs += len(column.Rungs)
		}
		list = append(list, line)
	}
	return list
}

// Ladders returns a table of ladders.
func Ladders(list []LadderLine) Table {
	t := Table{Head: []string{"ladder", "rungs", "hold", "about"}, Right: []int{1, 2}}
	for _, l := range list {
		t.Rows = append(t.Rows, Cells(l.Name, fmt.Sprint(l.Rungs), fmt.Sprintf("%gs", l.HoldS), l.About))
	}
	return t
}

// Sensors is what can be read, as JSON.
type Sensors struct {
	Readings []SensorReading   `json:"readings"`
	Costs    []SensorCost      `json:"costs"`
	Absent   []sense.Absence   `json:"absent"`
	Failed   []SensorFailure   `json:"failed"`
	Facts    map[string]string `json:"facts"`
}

// SensorReading is what a source reads now.
type SensorReading struct {
	Kind     string  `json:"kind"` // of the source
	Source   string  `json:"source"`
	Quantity string  `json:"quantity"`
	Value    float64 `json:"value"`
	Unit     string  `json:"unit"`
}

// SensorCost is the cost of reading a source.
type SensorCost struct {
	Kind      string  `json:"kind"`
	Source    string  `json:"source"`
	SampleUS  float64 `json:"sample_us"`
	LongestMS float64 `json:"longest_ms"`
}

// SensorFailure is why a source failed.
type SensorFailure struct {
	Kind   string `json:"kind"`
	Source string `json:"source"`
	Reason string `json:"reason"`
}

// NewSensors returns the list of what can be read.
func NewSensors(latest map[sense.Identity]sense.Sample, costs []sense.Cost, absent []sense.Absence, gaps []sense.Gap, facts map[string]string) Sensors {
	s := Sensors{[]SensorReading{}, []SensorCost{}, append([]sense.Absence{}, absent...), []SensorFailure{}, facts}
	for _, k := range costs {
		for _, r := range latest[k.Source].Readings {
			s.Readings = append(s.Readings, SensorReading{k.Source.Kind, k.Source.Name, r.Key(), r.Value, sense.Unit(r.Quantity)})
		}
		s.Costs = append(s.Costs, SensorCost{k.Source.Kind, k.Source.Name, float64(k.CPU.Microseconds()) / float64(max(1, k.Samples)), float64(k.Longest.Microseconds()) / 1000})
	}
	for _, g := range gaps {
		s.Failed = append(s.Failed, SensorFailure{g.Source.Kind, g.Source.Name, g.Reason})
	}
	return s
}
