// Package export writes a run's readings, frames and rungs in open formats: CSV (RFC 4180), Apache
// Parquet and OpenMetrics.
package export

import (
	"cmp"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"maps"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"github.com/parquet-go/parquet-go"

	"vividstrain/core/logbook"
	"vividstrain/core/sense"
)

// Reading is a row of readings.
type Reading struct {
	Run      string  `parquet:"run,dict"`
	AtS      float64 `parquet:"at_s"`    // since the run began
	UnixMS   int64   `parquet:"unix_ms"` // the same by the calendar
	Phase    string  `parquet:"phase,dict"`
	Kind     string  `parquet:"source_kind,dict"`
	Source   string  `parquet:"source,dict"`
	Quantity string  `parquet:"quantity,dict"`
	Label    string  `parquet:"label,dict"`
	Value    float64 `parquet:"value"`
}

// Frame is a row of frames: the account of one window of an attempt.
type Frame struct {
	Run     string  `parquet:"run,dict"`
	Load    string  `parquet:"load,dict"`
	Attempt int64   `parquet:"attempt"` // of the load, from 1
	Window  string  `parquet:"window,dict"`
	FromS   float64 `parquet:"from_s"`
	ToS     float64 `parquet:"to_s"`
	Due     int64   `parquet:"due"`
	Shown   int64   `parquet:"shown"`
	Dropped int64   `parquet:"dropped"`
	Late    int64   `parquet:"late"`
	Repeats int64   `parquet:"repeats"`
	Freezes int64   `parquet:"freezes"`
	Freeze  float64 `parquet:"longest_freeze_ms"`
	Rate    float64 `parquet:"shown_rate"`
	Speed   float64 `parquet:"speed"`
}

// Rung is a row of rungs: one attempt.
type Rung struct {
	Run     string `parquet:"run,dict"`
	Device  string `parquet:"device,dict"`
	Column  string `parquet:"column,dict"`
	Load    string `parquet:"load,dict"`
	Attempt int64  `parquet:"attempt"`
	Started string `parquet:"started"`
	Verdict string `parquet:"verdict,dict"`
	Void    string `parquet:"void,dict"`
	Limiter string `parquet:"limiter,dict"`
	Decode  string `parquet:"decode,dict"`
	// Nil is what was not counted or read.
	Due     *int64   `parquet:"due,optional"`
	Dropped *int64   `parquet:"dropped,optional"`
	CPU     *float64 `parquet:"cpu_pct,optional"`
	Watts   *float64 `parquet:"power_w,optional"` // at the socket, else as the device measures it
	Reasons string   `parquet:"reasons"`
}

// Readings returns the readings of a run as rows.
func Readings(d *logbook.Document, readings []logbook.Reading) []Reading {
	rows := make([]Reading, len(readings))
	for i, r := range readings {
		quantity, label, _ := strings.Cut(r.Quantity, ":")
		at := d.Started.UnixMicro() + int64(r.AtS*1e6)
		rows[i] = Reading{d.ID, r.AtS, at / 1000, string(r.Phase), r.Kind, r.Source, quantity, label, r.Value}
	}
	return rows
}

// Frames returns the windows of all attempts in which frames were counted.
func Frames(d *logbook.Document) (rows []Frame) {
	eachAttempt(d, func(load string, n int, _ *logbook.Rung, a *logbook.Attempt) {
		for _, w := range a.Windows {
			if f := w.Frames; f != nil {
				rows = append(rows, Frame{d.ID, load, int64(n), w.Kind, w.FromS, w.ToS, int64(f.Due), int64(f.Shown), int64(f.Dropped), int64(f.Late), int64(f.Repeats), int64(f.Freezes), f.LongestFreezeMS, f.ShownRate, f.Speed})
			}
		}
	})
	return rows
}

// Rungs returns all attempts as rows.
func Rungs(d *logbook.Document) (rows []Rung) {
	eachAttempt(d, func(load string, n int, r *logbook.Rung, a *logbook.Attempt) {
		row := Rung{Run: d.ID, Device: d.Device.Name, Column: r.Column, Load: load, Attempt: int64(n), Started: a.Started.Format("2006-01-02T15:04:05.000Z07:00"),
			Verdict: string(a.Verdict), Void: string(a.Void), Limiter: string(a.Limiter), Decode: a.Decode, CPU: mean(a, sense.CPU), Watts: cmp.Or(mean(a, sense.WallPower), mean(a, sense.Power)), Reasons: strings.Join(a.Reasons, "; ")}
		if a.Frames != nil {
			due, dropped := int64(a.Frames.Due), int64(a.Frames.Dropped)
			row.Due, row.Dropped = &due, &dropped
		}
		rows = append(rows, row)
	})
	return rows
}

