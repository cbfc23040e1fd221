package logbook

import (
	"cmp"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"vividstrain/core/search"
	"vividstrain/core/sense"
)

// flushEvery is how long samples are collected before they are written.
const flushEvery = 500 * time.Millisecond

// Recorder writes one run as it happens. Attempts are on disk when the call returns, samples
// within flushEvery. It is safe for several goroutines.
type Recorder struct {
	book    *Book
	doc     *Document
	mu      sync.Mutex
	pending []row
	attempt sql.NullInt64 // the attempt under way
	phase   Phase
	err     error // the first failure of a background write
	stop    chan struct{}
	stopped sync.WaitGroup
}

// row is one sample to be written.
type row struct {
	attempt  sql.NullInt64
	at       int64
	source   sense.Identity
	readings string
	phase    Phase
}

// ErrBusy means that another run is being written to the logbook.
var ErrBusy = errors.New("another run is being measured with this logbook; two at once would disturb each other")

// Abandoned returns the result of an attempt in which a run was stopped, from its readings.
type Abandoned func(rung int, purpose search.Purpose, started time.Time, readings []Reading) Attempt

// Record starts to write a run. Only one run at a time is written to a logbook. If the run is
// already there it is resumed: attempts that never ended get the result that abandoned returns
// for them.
func (b *Book) Record(d *Document, abandoned Abandoned) (*Recorder, error) {
	free, err := b.lock.TryLock()
	if err != nil {
		return nil, fmt.Errorf("logbook %s: it cannot be locked: %w", b.path, err)
	}
	if !free {
		return nil, fmt.Errorf("logbook %s: %w", b.path, ErrBusy)
	}
	r := &Recorder{book: b, doc: d, stop: make(chan struct{}), phase: Idle}
	if err := r.begin(abandoned); err != nil {
		return nil, errors.Join(b.explain(err), b.lock.Unlock())
	}
	b.writes.Store(true)
	r.stopped.Go(r.flushOften)
	return r, nil
}

func (r *Recorder) begin(abandoned Abandoned) error {
	head, short, err := r.doc.texts()
	if err != nil {
		return err
	}
	_, err = r.book.db.Exec(`INSERT INTO runs(id, started, document, summary) VALUES(?, ?, ?, ?)
		ON CONFLICT(id) DO UPDATE SET document = excluded.document, summary = excluded.summary`,
		r.doc.ID, r.doc.Started.UTC().Format(time.RFC3339Nano), head, short)
	if err != nil {
		return err
	}
	rows, err := r.book.db.Query("SELECT id, rung, purpose, started FROM attempts WHERE run = ? AND result IS NULL ORDER BY id", r.doc.ID)
	if err != nil {
		return err
	}
	defer rows.Close()
	type open struct {
		id, rung int
		purpose  search.Purpose
		started  time.Time
	}
	var left []open
	for rows.Next() {
		var o open
		var started string
		if err := rows.Scan(&o.id, &o.rung, &o.purpose, &started); err != nil {
			return err
		}
		if o.started, err = time.Parse(time.RFC3339Nano, started); err != nil {
			return err
		}
		left = append(left, o)
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return err
	}
	for _, o := range left {
		if o.rung < 0 || o.rung >= len(r.doc.Rungs) {
			return fmt.Errorf("an attempt at rung %d, which the plan lacks", o.rung)
		}
		readings, err := r.book.readings(r.doc, fmt.Sprintf("attempt = %d", o.id))
		if err != nil {
			return err
		}
		a := abandoned(o.rung, o.purpose, o.started, readings)
		if err := r.finish(int64(o.id), a); err != nil {
			return err
		}
		r.doc.Rungs[o.rung].Attempts = append(r.doc.Rungs[o.rung].Attempts, a)
	}
	return nil
}

// texts returns what is kept of a document in its own row, and its summary.
func (d *Document) texts() (head, short string, err error) {
	if head, err = d.head(); err == nil {
		short, err = summaryOf(d)
	}
	return head, short, err
}

// head returns the document as JSON without the parts that have rows of their own.
func (d *Document) head() (string, error) {
	h := *d
	h.Remarks, h.Baseline.Readings, h.Readings = nil, nil, nil
	h.Rungs = slices.Clone(h.Rungs)
	for i := range h.Rungs {
		h.Rungs[i].Attempts = nil
	}
	if h.After != nil {
		after := *h.After
		after.Readings = nil
		h.After = &after
	}
	text, err := json.Marshal(h)
	return string(text), err
}

