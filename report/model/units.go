package model

import (
	"fmt"
	"math"
	"strconv"
	"strings"

	"vividstrain/core/media"
	"vividstrain/core/sense"
)

// Value formats a value of a quantity with its unit.
func Value(quantity string, v float64) string { return UnitValue(sense.Unit(quantity), v) }

// UnitValue formats a value with a unit.
func UnitValue(unit string, v float64) string {
	switch unit {
	case "B":
		return Bytes(v)
	case "B/s":
		return Bytes(v) + "/s"
	case "b/s":
		return media.BitrateText(v)
	case "%", "rpm", "MHz":
		return fmt.Sprintf("%.0f %s", v, unit)
	case "":
		return Figures(v)
	default:
		return Figures(v) + " " + unit
	}
}

// Bytes formats a number of bytes with at most three figures.
func Bytes(n float64) string {
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

// decimals returns the number of decimals that give a number below 1000 three figures, or two if
// it is below 10.
func decimals(n float64) int {
	if n < 10 {
		return 1
	}
	return 0
}

// Figures formats a number with three significant figures, never with an exponent.
func Figures(v float64) string {
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

// Figures3 formats a number near 1, such as a speed, with three decimals at most.
func Figures3(v float64) string { return strconv.FormatFloat(math.Round(v*1000)/1000, 'f', -1, 64) }

// Plural returns "1 rung", "2 rungs".
func Plural(n int, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return fmt.Sprintf("%d %ss", n, word)
}
