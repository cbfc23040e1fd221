// Package report turns run documents into tables, sentences and exports. It
// measures nothing.
package report

import (
	"fmt"
	"strconv"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

	"vividstrain/core/verdict"
)

// Style says how results are drawn.
type Style struct {
	Color bool // ANSI colours
	Width int  // of the terminal in columns, 0: unknown
}

// marks are the shape and colour of each verdict.
var marks = map[verdict.Grade]struct {
	shape string
	color text.Color
}{
	verdict.Smooth:   {"●", text.FgGreen},
	verdict.Marginal: {"◐", text.FgYellow},
	verdict.Choppy:   {"○", text.FgHiRed},
	verdict.Failed:   {"×", text.FgRed},
	verdict.Void:     {"◌", text.Faint},
}

// Grade draws a verdict with its shape, and in its colour.
func (s Style) Grade(g verdict.Grade) string {
	m, known := marks[g]
	if !known {
		return "-"
	}
	return s.paint(m.color, m.shape+" "+string(g))
}

// Bold draws what stands out.
func (s Style) Bold(t string) string { return s.paint(text.Bold, t) }

// Faint draws what matters less.
func (s Style) Faint(t string) string { return s.paint(text.Faint, t) }

func (s Style) paint(c text.Color, t string) string {
	if !s.Color {
		return t
	}
	return text.Escape(t, c.EscapeSeq())
}

// Table draws rows under a head; right tells which columns are numbers.
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

// bytes prints a number of bytes with three figures at most.
func bytes(n float64) string {
	for _, unit := range []struct {
		size float64
		name string
	}{{1e12, "TB"}, {1e9, "GB"}, {1e6, "MB"}, {1e3, "kB"}} {
		if n >= unit.size {
			return fmt.Sprintf("%.*f %s", decimals(n/unit.size), n/unit.size, unit.name)
		}
	}
	return fmt.Sprintf("%.0f B", n)
}

// decimals is how many decimals give a number below 1000 three figures, or two
// below 10.
func decimals(n float64) int {
	if n < 10 {
		return 1
	}
	return 0
}

// figures prints a number with three significant figures, never with an exponent.
func figures(v float64) string {
	digits := 2
	for limit := 10.0; digits > 0 && (v >= limit || -v >= limit); limit *= 10 {
		digits--
	}
	t := strconv.FormatFloat(v, 'f', digits, 64)
	if strings.Contains(t, ".") {
		t = strings.TrimRight(strings.TrimRight(t, "0"), ".")
	}
	return t
}

// plural is "1 rung", "2 rungs".
func plural(n int, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return fmt.Sprintf("%d %ss", n, word)
}

// Wrap breaks text into lines of at most the style's width, 80 where unknown.
func (s Style) Wrap(t string) string {
	width := 80
	if s.Width > 0 {
		width = min(s.Width, 100)
	}
	return trimLines(text.WrapSoft(t, width))
}

// trimLines cuts the blanks with which the library fills lines up.
func trimLines(t string) string {
	lines := strings.Split(t, "\n")
	for i := range lines {
		lines[i] = strings.TrimRight(lines[i], " ")
	}
	return strings.Join(lines, "\n")
}
