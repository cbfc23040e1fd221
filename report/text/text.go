// Package text draws tables and sentences for a terminal or a pipe. Their content comes from
// report/model.
package text

import (
	"regexp"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

	"vividstrain/core/verdict"
	"vividstrain/report/model"
)

// Style is how results are drawn.
type Style struct {
	Color bool // ANSI colours
	Width int  // of the terminal in columns, 0: unknown
}

// gradeColors are the colours of verdicts.
var gradeColors = map[verdict.Grade]text.Color{verdict.Smooth: text.FgGreen, verdict.Marginal: text.FgYellow, verdict.Choppy: text.FgHiRed,
	verdict.Failed: text.FgRed, verdict.Void: text.Faint}

// Grade draws a verdict with its shape, and in its colour.
func (s Style) Grade(g verdict.Grade) string {
	shape, known := model.Shapes[g]
	if !known {
		return "-"
	}
	return s.paint(gradeColors[g], shape+" "+string(g))
}

// Bold draws text that stands out.
func (s Style) Bold(t string) string { return s.paint(text.Bold, t) }

// Faint draws text of lesser importance.
func (s Style) Faint(t string) string { return s.paint(text.Faint, t) }

// Code draws a line of a code for cameras: bright on black, whatever the terminal's colours are.
func (s Style) Code(t string) string {
	if !s.Color {
		return t
	}
	return text.Escape(t, text.Colors{text.BgBlack, text.FgHiWhite}.EscapeSeq())
}

func (s Style) paint(c text.Color, t string) string {
	if !s.Color {
		return t
	}
	return text.Escape(t, c.EscapeSeq())
}

// Table draws rows under a header; right marks columns of numbers.
func (s Style) Table(head []string, rows [][]string, right ...int) string {
	t := table.NewWriter()
	style := table.StyleDefault
	style.Options = table.OptionsNoBordersAndSeparators
	style.Box.PaddingLeft, style.Box.PaddingRight = "", "  "
	style.Format.Header = text.FormatDefault
	t.SetStyle(style)
	if head != nil {
		cells := make(table.Row, len(head))
		for i, h := range head {
			cells[i] = s.Bold(h)
		}
		t.AppendHeader(cells)
	}
	for _, row := range rows {
		cells := make(table.Row, len(row))
		for i, c := range row {
			cells[i] = c
		}
		t.AppendRow(cells)
	}
	var configs []table.ColumnConfig
	for _, column := range right {
		configs = append(configs, table.ColumnConfig{Number: column + 1, Align: text.AlignRight, AlignHeader: text.AlignRight})
	}
	t.SetColumnConfigs(configs)
	return trimLines(t.Render()) + "\n"
}

// width is the width to keep to: the terminal's, 80 where it is not known.
func (s Style) width() int {
	if s.Width > 0 {
		return s.Width
	}
	return 80
}

// Wrap breaks text into lines of at most the style's width, and of at most 100 columns.
func (s Style) Wrap(t string) string {
	t = beforeUnit.ReplaceAllString(model.Printable(t), "$1\uE000$2")
	return strings.ReplaceAll(trimLines(text.WrapSoft(t, min(s.width(), 100))), "\uE000", " ")
}

// beforeUnit matches the spaces between numbers and units, at which no line ends; U+E000 takes
// their place while text is wrapped.
var beforeUnit = regexp.MustCompile(`(\d) (%|°C|(?:[kMGT]?B|[kMG]?b/s|m?s|W|Hz|x|cores?|degrees)\b)`)

// Draw draws a table. Its optional columns are left out, one by one, until it fits the width.
func (s Style) Draw(t model.Table) string {
	t = model.Clean(t)
	widths := s.columnWidths(t)
	var left []int // columns that are left out
	for drawnWidth(widths, left) > s.width() && len(left) < len(t.Optional) {
		left = append(left, t.Optional[len(left)])
	}
	if drawnWidth(widths, left) > s.width() {
		t = shortened(t)
	}
	return s.draw(t, left)
}

// columnWidths returns how wide the columns of a table are.
func (s Style) columnWidths(t model.Table) (widths []int) {
	plain := Style{Width: s.Width}
	widen := func(column int, words string) {
		for column >= len(widths) {
			widths = append(widths, 0)
		}
		widths[column] = max(widths[column], text.RuneWidthWithoutEscSequences(words))
	}
	for i, h := range t.Head {
		widen(i, h)
	}
	for _, row := range t.Rows {
		for i, c := range row {
			widen(i, plain.cell(c))
		}
	}
	return widths
}

// columnGap is the number of spaces between columns.
const columnGap = 2

// drawnWidth returns how wide a table is without the columns in left.
func drawnWidth(widths []int, left []int) (n int) {
	for i, w := range widths {
		if !slices.Contains(left, i) {
			n += w + columnGap
		}
	}
	return n - columnGap
}

// shortened returns a table with the short form of those cells that have one.
func shortened(t model.Table) model.Table {
	rows := make([][]model.Cell, len(t.Rows))
	for i, row := range t.Rows {
		rows[i] = slices.Clone(row)
		for k, c := range row {
			if c.Short != "" {
				rows[i][k].Text = c.Short
			}
		}
	}
	t.Rows = rows
	return t
}

// draw draws a table without the columns in left.
func (s Style) draw(t model.Table, left []int) string {
	var head []string
	var right []int
	place := 0
	for i := range len(t.Head) {
		if slices.Contains(left, i) {
			continue
		}
		head = append(head, t.Head[i])
		if slices.Contains(t.Right, i) {
			right = append(right, place)
		}
		place++
	}
	if t.Head == nil {
		right = t.Right
	}
	rows := make([][]string, len(t.Rows))
	for i, row := range t.Rows {
		for k, c := range row {
			if slices.Contains(left, k) {
				continue
			}
			rows[i] = append(rows[i], s.cell(c))
		}
	}
	return s.Table(head, rows, right...)
}

// cell draws a cell.
func (s Style) cell(c model.Cell) string {
	switch {
	case c.Grade != "":
		return strings.TrimSpace(s.Grade(c.Grade) + " " + c.Text)
	case c.Bold:
		return s.Bold(c.Text)
	case c.Faint:
		return s.Faint(c.Text)
	}
	return c.Text
}

// trimLines removes the spaces with which the library pads lines.
func trimLines(t string) string {
	lines := strings.Split(t, "\n")
	for i := range lines {
		lines[i] = strings.TrimRight(lines[i], " ")
	}
	return strings.Join(lines, "\n")
}