// mean returns the mean of a quantity in an attempt, nil where it was not read.
func mean(a *logbook.Attempt, quantity string) *float64 {
	if s, known := a.Use[quantity]; known {
		return &s.Mean
	}
	return nil
}

func eachAttempt(d *logbook.Document, each func(load string, n int, r *logbook.Rung, a *logbook.Attempt)) {
	for i := range d.Rungs {
		r := &d.Rungs[i]
		for k := range r.Attempts {
			each(r.Load.String(), k+1, r, &r.Attempts[k])
		}
	}
}

// CSV writes rows, with the names of their columns first.
func CSV[T any](w io.Writer, rows []T) error {
	out := csv.NewWriter(w)
	t := reflect.TypeFor[T]()
	cells := make([]string, t.NumField())
	for i := range cells {
		cells[i], _, _ = strings.Cut(t.Field(i).Tag.Get("parquet"), ",")
	}
	if err := out.Write(cells); err != nil {
		return err
	}
	for i := range rows {
		row := reflect.ValueOf(&rows[i]).Elem()
		for k := range cells {
			f := row.Field(k)
			if f.Kind() == reflect.Pointer {
				if f.IsNil() {
					cells[k] = ""
					continue
				}
				f = f.Elem()
			}
			switch f.Kind() {
			case reflect.Float64:
				cells[k] = strconv.FormatFloat(f.Float(), 'f', -1, 64)
			case reflect.Int64:
				cells[k] = strconv.FormatInt(f.Int(), 10)
			default:
				cells[k] = f.String()
			}
		}
		if err := out.Write(cells); err != nil {
			return err
		}
	}
	out.Flush()
	return out.Error()
}

// Parquet writes rows as a Parquet file.
func Parquet[T any](w io.Writer, rows []T) error {
	out := parquet.NewGenericWriter[T](w, parquet.Compression(&parquet.Zstd))
	_, err := out.Write(rows)
	return errors.Join(err, out.Close())
}

// prefix begins the names of metrics.
const prefix = "vividstrain_"

// OpenMetrics writes readings with their times (OpenMetrics 1.0): a gauge for each quantity.
func OpenMetrics(w io.Writer, rows []Reading) error {
	byQuantity := map[string][]Reading{}
	for _, r := range rows {
		byQuantity[r.Quantity] = append(byQuantity[r.Quantity], r)
	}
	for _, quantity := range slices.Sorted(maps.Keys(byQuantity)) {
		name := prefix + metricName(quantity)
		if _, err := fmt.Fprintf(w, "# TYPE %s gauge\n", name); err != nil {
			return err
		}
		list := byQuantity[quantity]
		slices.SortStableFunc(list, func(a, b Reading) int { // points of one series may not be interleaved
			return strings.Compare(a.Kind+"\x00"+a.Source+"\x00"+a.Label, b.Kind+"\x00"+b.Source+"\x00"+b.Label)
		})
		for _, r := range list {
			labels := fmt.Sprintf("run=%s,kind=%s,source=%s", quoted(r.Run), quoted(r.Kind), quoted(r.Source))
			if r.Label != "" {
				labels += ",label=" + quoted(r.Label)
			}
			if _, err := fmt.Fprintf(w, "%s{%s} %s %d.%03d\n", name, labels, strconv.FormatFloat(r.Value, 'g', -1, 64), r.UnixMS/1000, r.UnixMS%1000); err != nil {
				return err
			}
		}
	}
	_, err := io.WriteString(w, "# EOF\n")
	return err
}

// metricName replaces what a metric's name may not have.
func metricName(s string) string {
	return strings.Map(func(r rune) rune {
		if r == '_' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' {
			return r
		}
		return '_'
	}, s)
}

var escapes = strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`)

func quoted(s string) string { return `"` + escapes.Replace(s) + `"` }
