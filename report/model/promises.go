package model

import (
	"fmt"

	"vividstrain/core/logbook"
	"vividstrain/core/media"
	"vividstrain/core/tally"
	"vividstrain/core/verdict"
)

// promises returns a table of the formats that were tried: what each device promised of each, and
// what it did. A promise that was not kept, either way, is marked.
func promises(d *logbook.Document) Table {
	t := Table{Head: []string{"codec", "bits", "chroma", "size", "rate", "bitrate", "says", "did", ""}, Right: []int{1, 4}, Optional: []int{2, 5}}
	several := len(devicesOf(d)) > 0
	if several {
		t.Head = append(t.Head, "device")
	}
	for i := range d.Rungs {
		r := &d.Rungs[i]
		if d.Crowd != nil {
			continue
		}
		for _, p := range promised(r.Counted()) {
			f := r.Load.Format
			row := Cells(f.Codec, fmt.Sprint(max(f.Depth, 8)), f.Chroma.String(), f.Size(), f.Rate.String(), media.BitrateText(float64(f.Bitrate)), promiseText(*p.says), "", kept(*p.says, p.did))
			row[7].Grade = p.did
			if several {
				row = append(row, Cell{Text: p.device})
			}
			t.Rows = append(t.Rows, row)
		}
	}
	return t
}

// promise is what a device promised of a format, and what most attempts at it came to.
type promise struct {
	device string
	says   *tally.Promise
	did    verdict.Grade
}

// promised returns the promises of each device that made any.
func promised(attempts []logbook.Attempt) (list []promise) {
	if len(attempts) == 0 {
		return nil
	}
	if says := attempts[0].Promise; says != nil {
		return []promise{{says: says, did: majority(attempts)}}
	}
	for k, part := range attempts[0].Devices {
		var its []logbook.Attempt
		for _, a := range attempts {
			if k < len(a.Devices) {
				its = append(its, logbook.Attempt{Verdict: a.Devices[k].Verdict})
			}
		}
		if part.Promise != nil {
			list = append(list, promise{part.Device, part.Promise, majority(its)})
		}
	}
	return list
}

func promiseText(p tally.Promise) string {
	switch {
	case !p.Supported:
		return "not supported"
	case p.Smooth == nil:
		return "supported"
	case !*p.Smooth:
		return "not smooth"
	case p.Efficient != nil && *p.Efficient:
		return "smooth, efficient"
	}
	return "smooth"
}

// kept says where what the device did is not what it promised.
func kept(p tally.Promise, did verdict.Grade) string {
	smooth := p.Supported && (p.Smooth == nil || *p.Smooth)
	switch {
	case did == verdict.Smooth && !smooth:
		return "better than it says"
	case did != verdict.Smooth && smooth && p.Smooth != nil, did == verdict.Failed && p.Supported:
		return "a false promise"
	}
	return ""
}

// early returns a table of the dropped frames of the first 15, 30 and 60 seconds, of the first
// attempt at each rung that counts.
func early(d *logbook.Document) Table {
	t := Table{Head: []string{"load"}}
	for i := range d.Rungs {
		counted := d.Rungs[i].Counted()
		if len(counted) == 0 || len(counted[0].Early) == 0 {
			continue
		}
		row := Cells(d.Rungs[i].Load.Title())
		for k, e := range counted[0].Early {
			if k+1 >= len(t.Head) {
				t.Head, t.Right = append(t.Head, fmt.Sprintf("first %.0f s", e.S)), append(t.Right, k+1)
			}
			row = append(row, Cell{Text: fmt.Sprintf("%d of %d", e.Dropped, e.Due)})
		}
		t.Rows = append(t.Rows, row)
	}
	for i := range t.Rows {
		for len(t.Rows[i]) < len(t.Head) {
			t.Rows[i] = append(t.Rows[i], Cell{Text: "-"})
		}
	}
	return t
}
