package model

import (
	"fmt"
	"math"
	"slices"

	"vividstrain/core/logbook"
	"vividstrain/core/sense"
	"vividstrain/core/verdict"
)

// field is one column of the table of attempts.
type field struct {
	name  string // as it is asked for
	head  string
	about string // for the help
	// cell returns the text of the cell of an attempt, "" where it is not known.
	cell func(d *logbook.Document, a *logbook.Attempt) string
	// value returns the number by which the field is judged to have moved; nil: always shown
	// where any cell is known.
	value func(u sense.Use) (float64, bool)
	moves float64 // change from which it is worth a column
	// limiter is what runs out where this field ends; "" for none.
	limiter verdict.Limiter
	// rank is the order in which fields are given up where there is no room: the highest first.
	rank int
}

// fields are the columns of the table of attempts after load and verdict, in the order in which
// they are shown. A new one is an entry here.
var fields = []field{
	{name: "dropped", head: "dropped", about: "frames dropped, of those that were due on the screen", cell: droppedCell, rank: 0},
	{name: "start", head: "start", about: "from the request to the first picture", cell: bufferCell(startText), rank: 7},
	{name: "stalls", head: "stalls", about: "how often and how long the viewer waited", cell: bufferCell(stallsText), rank: 1},
	{name: "lead", head: "least lead", about: "least media buffered", cell: bufferCell(leadText), rank: 4},
	{name: "build", head: "build", about: "media seconds that arrived per second", cell: bufferCell(BuildRate), rank: 2},
	{name: "arrived", head: "arrived", about: "what the server sent", cell: func(_ *logbook.Document, a *logbook.Attempt) string { return arrived(a.Delivered) }, rank: 6},
	{name: "decoded", head: "decoded by", about: "the decoder block (hardware) or the cores (software)", cell: decodedCell, rank: 5},
	{name: "freeze", head: "freeze", about: "longest freeze", cell: freezeCell, rank: 12},
	{name: "uneven", head: "uneven", about: "pictures held for more or fewer refreshes than an even cadence has", cell: unevenCell, rank: 12},
	{name: "cores", head: "all cores", about: "use of all cores together, mean", cell: meanPct(sense.CPU), value: meanOf(sense.CPU), moves: 5, limiter: verdict.CPU, rank: 3},
	{name: "core", head: "busiest core", about: "use of a core by the player's busiest thread, or of the busiest core", cell: busiestCell, value: busiest, moves: 10, limiter: verdict.Core, rank: 8},
	{name: "decoder", head: "decoder", about: "use of the decoder block", cell: meanPct(sense.BlockUse), value: meanOf(sense.BlockUse), moves: 2, limiter: verdict.GPUDecode, rank: 4},
	{name: "encoder", head: "encoder", about: "use of the encoder block", cell: meanPct(sense.EncodeUse), value: meanOf(sense.EncodeUse), moves: 2, limiter: verdict.GPUEncode, rank: 9},
	{name: "graphics", head: "graphics", about: "use of the graphics engine", cell: meanPct(sense.RenderUse), value: meanOf(sense.RenderUse), moves: 5, limiter: verdict.GPURender, rank: 10},
	{name: "memory", head: "memory", about: "memory of the player, or of the device where that is not known; highest", cell: memoryCell, value: memoryMoved, moves: 10, limiter: verdict.Memory, rank: 9},
	{name: "link", head: "link", about: "use of the busiest network link", cell: meanPct(sense.NetLink), value: meanOf(sense.NetLink), moves: 2, limiter: verdict.Network, rank: 10},
	{name: "disk", head: "disk", about: "time in which the busiest disk worked", cell: meanPct(sense.DiskBusy), value: meanOf(sense.DiskBusy), moves: 10, limiter: verdict.Disk, rank: 13},
	{name: "degrees", head: "degrees", about: "temperature of the processor, highest", cell: maxText(sense.Temperature, "%.0f °C"), value: meanOf(sense.Temperature), moves: 3, limiter: verdict.Heat, rank: 8},
	{name: "clock", head: "clock", about: "clock of the cores, of the full one", cell: meanPct(sense.Clock), value: meanOf(sense.Clock), moves: 10, rank: 14},
	{name: "watts", head: "watts", about: "power, at the socket where that is measured", cell: wattsCell, value: watts, moves: 0.5, limiter: verdict.Power, rank: 6},
	{name: "noise", head: "noise", about: "noise by a meter, mean", cell: noiseCell, value: meanOf("noise_db"), moves: 1, rank: 11},
	{name: "next", head: "next costs", about: "of a crowd: what one more takes", cell: nextCostsCell, rank: 5},
}

