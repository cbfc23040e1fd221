package logbook

import (
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"vividstrain/core/load"
	"vividstrain/core/verdict"
)

// summary is what lists show of a run. It is kept beside the document, so that a list of thousands
// of runs is quick.
type summary struct {
	ID         string          `json:"id"`
	Name       string          `json:"name,omitempty"`
	Tags       []string        `json:"tags,omitempty"`
	Sets       []string        `json:"sets,omitempty"`
	Kind       string          `json:"kind"`
	Complete   bool            `json:"complete,omitempty"`
	Started    time.Time       `json:"started"`
	Device     string          `json:"device"`
	Route      string          `json:"route"`
	Ladder     string          `json:"ladder,omitempty"`
	Mix        []load.Load     `json:"mix,omitempty"`
	Tried      bool            `json:"tried,omitempty"` // there is a ceiling, if only that nothing was smooth
	Ceiling    *load.Load      `json:"ceiling,omitempty"`
	File       string          `json:"file,omitempty"` // of the ceiling
	Next       bool            `json:"next,omitempty"` // a rung above it was tried
	Limiter    verdict.Limiter `json:"limiter,omitempty"`
	Crowd      *Crowd          `json:"crowd,omitempty"`
	Conversion *Conversion     `json:"conversion,omitempty"`
}

// summaryOf returns the summary of a document as JSON.
func summaryOf(d *Document) (string, error) {
	s := summary{ID: d.ID, Name: d.Name, Tags: d.Tags, Sets: d.Sets, Kind: d.Kind, Complete: d.Complete, Started: d.Started, Device: d.Device.Name,
		Route: d.Route.Kind, Ladder: d.Ladder, Crowd: d.Crowd, Conversion: d.Conversion}
	if d.Plan.Crowd != nil {
		s.Mix = d.Plan.Crowd.Mix
	}
	if c := d.Ceiling; c != nil {
		s.Tried, s.Ceiling, s.Next, s.Limiter = true, c.Load, c.Next != nil, c.Limiter
		if c.Load != nil {
			s.File = c.Load.File
		}
	}
	text, err := json.Marshal(s)
	return string(text), err
}

// document returns a document with what the summary has.
func (s *summary) document() Document {
	d := Document{Schema: Schema, ID: s.ID, Name: s.Name, Tags: s.Tags, Sets: s.Sets, Kind: s.Kind, Complete: s.Complete, Started: s.Started,
		Device: Device{Name: s.Device}, Route: Route{Kind: s.Route}, Ladder: s.Ladder, Crowd: s.Crowd, Conversion: s.Conversion}
	if s.Mix != nil {
		d.Plan.Crowd = &CrowdPlan{Mix: s.Mix}
	}
	if s.Tried {
		d.Ceiling = &Ceiling{Load: s.Ceiling, Limiter: s.Limiter}
		if s.Ceiling != nil {
			s.Ceiling.File = s.File
		}
		if s.Next {
			d.Ceiling.Next = &Next{}
		}
	}
	return d
}

// Filter chooses runs of a list; what is empty does not matter.
type Filter struct {
	Device string // a part of its name, in any case
	Route  string
	Kind   string
	Tag    string
	Set    string
	Since  time.Time
}

// Fits reports whether a run is chosen.
func (f Filter) Fits(d *Document) bool {
	return (f.Device == "" || strings.Contains(strings.ToLower(d.Device.Name), strings.ToLower(f.Device))) &&
		(f.Route == "" || f.Route == d.Route.Kind) && (f.Kind == "" || f.Kind == d.Kind) &&
		(f.Tag == "" || slices.Contains(d.Tags, f.Tag)) && (f.Set == "" || slices.Contains(d.Sets, f.Set)) &&
		!d.Started.Before(f.Since)
}

// Entry is one line of the list of runs.
type Entry struct {
	Document     // as far as lists show it
	Attempts int // set by Heads
}

// Runs returns the runs that a filter chooses, those that were begun last first. Their own times do
// not tell: the clock of a simulated device may be ahead.
func (b *Book) Runs(f Filter) ([]Entry, error) {
	if err := b.summarise(); err != nil {
		return nil, b.explain(err)
	}
	rows, err := b.db.Query("SELECT summary FROM runs ORDER BY rowid DESC")
	if err != nil {
		return nil, b.explain(err)
	}
	defer rows.Close()
	entries := []Entry{}
	for rows.Next() {
		var text sql.RawBytes
		var s summary
		if err := rows.Scan(&text); err != nil {
			return nil, b.explain(err)
		}
		if err := json.Unmarshal(text, &s); err != nil {
			return nil, b.explain(err)
		}
		if e := (Entry{Document: s.document()}); f.Fits(&e.Document) {
			entries = append(entries, e)
		}
	}
	return entries, rows.Err()
}

