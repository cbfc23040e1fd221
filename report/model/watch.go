package model

import (
	"fmt"

	"vividstrain/core/logbook"
)

// watchView shows readings without a load: each quantity over the whole time.
var watchView = view{
	what:   func(*logbook.Document) string { return "" },
	table:  func(*logbook.Document, Choice) Table { return Table{} },
	answer: func(*logbook.Document) []Line { return nil },
}

// Quantities returns a table with one row for each series.
func Quantities(list []Series) Table {
	t := Table{Head: []string{"quantity", "mean", "least", "most", "readings"}, Right: []int{1, 2, 3, 4}}
	for _, s := range list {
		t.Rows = append(t.Rows, Cells(s.Key(), Value(s.Quantity, s.Mean), Value(s.Quantity, s.Min), Value(s.Quantity, s.Max), fmt.Sprint(s.N)))
	}
	return t
}