// FieldHelp lists the fields with what they say.
func FieldHelp() (rows [][2]string) {
	for _, f := range fields {
		rows = append(rows, [2]string{f.name, f.about})
	}
	return rows
}

// FieldNames returns the names of all fields.
func FieldNames() (names []string) {
	for _, f := range fields {
		names = append(names, f.name)
	}
	return names
}

// Choice is which fields a table has: the named ones, all of them, or where neither is asked for
// those that matter.
type Choice struct {
	Names []string
	All   bool
}

// chosen returns the fields that a document's table has.
func (c Choice) chosen(d *logbook.Document) (list []field) {
	if len(c.Names) > 0 {
		for _, name := range c.Names {
			if i := slices.IndexFunc(fields, func(f field) bool { return f.name == name }); i >= 0 {
				list = append(list, fields[i])
			}
		}
		return list
	}
	for _, f := range fields {
		if c.All && f.known(d) || f.matters(d) {
			list = append(list, f)
		}
	}
	return list
}

// known reports whether any attempt has a value.
func (f *field) known(d *logbook.Document) bool {
	return anyAttempt(d, func(a logbook.Attempt) bool { return f.cell(d, &a) != "" })
}

// matters reports whether a field moved or ran out on this device.
func (f *field) matters(d *logbook.Document) bool {
	if !f.known(d) {
		return false
	}
	switch {
	case f.name == "freeze":
		return anyAttempt(d, func(a logbook.Attempt) bool { return a.Frames != nil && a.Frames.Freezes > 0 })
	case f.name == "uneven":
		return anyAttempt(d, func(a logbook.Attempt) bool { return a.Frames != nil && 50*a.Frames.Uneven > a.Frames.Shown })
	case f.name == "cores", f.value == nil:
		return true
	}
	least, most := math.Inf(1), math.Inf(-1)
	for _, r := range d.Rungs {
		for _, a := range r.Attempts {
			if f.limiter != "" && a.Limiter == f.limiter {
				return true
			}
			if v, known := f.value(a.Use); known {
				least, most = min(least, v), max(most, v)
			}
		}
	}
	if v, known := f.value(idleOf(d)); known {
		least, most = min(least, v), max(most, v)
	}
	return most-least >= f.moves
}

// idleOf returns the readings of the idle device as a summary.
func idleOf(d *logbook.Document) sense.Use {
	use := sense.Use{}
	for quantity, v := range idleUse(d) {
		use[quantity] = sense.Stat{Mean: v, Max: v, N: 1}
	}
	return use
}

// attemptTable returns a table with one row for each attempt. rungs are the rungs in the order of
// the table, with what each is called; again is what a further attempt is called.
func attemptTable(d *logbook.Document, choice Choice, head, again string, rungs []namedRung) Table {
	chosen := choice.chosen(d)
	t := Table{Head: []string{head, "verdict"}}
	if head == "streams" {
		t.Right = []int{0}
	}
	for i, f := range chosen {
		t.Head = append(t.Head, f.head)
		t.Right = append(t.Right, i+2)
	}
	if len(choice.Names) == 0 && !choice.All {
		for i := range chosen {
			t.Optional = append(t.Optional, i+2)
		}
		slices.SortStableFunc(t.Optional, func(a, b int) int { return chosen[b-2].rank - chosen[a-2].rank })
	}
	devices := devicesOf(d)
	t.Head = append(t.Head, devices...)
	for _, r := range rungs {
		for i := range r.rung.Attempts {
			a, name := &r.rung.Attempts[i], Cell{Text: r.name}
			if i > 0 {
				name = Cell{Text: again, Faint: true, Whole: r.name}
			}
			row := []Cell{name, {Grade: a.Verdict}}
			for _, f := range chosen {
				text := f.cell(d, a)
				if text == "" {
					text = "-"
				}
				row = append(row, Cell{Text: text})
			}
			for k := range devices {
				row = append(row, deviceCell(a, k))
			}
			t.Rows = append(t.Rows, row)
		}
	}
	return t
}

// devicesOf returns the devices that were measured at the same time, none where there was one.
func devicesOf(d *logbook.Document) (names []string) {
	for _, r := range d.Rungs {
		for _, a := range r.Attempts {
			for i := len(names); i < len(a.Devices); i++ {
				names = append(names, a.Devices[i].Device)
			}
		}
	}
	return names
}

