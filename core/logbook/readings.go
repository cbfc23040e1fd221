package logbook

import (
	"errors"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/tidwall/gjson"

	"vividstrain/core/sense"
)

// Readings returns all readings of a run in order of time.
func (b *Book) Readings(d *Document) ([]Reading, error) { return b.readings(d, "TRUE") }

// readings returns the readings of a run that satisfy a condition, in order of time.
func (b *Book) readings(d *Document, which string, args ...any) (list []Reading, err error) {
	list = []Reading{}
	err = b.eachSample(d.ID, which, args, func(at time.Time, source sense.Identity, phase Phase, values []keyValue) {
		for _, v := range values {
			list = append(list, Reading{AtS: at.Sub(d.Started).Seconds(), Kind: source.Kind, Source: source.Name, Quantity: v.key, Value: v.value, Phase: phase})
		}
	})
	return list, err
}

// eachSample calls each for every sample of a run that satisfies a condition.
func (b *Book) eachSample(run, which string, args []any, each func(at time.Time, source sense.Identity, phase Phase, values []keyValue)) error {
	rows, err := b.db.Query("SELECT at, coalesce(kind, ''), source, readings, coalesce(phase, '') FROM samples WHERE run = ? AND ("+which+") ORDER BY at, rowid",
		append([]any{run}, args...)...)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var at int64
		var source sense.Identity
		var text string
		var phase Phase
		if err := rows.Scan(&at, &source.Kind, &source.Name, &text, &phase); err != nil {
			return err
		}
		values, err := decodeReadings(text)
		if err != nil {
			return err
		}
		each(time.UnixMicro(at), source, phase, values)
	}
	return rows.Err()
}

// ReadBack calls each for every sample from one time up to, not including, another. As in the
// file, the quantity and its label are one key.
func (r *Recorder) ReadBack(from, to time.Time, each func(s *sense.Sample)) error {
	if err := r.flush(); err != nil {
		return r.check(err)
	}
	end := to.Add(time.Microsecond - 1).UnixMicro() // times are stored in whole microseconds
	err := r.book.eachSample(r.doc.ID, "at >= ? AND at < ?", []any{from.UnixMicro(), end}, func(at time.Time, source sense.Identity, _ Phase, values []keyValue) {
		s := sense.Sample{At: at, Source: source}
		for _, v := range values {
			s.Readings = append(s.Readings, sense.Reading{Quantity: v.key, Value: v.value})
		}
		each(&s)
	})
	return r.check(err)
}

// encodeReadings encodes readings as a JSON object from key to value. Values that JSON cannot
// represent are left out.
func encodeReadings(list []sense.Reading) string {
	b := make([]byte, 0, 32*len(list)+2)
	for _, r := range list {
		if math.IsNaN(r.Value) || math.IsInf(r.Value, 0) {
			continue
		}
		separator := byte(',')
		if len(b) == 0 {
			separator = '{'
		}
		b = append(b, separator)
		b = strconv.AppendQuote(b, r.Key())
		b = append(b, ':')
		b = strconv.AppendFloat(b, math.Round(r.Value*1000)/1000, 'f', -1, 64)
	}
	if len(b) == 0 {
		return "{}"
	}
	return string(append(b, '}'))
}

type keyValue struct {
	key   string
	value float64
}

// decodeReadings is the inverse of encodeReadings, in the order of keys.
func decodeReadings(text string) ([]keyValue, error) {
	if !gjson.Valid(text) {
		return nil, errors.New("readings that are no JSON")
	}
	var list []keyValue
	gjson.Parse(text).ForEach(func(key, value gjson.Result) bool {
		list = append(list, keyValue{key.String(), value.Float()})
		return true
	})
	slices.SortFunc(list, func(a, b keyValue) int { return strings.Compare(a.key, b.key) })
	return list, nil
}

// Import adds samples that were taken elsewhere to a run. Each belongs to what the run was doing
// at its time; samples outside the run's time are left out. It returns how many were added.
func (b *Book) Import(d *Document, source sense.Identity, samples []sense.Sample) (added int, err error) {
	tx, err := b.db.Begin()
	if err != nil {
		return 0, b.explain(err)
	}
	defer tx.Rollback() // does nothing after Commit
	insert, err := tx.Prepare(`INSERT INTO samples(run, attempt, at, kind, source, readings, phase)
		SELECT run, attempt, ?, ?, ?, ?, phase FROM samples WHERE run = ? AND at <= ? ORDER BY at DESC, rowid DESC LIMIT 1`)
	if err != nil {
		return 0, b.explain(err)
	}
	for _, s := range samples {
		if s.At.Before(d.Started) || d.Ended != nil && s.At.After(*d.Ended) {
			continue
		}
		at := s.At.UnixMicro()
		result, err := insert.Exec(at, source.Kind, source.Name, encodeReadings(s.Readings), d.ID, at)
		if err != nil {
			return 0, b.explain(err)
		}
		n, err := result.RowsAffected()
		if err != nil {
			return 0, b.explain(err)
		}
		added += int(n)
	}
	return added, tx.Commit()
}