// Heads returns the same runs with their documents, but without attempts and readings, and with how
// many attempts there are.
func (b *Book) Heads(f Filter) ([]Entry, error) {
	entries, err := b.Runs(f)
	for i := range entries {
		var text string
		if err := b.db.QueryRow("SELECT document, (SELECT count(*) FROM attempts WHERE run = runs.id) FROM runs WHERE id = ?", entries[i].ID).Scan(&text, &entries[i].Attempts); err != nil {
			return nil, b.explain(err)
		}
		if err := json.Unmarshal([]byte(text), &entries[i].Document); err != nil {
			return nil, b.explain(err)
		}
	}
	return entries, err
}

// summarise writes the summaries of runs that have none: of earlier versions.
func (b *Book) summarise() error {
	rows, err := b.db.Query("SELECT id, document FROM runs WHERE summary IS NULL")
	if err != nil {
		return err
	}
	texts := map[string]string{}
	for rows.Next() {
		var id, text string
		var d Document
		if err := errors.Join(rows.Scan(&id, &text), json.Unmarshal([]byte(text), &d)); err != nil {
			return errors.Join(err, rows.Close())
		}
		if texts[id], err = summaryOf(&d); err != nil {
			return errors.Join(err, rows.Close())
		}
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil || len(texts) == 0 {
		return err
	}
	tx, err := b.db.Begin()
	if err != nil {
		return err
	}
	defer tx.Rollback() // does nothing after Commit
	for id, text := range texts {
		if _, err := tx.Exec("UPDATE runs SET summary = ? WHERE id = ? AND summary IS NULL", text, id); err != nil {
			return err
		}
	}
	return tx.Commit()
}

// Change changes the head of a run's document: its name, tags and sets.
func (b *Book) Change(id string, change func(d *Document)) error {
	if b.Recording() {
		if newest, err := b.Find(""); err != nil || newest == id {
			return fmt.Errorf("run %s is being measured: %w", id, ErrBusy)
		}
	}
	var text string
	d := &Document{}
	if err := b.db.QueryRow("SELECT document FROM runs WHERE id = ?", id).Scan(&text); err != nil {
		return b.explain(err)
	}
	if err := json.Unmarshal([]byte(text), d); err != nil {
		return b.explain(err)
	}
	change(d)
	return b.writeHead(b.db, d)
}

// execer is a database, or a transaction in it.
type execer interface {
	Exec(query string, args ...any) (sql.Result, error)
}

// writeHead writes the head of a document, and its summary.
func (b *Book) writeHead(db execer, d *Document) error {
	head, short, err := d.texts()
	if err != nil {
		return err
	}
	if _, err := db.Exec("UPDATE runs SET document = ?, summary = ? WHERE id = ?", head, short, d.ID); err != nil {
		return b.explain(err)
	}
	return nil
}

// atOnce carries out changes wholly or not at all, unless a run is being recorded. Errors of change are
// explained already.
func (b *Book) atOnce(change func(tx *sql.Tx) error) error {
	if b.Recording() {
		return ErrBusy
	}
	tx, err := b.db.Begin()
	if err != nil {
		return b.explain(err)
	}
	defer tx.Rollback() // does nothing after Commit
	if err := change(tx); err != nil {
		return err
	}
	if err := tx.Commit(); err != nil {
		return b.explain(err)
	}
	return nil
}

// Rewrite writes a run whose attempts were judged anew. It has the attempts that it had.
func (b *Book) Rewrite(d *Document) error {
	return b.atOnce(func(tx *sql.Tx) error {
		texts, err := b.judged(tx, d)
		if err != nil {
			return err
		}
		for id, text := range texts {
			if _, err := tx.Exec("UPDATE attempts SET result = ? WHERE id = ?", text, id); err != nil {
				return b.explain(err)
			}
		}
		return b.writeHead(tx, d)
	})
}

// judged returns the attempts of a document as they are stored, by the ids that they have.
func (b *Book) judged(tx *sql.Tx, d *Document) (map[int64]string, error) {
	rows, err := tx.Query("SELECT id, rung FROM attempts WHERE run = ? AND result IS NOT NULL ORDER BY id", d.ID)
	if err != nil {
		return nil, b.explain(err)
	}
	defer rows.Close()
	texts, next := map[int64]string{}, map[int]int{}
	for rows.Next() {
		var id int64
		var rung int
		if err := rows.Scan(&id, &rung); err != nil {
			return nil, b.explain(err)
		}
		if rung < 0 || rung >= len(d.Rungs) || next[rung] >= len(d.Rungs[rung].Attempts) {
			return nil, fmt.Errorf("run %s has an attempt at rung %d, which its document lacks", d.ID, rung)
		}
		text, err := json.Marshal(d.Rungs[rung].Attempts[next[rung]])
		if err != nil {
			return nil, err
		}
		texts[id] = string(text)
		next[rung]++
	}
	if err := rows.Err(); err != nil {
		return nil, b.explain(err)
	}
	return texts, nil
}

// Delete deletes a run with all that belongs to it.
func (b *Book) Delete(id string) error {
	return b.atOnce(func(tx *sql.Tx) error {
		for _, statement := range []string{"DELETE FROM samples WHERE run = ?", "DELETE FROM attempts WHERE run = ?", "DELETE FROM remarks WHERE run = ?", "DELETE FROM runs WHERE id = ?"} {
			if _, err := tx.Exec(statement, id); err != nil {
				return b.explain(err)
			}
		}
		return nil
	})
}

// ErrThere means that a run is in the logbook already.
var ErrThere = errors.New("this run is in the logbook already")

// Add puts a run that was made elsewhere into the logbook, with its attempts, remarks and the
// readings in its document.
func (b *Book) Add(d *Document) error {
	if b.Recording() {
		return ErrBusy
	}
	head, short, err := d.texts()
	if err != nil {
		return err
	}
	tx, err := b.db.Begin()
	if err != nil {
		return b.explain(err)
	}
	defer tx.Rollback() // does nothing after Commit
	var there int
	if err := tx.QueryRow("SELECT count(*) FROM runs WHERE id = ?", d.ID).Scan(&there); err != nil {
		return b.explain(err)
	}
	if there > 0 {
		return fmt.Errorf("%s: %w", d.ID, ErrThere)
	}
	if _, err := tx.Exec("INSERT INTO runs(id, started, document, summary) VALUES(?, ?, ?, ?)", d.ID, d.Started.UTC().Format(time.RFC3339Nano), head, short); err != nil {
		return b.explain(err)
	}
	attempts, err := addAttempts(tx, d)
	if err != nil {
		return b.explain(err)
	}
	for _, r := range d.Remarks {
		text, err := json.Marshal(r)
		if err != nil {
			return err
		}
		if _, err := tx.Exec("INSERT INTO remarks(run, remark) VALUES(?, ?)", d.ID, string(text)); err != nil {
			return b.explain(err)
		}
	}
	if err := addReadings(tx, d, attempts); err != nil {
		return b.explain(err)
	}
	return tx.Commit()
}

// addedAttempt is an attempt with its number in the tables.
type addedAttempt struct {
	id       int64
	from, to time.Time
}

func addAttempts(tx *sql.Tx, d *Document) (list []addedAttempt, err error) {
	for i := range d.Rungs {
		for _, a := range d.Rungs[i].Attempts {
			text, err := json.Marshal(a)
			if err != nil {
				return nil, err
			}
			result, err := tx.Exec("INSERT INTO attempts(run, rung, purpose, started, result) VALUES(?, ?, ?, ?, ?)", d.ID, i, string(a.Purpose), a.Started.UTC().Format(time.RFC3339Nano), string(text))
			if err != nil {
				return nil, err
			}
			id, err := result.LastInsertId()
			if err != nil {
				return nil, err
			}
			list = append(list, addedAttempt{id, a.Started, a.Ended})
		}
	}
	return list, nil
}

// addReadings writes the readings of a document: those of one source at one time are a sample.
func addReadings(tx *sql.Tx, d *Document, attempts []addedAttempt) error {
	insert, err := tx.Prepare("INSERT INTO samples(run, attempt, at, kind, source, readings, phase) VALUES(?, ?, ?, ?, ?, ?, ?)")
	if err != nil {
		return err
	}
	readings := d.everyReading()
	for from := 0; from < len(readings); {
		first, to := readings[from], from
		values := map[string]float64{}
		for to < len(readings) && readings[to].AtS == first.AtS && readings[to].Kind == first.Kind && readings[to].Source == first.Source {
			values[readings[to].Quantity] = readings[to].Value
			to++
		}
		from = to
		text, err := json.Marshal(values)
		if err != nil {
			return err
		}
		at := d.Started.Add(time.Duration(first.AtS * 1e9)).Round(time.Microsecond) // times are stored in whole microseconds
		var attempt, phase any
		if first.Phase != "" {
			phase = string(first.Phase)
		}
		for _, a := range attempts {
			if !at.Before(a.from) && !at.After(a.to) && first.Phase == Trying {
				attempt = a.id
			}
		}
		if _, err := insert.Exec(d.ID, attempt, at.UnixMicro(), first.Kind, first.Source, string(text), phase); err != nil {
			return err
		}
	}
	return nil
}

// everyReading returns the readings that a document holds, in order of time: all of them, or those
// of the idle device where it has no others.
func (d *Document) everyReading() []Reading {
	list := d.Readings
	if len(list) == 0 {
		list = slices.Clone(d.Baseline.Readings)
		if d.After != nil {
			list = append(list, d.After.Readings...)
		}
	}
	return list
}

// Named returns the ids of the runs of a set, oldest first.
func (b *Book) Named(set string) (ids []string, err error) {
	entries, err := b.Runs(Filter{Set: set})
	if err != nil || set == "" {
		return nil, err
	}
	for _, e := range slices.Backward(entries) {
		ids = append(ids, e.ID)
	}
	return ids, nil
}