// deviceCell returns what one of several devices did in an attempt.
func deviceCell(a *logbook.Attempt, device int) Cell {
	if device >= len(a.Devices) {
		return Cell{Text: "-"}
	}
	part := a.Devices[device]
	c := Cell{Grade: part.Verdict}
	if f := part.Frames; f != nil && f.Due > 0 {
		c.Text = fmt.Sprintf("%d of %d", f.Dropped, f.Due)
	}
	return c
}

// namedRung is a rung with what it is called in a table.
type namedRung struct {
	name string
	rung *logbook.Rung
}

func droppedCell(_ *logbook.Document, a *logbook.Attempt) string {
	switch {
	case a.Buffer != nil && !a.Displayed():
		return ""
	case a.FramesDue() > 0:
		return fmt.Sprintf("%d of %d", a.Frames.Dropped, a.Frames.Due)
	case a.Frames == nil && a.Verdict != verdict.Void && a.Verdict != verdict.Failed:
		return "not counted"
	}
	return ""
}

func freezeCell(_ *logbook.Document, a *logbook.Attempt) string {
	switch {
	case a.FramesDue() == 0 || !a.Displayed():
		return ""
	case a.Frames.Freezes == 0:
		return "none"
	}
	return fmt.Sprintf("%.0f ms", a.Frames.LongestFreezeMS)
}

func unevenCell(_ *logbook.Document, a *logbook.Attempt) string {
	if a.FramesDue() == 0 || a.Frames.Told == nil {
		return ""
	}
	return fmt.Sprintf("%d of %d", a.Frames.Uneven, a.Frames.Shown)
}

func decodedCell(_ *logbook.Document, a *logbook.Attempt) string {
	if a.Decode == "hardware" || a.Decode == "software" {
		return a.Decode
	}
	return ""
}

func meanOf(quantity string) func(sense.Use) (float64, bool) {
	return func(u sense.Use) (float64, bool) {
		_, s, known := u.Highest(quantity)
		return s.Mean, known
	}
}

func meanPct(quantity string) func(*logbook.Document, *logbook.Attempt) string {
	return func(_ *logbook.Document, a *logbook.Attempt) string {
		if _, s, known := a.Use.Highest(quantity); known {
			return fmt.Sprintf("%.0f %%", s.Mean)
		}
		return ""
	}
}

func maxText(quantity, format string) func(*logbook.Document, *logbook.Attempt) string {
	return func(_ *logbook.Document, a *logbook.Attempt) string {
		if s, known := a.Use[quantity]; known {
			return fmt.Sprintf(format, s.Max)
		}
		return ""
	}
}

// busiest returns the use of a core by the player's busiest thread, or of the busiest core.
func busiest(u sense.Use) (float64, bool) {
	if s, known := u[sense.ThreadMax]; known {
		return s.Mean, true
	}
	return meanOf(sense.CPUCore)(u)
}

func busiestCell(_ *logbook.Document, a *logbook.Attempt) string {
	if v, known := busiest(a.Use); known {
		return fmt.Sprintf("%.0f %%", v)
	}
	return ""
}

func memoryCell(_ *logbook.Document, a *logbook.Attempt) string {
	if m, known := a.Use.Memory(); known {
		return Bytes(m.Max)
	}
	return ""
}

// memoryMoved returns the memory in use in percent of the device's, or in units of 10 MB where
// that is not known.
func memoryMoved(u sense.Use) (float64, bool) {
	m, known := u.Memory()
	if total := u[sense.MemTotal].Mean; total > 0 {
		return 100 * m.Max / total, known
	}
	return m.Max / 1e7, known
}

func watts(u sense.Use) (float64, bool) {
	if s, known := u[sense.WallPower]; known {
		return s.Mean, true
	}
	s, known := u[sense.Power]
	return s.Mean, known
}

func wattsCell(_ *logbook.Document, a *logbook.Attempt) string {
	if v, known := watts(a.Use); known {
		return Figures(v) + " W"
	}
	return ""
}

func noiseCell(_ *logbook.Document, a *logbook.Attempt) string {
	if v, known := meanOf("noise_db")(a.Use); known {
		return fmt.Sprintf("%.0f dB", v)
	}
	return ""
}

func nextCostsCell(d *logbook.Document, a *logbook.Attempt) string {
	if d.Plan.Crowd == nil {
		return ""
	}
	for i, r := range d.Rungs {
		for k := range r.Attempts {
			if &d.Rungs[i].Attempts[k] == a || r.Attempts[k].Started.Equal(a.Started) {
				return nextCosts(*a, idleUse(d), d.Plan.Crowd.Numbers[i])
			}
		}
	}
	return ""
}
