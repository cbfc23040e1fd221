package chart

import (
	"fmt"
	"image/color"
	"strings"

	"gonum.org/v1/plot/vg"

	"vividstrain/core/verdict"
)

// The colours of everything drawn. They differ in lightness as well, so that they can be told
// apart by those who see few hues, and in print; verdicts have shapes, curves have dashes beside
// them.
var (
	ink   = color.NRGBA{0x22, 0x2b, 0x33, 0xff}
	faint = color.NRGBA{0x8b, 0x95, 0x9e, 0xff}
	rule  = color.NRGBA{0xdf, 0xe3, 0xe6, 0xff}
	paper = color.NRGBA{0xff, 0xff, 0xff, 0xff}
	night = color.NRGBA{0x14, 0x19, 0x1e, 0xff} // the paper of a dark page

	hues = []color.NRGBA{{0x1f, 0x5f, 0x8b, 0xff}, {0xc9, 0x72, 0x1d, 0xff}, {0x4f, 0xa3, 0x8f, 0xff}, {0x7a, 0x3e, 0x65, 0xff}, {0x9a, 0x8c, 0x2e, 0xff}, {0x6f, 0x86, 0xb5, 0xff}, {0xa8, 0x4b, 0x3c, 0xff}, {0x5b, 0x67, 0x70, 0xff}}

	dashes = [][]vg.Length{nil, {5, 2}, {1.5, 2}, {7, 2, 1.5, 2}}

	grades = map[verdict.Grade]color.NRGBA{verdict.Smooth: {0x1b, 0x7f, 0x74, 0xff}, verdict.Marginal: {0xb8, 0x8a, 0x14, 0xff},
		verdict.Choppy: {0xc0, 0x56, 0x1e, 0xff}, verdict.Failed: {0x83, 0x2f, 0x55, 0xff}, verdict.Void: {0x8b, 0x95, 0x9e, 0xff}}
)

// hueOf returns the colour of curve i, and its dashes: those of the first round are whole lines.
func hueOf(i int) (color.NRGBA, []vg.Length) {
	return hues[i%len(hues)], dashes[i%len(dashes)]
}

// tint returns a colour as it is on paper with so much of it.
func tint(c color.NRGBA, share float64) color.NRGBA { return mixed(c, paper, share) }

// mixed returns a colour as it is on another with so much of it.
func mixed(c, below color.NRGBA, share float64) color.NRGBA {
	mix := func(a, b uint8) uint8 { return uint8(share*float64(a) + (1-share)*float64(b)) }
	return color.NRGBA{mix(c.R, below.R), mix(c.G, below.G), mix(c.B, below.B), 0xff}
}

// heat returns the colour of a share from 0 to 1: the busier, the darker.
func heat(share float64) color.NRGBA {
	return tint(hues[0], 0.04+0.96*max(0, min(share, 1)))
}

// dark is how colours are changed on a dark page: those of curves and verdicts are lighter.
var dark = map[color.NRGBA]string{ink: "#dfe5ea", faint: "#8d98a3", rule: "#38424b", paper: "#14191e"}

// Colours returns the rules of style by which drawings in a page follow its light and dark: every
// colour that is drawn is replaced by a variable.
func Colours() string {
	var light, unlit, rules strings.Builder
	name := func(c color.NRGBA) string { return fmt.Sprintf("--c%02x%02x%02x", c.R, c.G, c.B) }
	hex := func(c color.NRGBA) string { return fmt.Sprintf("#%02X%02X%02X", c.R, c.G, c.B) }
	add := func(c color.NRGBA, there string) {
		fmt.Fprintf(&light, "%s:%s;", name(c), hex(c))
		fmt.Fprintf(&unlit, "%s:%s;", name(c), there)
		for _, what := range []string{"fill", "stroke"} {
			fmt.Fprintf(&rules, "svg [style*=\"%s:%s\"]{%s:var(%s)!important}\n", what, hex(c), what, name(c))
		}
	}
	for _, c := range []color.NRGBA{ink, faint, rule, paper} {
		add(c, dark[c])
	}
	for i, c := range hues {
		add(c, hex(lighter(c)))
		fmt.Fprintf(&rules, ".hue%d{--hue:var(%s)}\n", i, name(c))
	}
	for _, g := range []verdict.Grade{verdict.Smooth, verdict.Marginal, verdict.Choppy, verdict.Failed, verdict.Void} {
		if c := grades[g]; c != faint {
			add(c, hex(lighter(c)))
		}
		add(tint(grades[g], bandTint), hex(mixed(lighter(grades[g]), night, nightTint)))
		fmt.Fprintf(&rules, ".%s{--grade:var(%s);--band:var(%s)}\n", g, name(grades[g]), name(tint(grades[g], bandTint)))
	}
	return fmt.Sprintf(":root{%s}\n@media (prefers-color-scheme:dark){@media not print{:root{%s}}}\n%s", light.String(), unlit.String(), rules.String())
}

// bandTint and nightTint are how much of a verdict's colour its bands have on a light and a dark page.
const (
	bandTint  = 0.13
	nightTint = 0.2
)

// lighter returns a colour as it is drawn on a dark page.
func lighter(c color.NRGBA) color.NRGBA { return tint(c, 0.62) }
