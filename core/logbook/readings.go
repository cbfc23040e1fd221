package logbook

import (
	"bytes"
	"database/sql"
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
	// About as many as there are: hours of readings are too much to copy again and again.
	const bytesEach = 20
	var size int
	if err := b.db.QueryRow("SELECT coalesce(sum(length(readings)), 0) FROM samples WHERE run = ? AND ("+which+")", append([]any{d.ID}, args...)...).Scan(&size); err != nil {
		return nil, err
	}
	list = make([]Reading, 0, size/bytesEach)
	err = b.eachSample(d.ID, which, args, func(at time.Time, source sense.Identity, phase Phase, values []keyValue) {
		s := at.Sub(d.Started).Seconds()
		for _, v := range values {
			list = append(list, Reading{AtS: s, Kind: source.Kind, Source: source.Name, Quantity: v.key, Value: v.value, Phase: phase})
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
	decoder := readingsDecoder{known: map[string]string{}}
	for rows.Next() {
		var at int64
		var text, kind, name, phase sql.RawBytes // used before the next row only
		if err := rows.Scan(&at, &kind, &name, &text, &phase); err != nil {
			return err
		}
		values, err := decoder.decode(text)
		if err != nil {
			return err
		}
		each(time.UnixMicro(at), sense.Identity{Kind: decoder.intern(kind), Name: decoder.intern(name)}, Phase(decoder.intern(phase)), values)
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

// readingsDecoder is the inverse of encodeReadings, for many samples: the same few names come again
// and again.
type readingsDecoder struct {
	known  map[string]string
	values []keyValue
}

// intern returns a text that is kept once.
func (d *readingsDecoder) intern(text []byte) string {
	if s, known := d.known[string(text)]; known {
		return s
	}
	s := string(text)
	d.known[s] = s
	return s
}

// decode returns the values of a sample in the order of their keys, valid until the next call.
func (d *readingsDecoder) decode(text []byte) ([]keyValue, error) {
	d.values = d.values[:0]
	if !d.plain(text) { // written by another version, or changed by hand
		if !gjson.ValidBytes(text) {
			return nil, errors.New("readings that are no JSON")
		}
		d.values = d.values[:0]
		gjson.ParseBytes(text).ForEach(func(key, value gjson.Result) bool {
			d.values = append(d.values, keyValue{d.intern([]byte(key.String())), value.Float()})
			return true
		})
	}
	slices.SortFunc(d.values, func(a, b keyValue) int { return strings.Compare(a.key, b.key) })
	return d.values, nil
}

// plain decodes text as encodeReadings writes it, without escapes, spaces or exponents; false if it is
// not like that.
func (d *readingsDecoder) plain(text []byte) bool {
	if len(text) < 2 || text[0] != '{' || text[len(text)-1] != '}' {
		return false
	}
	rest := text[1 : len(text)-1]
	for len(rest) > 0 {
		end := bytes.IndexByte(rest[1:], '"') + 1
		if rest[0] != '"' || end < 1 || bytes.IndexByte(rest[:end], '\\') >= 0 || end+1 >= len(rest) || rest[end+1] != ':' {
			return false
		}
		key, number := rest[1:end], rest[end+2:]
		rest = nil
		if comma := bytes.IndexByte(number, ','); comma >= 0 {
			if number, rest = number[:comma], number[comma+1:]; len(rest) == 0 {
				return false
			}
		}
		v, ok := plainNumber(number)
		if !ok {
			return false
		}
		d.values = append(d.values, keyValue{d.intern(key), v})
	}
	return true
}

// plainNumber parses a number of at most 15 digits without an exponent. The division of two exact
// numbers gives the nearest one.
func plainNumber(text []byte) (v float64, ok bool) {
	digits, decimals, point := int64(0), 1.0, false
	t := bytes.TrimPrefix(text, []byte("-"))
	if len(t) == 0 || len(t) > 16 || t[0] == '.' || t[len(t)-1] == '.' || t[0] == '0' && len(t) > 1 && t[1] != '.' {
		return 0, false
	}
	for _, c := range t {
		switch {
		case c >= '0' && c <= '9':
			digits = 10*digits + int64(c-'0')
			if point {
				decimals *= 10
			}
		case c == '.' && !point:
			point = true
		default:
			return 0, false
		}
	}
	if len(t) == 16 && !point {
		return 0, false
	}
	if v = float64(digits) / decimals; len(t) < len(text) {
		v = -v
	}
	return v, true
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