// Update writes the document in its current state.
func (r *Recorder) Update() error {
	head, short, err := r.doc.texts()
	if err != nil {
		return err
	}
	_, err = r.book.db.Exec("UPDATE runs SET document = ?, summary = ? WHERE id = ?", head, short, r.doc.ID)
	return r.check(err)
}

// StartAttempt records that an attempt begins; the samples that follow belong to it.
func (r *Recorder) StartAttempt(rung int, purpose search.Purpose, started time.Time) error {
	result, err := r.book.db.Exec("INSERT INTO attempts(run, rung, purpose, started) VALUES(?, ?, ?, ?)",
		r.doc.ID, rung, string(purpose), started.UTC().Format(time.RFC3339Nano))
	if err := r.check(err); err != nil {
		return err
	}
	id, err := result.LastInsertId()
	r.mu.Lock()
	r.attempt, r.phase = sql.NullInt64{Int64: id, Valid: true}, Trying
	r.mu.Unlock()
	return r.check(err)
}

// EndAttempt writes the result of the attempt that was started last. Samples that follow are of
// the resting device.
func (r *Recorder) EndAttempt(a Attempt) error {
	r.mu.Lock()
	id := r.attempt.Int64
	r.attempt, r.phase = sql.NullInt64{}, Resting
	r.mu.Unlock()
	return r.check(errors.Join(r.flush(), r.finish(id, a)))
}

// VoidAttempt writes an attempt that never started to play.
func (r *Recorder) VoidAttempt(rung int, a Attempt) error {
	if err := r.StartAttempt(rung, a.Purpose, a.Started); err != nil {
		return err
	}
	return r.EndAttempt(a)
}

func (r *Recorder) finish(id int64, a Attempt) error {
	text, err := json.Marshal(a)
	if err != nil {
		return err
	}
	_, err = r.book.db.Exec("UPDATE attempts SET result = ? WHERE id = ?", string(text), id)
	return err
}

// Enter sets the phase from now on, outside attempts.
func (r *Recorder) Enter(p Phase) {
	r.mu.Lock()
	r.phase = p
	r.mu.Unlock()
}

// BeginBaseline starts the reading of the idle device. Idle readings of an interrupted run are
// discarded.
func (r *Recorder) BeginBaseline() error {
	_, err := r.book.db.Exec("UPDATE samples SET phase = ? WHERE run = ? AND (phase = ? OR phase IS NULL AND attempt IS NULL)", Resting, r.doc.ID, Idle)
	r.Enter(Idle)
	return r.check(err)
}

// Sample adds one sample.
func (r *Recorder) Sample(s sense.Sample) {
	text := encodeReadings(s.Readings)
	r.mu.Lock()
	r.pending = append(r.pending, row{r.attempt, s.At.UnixMicro(), s.Source, text, r.phase})
	r.mu.Unlock()
}

func (r *Recorder) flushOften() {
	ticker := time.NewTicker(flushEvery)
	defer ticker.Stop()
	for {
		select {
		case <-ticker.C:
			if err := r.flush(); err != nil {
				r.mu.Lock()
				r.err = errors.Join(r.err, err)
				r.mu.Unlock()
			}
		case <-r.stop:
			return
		}
	}
}

// flush writes all pending samples in one transaction.
func (r *Recorder) flush() error {
	r.mu.Lock()
	rows := r.pending
	r.pending = nil
	r.mu.Unlock()
	if len(rows) == 0 {
		return nil
	}
	tx, err := r.book.db.Begin()
	if err != nil {
		return err
	}
	defer tx.Rollback() // does nothing after Commit
	insert, err := tx.Prepare("INSERT INTO samples(run, attempt, at, kind, source, readings, phase) VALUES(?, ?, ?, ?, ?, ?, ?)")
	if err != nil {
		return err
	}
	for _, row := range rows {
		if _, err := insert.Exec(r.doc.ID, row.attempt, row.at, row.source.Kind, row.source.Name, row.readings, string(row.phase)); err != nil {
			return err
		}
	}
	return tx.Commit()
}

// check adds a failure of a background write, and explains the error.
func (r *Recorder) check(err error) error {
	r.mu.Lock()
	err = errors.Join(r.err, err)
	r.mu.Unlock()
	if err != nil {
		return r.book.explain(err)
	}
	return nil
}

// Close writes everything and unlocks the logbook for the next run.
func (r *Recorder) Close() error {
	close(r.stop)
	r.stopped.Wait()
	defer r.book.writes.Store(false)
	// A full disk makes all of them fail: the first error tells it.
	return cmp.Or(r.check(r.flush()), r.Update(), r.book.lock.Unlock())
}
