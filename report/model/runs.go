package model

import (
	"time"

	"vividstrain/core/logbook"
)

// Runs returns a table of runs. running means that the newest, if incomplete, goes on.
func Runs(entries []logbook.Entry, running bool) Table {
	t := Table{Head: []string{"run", "kind", "device", "ladder", "state", "ceiling"}}
	for i, e := range entries {
		state, ceiling := "complete", "-"
		if !e.Complete {
			state = "interrupted"
			if i == 0 && running {
				state = "running"
			}
		}
		switch {
		case e.Ceiling == nil:
		case e.Ceiling.Load != nil:
			ceiling = e.Ceiling.Load.String()
		case e.Ceiling.Next != nil:
			ceiling = "none smooth"
		}
		t.Rows = append(t.Rows, Cells(e.ID, e.Kind, e.Device.Name, e.Ladder, state, ceiling))
	}
	return t
}

// RunLine is a run in the list of runs, as JSON.
type RunLine struct {
	ID       string           `json:"id"`
	Kind     string           `json:"kind"`
	Complete bool             `json:"complete"`
	Started  string           `json:"started"`
	Device   string           `json:"device"`
	Route    string           `json:"route"`
	Ladder   string           `json:"ladder"`
	Attempts int              `json:"attempts"`
	Ceiling  *logbook.Ceiling `json:"ceiling"`
}

// RunLines returns runs as JSON.
func RunLines(entries []logbook.Entry) []RunLine {
	lines := []RunLine{}
	for _, e := range entries {
		lines = append(lines, RunLine{e.ID, e.Kind, e.Complete, e.Started.Format(time.RFC3339), e.Device.Name, e.Route.Kind, e.Ladder, e.Attempts, e.Ceiling})
	}
	return lines
}
