package model

import (
	"fmt"

	"vividstrain/core/need"
)

// needShapes are the shapes and words of states.
var needShapes = map[need.State]string{need.Met: "● meets it", need.Unknown: "◌ not known", need.Missed: "× misses it"}

// Needs returns which devices meet a need, and why not.
func Needs(list []need.Verdict) Table {
	t := Table{Head: []string{"device", "", "of the need", "", "because"}}
	for _, v := range list {
		for i, f := range v.Findings {
			row := Cells("", "", f.What, needShapes[f.State][:len("●")], f.Why)
			if i == 0 {
				row[0], row[1] = Cell{Text: v.Device, Bold: true}, Cell{Text: needShapes[v.State], Bold: true}
			}
			t.Rows = append(t.Rows, row)
		}
	}
	return t
}

// NeedSentences says which devices meet a need, and what to run where that is not known.
func NeedSentences(list []need.Verdict) (lines []string) {
	var meets []string
	for _, v := range list {
		if v.State == need.Met {
			meets = append(meets, v.Device)
		}
	}
	switch len(meets) {
	case 0:
		lines = append(lines, "No device that was measured meets the need.")
	default:
		lines = append(lines, listed(meets)+" "+map[bool]string{true: "meets", false: "meet"}[len(meets) == 1]+" the need.")
	}
	for _, v := range list {
		for _, f := range v.Findings {
			if v.State == need.Unknown && f.Run != "" {
				lines = append(lines, fmt.Sprintf("To know it of %s (%s): %s", v.Device, f.What, f.Run))
			}
		}
	}
	return lines
}

// listed joins names as in a sentence.
func listed(names []string) string {
	switch n := len(names); n {
	case 0:
		return ""
	case 1:
		return names[0]
	default:
		out := names[0]
		for _, name := range names[1 : n-1] {
			out += ", " + name
		}
		return out + " and " + names[n-1]
	}
}
