package model

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"vividstrain/core/logbook"
)

// Runs returns a table of runs at a time. running means that the newest, if incomplete, goes on.
func Runs(entries []logbook.Entry, running bool, now time.Time) Table {
	t := Table{Head: []string{"run", "age", "kind", "device", "of", "result", "why", "state"}, Right: []int{1}, Optional: []int{7, 2, 6, 1}}
	labelled := slices.ContainsFunc(entries, func(e logbook.Entry) bool { return labels(&e.Document) != "" })
	if labelled {
		t.Head = append(t.Head, "name, tags, sets")
	}
	complete := true
	for i := range entries {
		e := &entries[i]
		state := "complete"
		if !e.Complete {
			complete = false
			state = "interrupted"
			if i == 0 && running {
				state = "running"
			}
		}
		result, why := resultOf(&e.Document)
		row := Cells(e.ID, age(now.Sub(e.Started)), e.Kind, e.Device.Name, whatOf(&e.Document), result, why, state)
		if labelled {
			row = append(row, Cell{Text: labels(&e.Document)})
		}
		t.Rows = append(t.Rows, row)
	}
	if !complete {
		t.Optional = []int{2, 6, 1, 7}
	}
	return t
}

// labels returns a run's name, its tags, and its sets in brackets.
func labels(d *logbook.Document) string {
	parts := slices.Clone(d.Tags)
	if d.Name != "" {
		parts = slices.Insert(parts, 0, d.Name)
	}
	for _, s := range d.Sets {
		parts = append(parts, "["+s+"]")
	}
	return strings.Join(parts, ", ")
}

// whatOf names what was put on a device.
func whatOf(d *logbook.Document) string {
	if d.Plan.Crowd != nil {
		return mixWords(d.Plan.Crowd.Mix)
	}
	if d.Conversion != nil {
		return conversionName(d)
	}
	return d.Ladder
}

// resultOf returns the result of a run in a few words, and what ran out.
func resultOf(d *logbook.Document) (result, why string) {
	switch {
	case d.Conversion != nil:
		least, _ := d.Conversion.Speed()
		return fmt.Sprintf("%.2f x real time", least), "-"
	case d.Crowd != nil && d.Crowd.Highest == 0 && d.Crowd.Next > 0:
		return "none smooth", string(d.Crowd.Limiter)
	case d.Crowd != nil && d.Crowd.Highest > 0:
		result = Plural(d.Crowd.Streams, "stream")
		if n := d.Crowd.Comfortable; n != nil {
			result += fmt.Sprintf(", %d comfortable", *n*d.Crowd.Streams/d.Crowd.Highest)
		}
		return result, string(d.Crowd.Limiter)
	case d.Ceiling == nil:
		return "-", "-"
	case d.Ceiling.Load != nil:
		return d.Ceiling.Load.Title(), dashIfEmpty(string(d.Ceiling.Limiter))
	case d.Ceiling.Next != nil:
		return "none smooth", dashIfEmpty(string(d.Ceiling.Limiter))
	}
	return "-", "-"
}

func dashIfEmpty(text string) string {
	if text == "" {
		return "-"
	}
	return text
}

// age formats how long ago something was: "12 min", "5 h", "3 days".
func age(d time.Duration) string {
	switch {
	case d < time.Minute:
		return "now"
	case d < time.Hour:
		return fmt.Sprintf("%d min", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h", int(d.Hours()))
	}
	return fmt.Sprintf("%d days", int(d.Hours()/24))
}

// RunLine is a run in the list of runs, as JSON.
type RunLine struct {
	ID       string           `json:"id"`
	Name     string           `json:"name,omitempty"`
	Tags     []string         `json:"tags,omitempty"`
	Sets     []string         `json:"sets,omitempty"`
	Kind     string           `json:"kind"`
	Complete bool             `json:"complete"`
	Started  string           `json:"started"`
	Device   string           `json:"device"`
	Route    string           `json:"route"`
	Ladder   string           `json:"ladder"`
	Attempts int              `json:"attempts"`
	Ceiling  *logbook.Ceiling `json:"ceiling"`
	Crowd    *logbook.Crowd   `json:"crowd,omitempty"`
}

// RunLines returns runs as JSON.
func RunLines(entries []logbook.Entry) []RunLine {
	lines := []RunLine{}
	for _, e := range entries {
		lines = append(lines, RunLine{e.ID, e.Name, e.Tags, e.Sets, e.Kind, e.Complete, e.Started.Format(time.RFC3339), e.Device.Name, e.Route.Kind, whatOf(&e.Document), e.Attempts, e.Ceiling, e.Crowd})
	}
	return lines
}
