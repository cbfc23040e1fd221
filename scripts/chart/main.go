// Command chart draws the rates in a table of scripts/compare.sh as bars: how many times as much is done in
// a second as before. It reads the table from its input and writes the picture that its argument names.
package main

import (
	"bufio"
	"errors"
	"fmt"
	"image/color"
	"log"
	"os"
	"slices"
	"strconv"
	"strings"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	vgdraw "gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgimg"
)

func main() {
	log.SetFlags(0)
	if len(os.Args) != 2 {
		log.Fatal("usage: chart FILE.png < table")
	}
	names, ratios, err := read(bufio.NewScanner(os.Stdin))
	if err == nil && len(names) == 0 {
		err = fmt.Errorf("the table has no rates")
	}
	if err == nil {
		err = draw(names, ratios, os.Args[1])
	}
	if err != nil {
		log.Fatal(err)
	}
}

// read returns the rows whose unit is a rate, the last one first, as bars are drawn from below.
func read(lines *bufio.Scanner) (names []string, ratios plotter.Values, err error) {
	for lines.Scan() {
		cells := strings.Split(strings.Trim(lines.Text(), "| "), " | ")
		if len(cells) != 5 || cells[1] != "frames/s" {
			continue
		}
		v, err := strconv.ParseFloat(cells[2], 64)
		if err != nil {
			return nil, nil, fmt.Errorf("%q: %w", lines.Text(), err)
		}
		names, ratios = append(names, cells[0]), append(ratios, v)
	}
	slices.Reverse(names)
	slices.Reverse(ratios)
	return names, ratios, lines.Err()
}

func draw(names []string, ratios plotter.Values, path string) error {
	p := plot.New()
	p.X.Label.Text = "times as fast as before"
	p.X.Min, p.X.Max = 0, max(1.2, slices.Max(ratios)*1.05)
	bars, err := plotter.NewBarChart(ratios, vg.Points(11))
	if err != nil {
		return err
	}
	bars.Horizontal, bars.LineStyle.Width, bars.Color = true, 0, color.RGBA{0x1f, 0x6f, 0x8b, 0xff}
	one, err := plotter.NewLine(plotter.XYs{{X: 1, Y: -0.6}, {X: 1, Y: float64(len(ratios)) - 0.4}})
	if err != nil {
		return err
	}
	one.Dashes = []vg.Length{vg.Points(3), vg.Points(3)}
	p.Add(bars, one)
	p.NominalY(names...)
	p.X.Tick.Marker = plot.TickerFunc(func(_, most float64) (ticks []plot.Tick) {
		for v := 0.0; v <= most; v += 0.5 {
			ticks = append(ticks, plot.Tick{Value: v, Label: fmt.Sprintf("%.1f", v)})
		}
		return ticks
	})
	picture := vgimg.PngCanvas{Canvas: vgimg.New(7*vg.Inch, vg.Points(60+16*float64(len(names))))}
	const margin = vg.Length(8)
	p.Draw(vgdraw.Crop(vgdraw.New(picture), margin, -margin, margin, -margin))
	file, err := os.Create(path)
	if err != nil {
		return err
	}
	_, err = picture.WriteTo(file)
	return errors.Join(err, file.Close())
}
