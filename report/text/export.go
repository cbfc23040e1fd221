package text

import (
	"cmp"
	"encoding/csv"
	"strings"

	"vividstrain/report/model"
)

// CSV draws a table as comma-separated values (RFC 4180).
func CSV(t model.Table) string {
	var b strings.Builder
	w := csv.NewWriter(&b)
	w.UseCRLF = false
	w.Write(t.Head)
	for _, row := range t.Rows {
		w.Write(plainRow(row))
	}
	w.Flush() // a strings.Builder never fails
	return b.String()
}

// Markdown draws a table for an article.
func Markdown(t model.Table) string {
	line := func(cells []string) string { return "| " + strings.Join(cells, " | ") + " |\n" }
	rule := make([]string, len(t.Head))
	for i := range rule {
		rule[i] = "---"
	}
	for _, i := range t.Right {
		if i < len(rule) {
			rule[i] = "---:"
		}
	}
	out := line(t.Head) + line(rule)
	for _, row := range t.Rows {
		cells := plainRow(row)
		for i := range cells {
			cells[i] = strings.ReplaceAll(cells[i], "|", "\\|")
		}
		out += line(cells)
	}
	return out
}

// plainRow returns the texts of a row; a verdict is its word.
func plainRow(row []model.Cell) []string {
	cells := make([]string, len(row))
	for i, c := range row {
		cells[i] = strings.TrimSpace(model.Printable(cmp.Or(c.Whole, string(c.Grade), c.Text)))
	}
	return cells
}
