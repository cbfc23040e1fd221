package logbook

import (
	"crypto/rand"
	"database/sql"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"github.com/gofrs/flock"
	_ "modernc.org/sqlite" // the driver "sqlite"

	"vividstrain/core/load"
	"vividstrain/core/search"
	"vividstrain/core/verdict"
)

// Book is an open logbook. It is safe for several goroutines.
type Book struct {
	path   string
	db     *sql.DB
	lock   *flock.Flock
	writes atomic.Bool // a run is recorded by this book, which has the lock
}

// ErrNoRun means that the logbook has no such run.
var ErrNoRun = errors.New("there is no such run in the logbook")

// ErrNoBook means that there is no logbook.
var ErrNoBook = errors.New("there is no such logbook")

// OpenExisting opens the logbook at path. If there is none, the error is ErrNoBook, and none is
// created.
func OpenExisting(path string) (*Book, error) {
	if _, err := os.Stat(path); errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf("logbook %s: %w", path, ErrNoBook)
	}
	return Open(path)
}

// Open opens the logbook at path and creates it if there is none.
func Open(path string) (*Book, error) {
	if err := os.MkdirAll(filepath.Dir(path), 0o777); err != nil {
		return nil, fmt.Errorf("logbook %s: %w", path, err)
	}
	if info, err := os.Stat(path); err == nil && !info.Mode().IsRegular() {
		return nil, fmt.Errorf("logbook %s: it is not a file", path)
	}
	db, err := sql.Open("sqlite", "file:"+escape(path)+"?_pragma=busy_timeout(2000)&_pragma=synchronous(full)&_pragma=foreign_keys(1)&_txlock=immediate")
	if err != nil {
		return nil, fmt.Errorf("logbook %s: %w", path, err)
	}
	db.SetMaxOpenConns(1) // one writer; and a query must end before the next begins
	b := &Book{path: path, db: db, lock: flock.New(path + ".lock")}
	if err := b.prepare(); err != nil {
		db.Close()
		return nil, b.explain(err)
	}
	return b, nil
}

// escape returns a path as it must be written in a file: URI.
func escape(path string) string {
	return strings.NewReplacer("%", "%25", "?", "%3f", "#", "%23").Replace(filepath.ToSlash(path))
}

// prepare checks that the file is a logbook; an empty file becomes one.
func (b *Book) prepare() error {
	var id int
	if err := b.db.QueryRow("PRAGMA application_id").Scan(&id); err != nil {
		return err
	}
	if id == application {
		return b.step()
	}
	if err := b.make(); err != nil {
		return err
	}
	_, err := b.db.Exec("PRAGMA journal_mode = WAL")
	return err
}

// Recording reports whether a run is being written to the logbook now.
func (b *Book) Recording() bool {
	if b.writes.Load() {
		return true
	}
	free, err := b.lock.TryLock()
	if free {
		err = b.lock.Unlock()
	}
	return !free && err == nil
}

var (
	errNotABook = errors.New("this file is not a logbook; name another one with --logbook")
	errNewer    = errors.New("a newer version of the program wrote it; use that one, or name another logbook with --logbook")
	errDamaged  = errors.New("it is damaged; put a copy of it back, or name another one with --logbook")
)

// explain describes in one line what is wrong with the file.
func (b *Book) explain(err error) error {
	text := err.Error()
	switch {
	case errors.Is(err, errNotABook), errors.Is(err, errNewer), errors.Is(err, ErrNoRun):
	case strings.Contains(text, "malformed"), b.beginsLikeOne():
		err = errDamaged
	case strings.Contains(text, "not a database"):
		err = errNotABook
	case strings.Contains(text, "SQLITE_FULL"), strings.Contains(text, "disk is full"):
		err = errors.New("the disk is full; make room, or name another one with --logbook")
	case strings.Contains(text, "disk I/O error"):
		err = errors.New("the disk cannot be read or written, or is full; make room, or name another one with --logbook")
	case strings.Contains(text, "SQLITE_BUSY"), strings.Contains(text, "locked"):
		err = errors.New("another program keeps it locked; try again, or name another one with --logbook")
	case strings.Contains(text, "SQLITE_CANTOPEN"), strings.Contains(text, "unable to open"):
		err = errors.New("it cannot be opened or made; look at the folder's permissions, or name another one with --logbook")
	case strings.Contains(text, "readonly"):
		err = errors.New("it cannot be written; look at its permissions, or name another one with --logbook")
	}
	return fmt.Errorf("logbook %s: %w", b.path, err)
}

// beginsLikeOne reports whether a file that cannot be read as a database has the header of a
// logbook (the application id is at byte 68 of SQLite's file header).
func (b *Book) beginsLikeOne() bool {
	f, err := os.Open(b.path)
	if err != nil {
		return false
	}
	defer f.Close()
	var head [72]byte
	if _, err := f.ReadAt(head[:], 0); err != nil {
		return false
	}
	return binary.BigEndian.Uint32(head[68:]) == application && string(head[:15]) != "SQLite format 3"
}

// Close closes the logbook.
func (b *Book) Close() error { return errors.Join(b.db.Close(), b.lock.Close()) }

// Find returns the run whose id begins or ends with id, or that has this name; "" means the one that
// was begun last.
func (b *Book) Find(id string) (string, error) {
	rows, err := b.db.Query(`SELECT id FROM runs WHERE substr(id, 1, ?1) = ?2 OR substr(id, -?1) = ?2 ORDER BY rowid DESC LIMIT 2`, len(id), id)
	if err != nil {
		return "", b.explain(err)
	}
	defer rows.Close()
	var found []string
	for rows.Next() {
		var s string
		if err := rows.Scan(&s); err != nil {
			return "", b.explain(err)
		}
		found = append(found, s)
	}
	if err := rows.Err(); err != nil {
		return "", b.explain(err)
	}
	if len(found) == 0 && id != "" {
		entries, err := b.Runs(Filter{})
		if err != nil {
			return "", err
		}
		for _, e := range entries {
			if e.Name == id {
				found = append(found, e.ID)
			}
		}
	}
	switch {
	case len(found) == 0 && id == "":
		return "", fmt.Errorf("logbook %s: it holds no runs yet", b.path)
	case len(found) == 0:
		return "", fmt.Errorf("%w: %q; vividstrain runs lists them", ErrNoRun, id)
	case len(found) > 1 && id != "" && found[0] != id:
		return "", fmt.Errorf("several runs are called, begin or end with %q; give more of the id", id)
	}
	return found[0], rows.Err()
}

// Repeated returns the documents of several runs of the same whose common name begins or ends
// with id, oldest first; none if there are no such runs.
func (b *Book) Repeated(id string) (docs []*Document, err error) {
	if id == "" {
		return nil, nil
	}
	rows, err := b.db.Query(`SELECT id FROM runs WHERE json_extract(document, '$.repeat.of') IS NOT NULL
		AND (substr(json_extract(document, '$.repeat.of'), 1, ?1) = ?2 OR substr(json_extract(document, '$.repeat.of'), -?1) = ?2) ORDER BY started, rowid`, len(id), id)
	if err != nil {
		return nil, b.explain(err)
	}
	var ids []string
	for rows.Next() {
		var one string
		if err := rows.Scan(&one); err != nil {
			return nil, errors.Join(b.explain(err), rows.Close())
		}
		ids = append(ids, one)
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return nil, b.explain(err)
	}
	for _, one := range ids {
		d, err := b.Load(one)
		if err != nil {
			return nil, err
		}
		if len(docs) > 0 && docs[0].Repeat.Of != d.Repeat.Of {
			return nil, nil // several groups: the caller says that the name is not enough
		}
		docs = append(docs, d)
	}
	return docs, nil
}

// Load reads the whole document of a run. Attempts that never ended are left out; Unfinished
// names their rungs.
func (b *Book) Load(id string) (*Document, error) {
	var text string
	err := b.db.QueryRow("SELECT document FROM runs WHERE id = ?", id).Scan(&text)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, fmt.Errorf("%w: %q", ErrNoRun, id)
	} else if err != nil {
		return nil, b.explain(err)
	}
	d := &Document{}
	if err := json.Unmarshal([]byte(text), d); err != nil {
		return nil, b.explain(err)
	}
	d.fillRungs()
	if err := b.loadAttempts(d); err != nil {
		return nil, b.explain(err)
	}
	if d.Remarks, err = b.Remarks(d); err != nil {
		return nil, b.explain(err)
	}
	if d.Baseline.Readings, err = b.readings(d, "phase = 'idle' OR phase IS NULL AND attempt IS NULL"); err != nil {
		return nil, b.explain(err)
	}
	d.divideIdle()
	if d.After != nil && d.After.Readings == nil {
		if d.After.Readings, err = b.readings(d, "phase = 'after'"); err != nil {
			return nil, b.explain(err)
		}
	}
	return d, nil
}

// divideIdle assigns the readings of a version without phases to before and after the rungs.
func (d *Document) divideIdle() {
	if d.After == nil {
		return
	}
	readings := d.Baseline.Readings
	i := slices.IndexFunc(readings, func(r Reading) bool { return r.Phase == "" && r.AtS >= d.After.FromS })
	if i >= 0 {
		d.Baseline.Readings, d.After.Readings = readings[:i:i], readings[i:]
	}
}

// maxRemarks is the largest number of remarks on a run.
const maxRemarks = 10000

// Remark adds a remark to a run, which may be going on.
func (b *Book) Remark(run string, r Remark) error {
	text, err := json.Marshal(r)
	if err != nil {
		return err
	}
	_, err = b.db.Exec("INSERT INTO remarks(run, remark) VALUES(?, ?)", run, string(text))
	if err != nil {
		return b.explain(err)
	}
	return nil
}

// Remarks reads the remarks on a run, in the order of their time.
func (b *Book) Remarks(d *Document) ([]Remark, error) {
	rows, err := b.db.Query("SELECT remark FROM remarks WHERE run = ? LIMIT ?", d.ID, maxRemarks)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []Remark
	for rows.Next() {
		var text string
		var r Remark
		if err := errors.Join(rows.Scan(&text), json.Unmarshal([]byte(text), &r)); err != nil {
			return nil, err
		}
		r.AtS = r.At.Sub(d.Started).Seconds()
		r.Load = d.playedAt(r.At)
		list = append(list, r)
	}
	slices.SortStableFunc(list, func(a, b Remark) int { return a.At.Compare(b.At) })
	return list, rows.Err()
}

// playedAt returns the load that was played at a time, or last before it: "" before the first
// attempt and after the end of the run.
func (d *Document) playedAt(at time.Time) (played string) {
	var latest Attempt
	for _, r := range d.Rungs {
		for _, a := range r.Attempts {
			if !a.Started.After(at) && !a.Started.Before(latest.Started) {
				latest, played = a, r.Load.String()
			}
		}
	}
	end := latest.Ended
	if d.Ended != nil {
		end = *d.Ended
	}
	const slow = time.Minute // delay of remarks on a run that was interrupted
	if !end.IsZero() && at.After(end) && (d.Ended != nil || at.Sub(end) > slow) {
		return ""
	}
	return played
}

// PlanFiles records in the plan which of its rungs are files.
func (d *Document) PlanFiles() {
	rung := 0
	for _, c := range d.Plan.Columns {
		for _, l := range c.Rungs {
			if l.File != "" {
				if d.Plan.Files == nil {
					d.Plan.Files = map[int]string{}
				}
				d.Plan.Files[rung] = l.File
			}
			rung++
		}
	}
}

// fillRungs completes the rungs of a document's head; older documents list them only in the
// plan.
func (d *Document) fillRungs() {
	if len(d.Rungs) == 0 {
		d.FillRungs()
	}
	for i := range d.Rungs {
		d.Rungs[i].Attempts, d.Rungs[i].Load.File = []Attempt{}, d.Rungs[i].File
	}
}

// FillRungs sets the rungs from the plan, without attempts.
func (d *Document) FillRungs() {
	d.Rungs = []Rung{}
	if p := d.Plan.Crowd; p != nil {
		for i := range p.Numbers {
			d.Rungs = append(d.Rungs, p.Rung(i))
		}
		return
	}
	if d.Plan.Adaptive {
		for _, c := range d.Plan.Columns {
			d.Rungs = append(d.Rungs, Rung{Load: c.Rungs[len(c.Rungs)-1], Column: c.Name, Order: 1, Attempts: []Attempt{}})
		}
		return
	}
	for _, c := range d.Plan.Columns {
		for i, l := range c.Rungs {
			l.File = d.Plan.Files[len(d.Rungs)]
			d.Rungs = append(d.Rungs, Rung{Load: l, File: l.File, Column: c.Name, Order: i + 1, Attempts: []Attempt{}})
		}
	}
}

// PlannedColumns returns the columns of the plan, with the files to be played.
func (d *Document) PlannedColumns() []load.Column {
	columns := slices.Clone(d.Plan.Columns)
	rung := 0
	for i := range columns {
		columns[i].Rungs = slices.Clone(columns[i].Rungs)
		for k := range columns[i].Rungs {
			columns[i].Rungs[k].File = d.Plan.Files[rung]
			rung++
		}
	}
	return columns
}

func (b *Book) loadAttempts(d *Document) error {
	rows, err := b.db.Query("SELECT rung, result FROM attempts WHERE run = ? AND result IS NOT NULL ORDER BY id", d.ID)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var rung int
		var text string
		if err := rows.Scan(&rung, &text); err != nil {
			return err
		}
		var a Attempt
		if err := json.Unmarshal([]byte(text), &a); err != nil {
			return err
		}
		if rung < 0 || rung >= len(d.Rungs) {
			return fmt.Errorf("run %s has an attempt at rung %d, which its plan lacks", d.ID, rung)
		}
		d.Rungs[rung].Attempts = append(d.Rungs[rung].Attempts, a)
	}
	return rows.Err()
}

// Trials returns the finished attempts of a run in the order in which they were
// made.
func (b *Book) Trials(id string) ([]search.Trial, error) {
	rows, err := b.db.Query("SELECT rung, json_extract(result, '$.verdict'), coalesce(json_extract(result, '$.void'), '') FROM attempts WHERE run = ? AND result IS NOT NULL ORDER BY id", id)
	if err != nil {
		return nil, b.explain(err)
	}
	defer rows.Close()
	var trials []search.Trial
	for rows.Next() {
		var rung int
		var grade verdict.Grade
		var cause verdict.VoidCause
		if err := rows.Scan(&rung, &grade, &cause); err != nil {
			return nil, b.explain(err)
		}
		trials = append(trials, grade.Trial(rung, cause))
	}
	return trials, rows.Err()
}

// Described returns the name and the facts that the newest run on a device has; false if there
// is no run on it.
func (b *Book) Described(identity string) (d Device, known bool, err error) {
	var text string
	err = b.db.QueryRow(`SELECT json_extract(document, '$.device') FROM runs WHERE json_extract(document, '$.device.identity') = ? ORDER BY rowid DESC LIMIT 1`, identity).Scan(&text)
	if errors.Is(err, sql.ErrNoRows) || identity == "" {
		return d, false, nil
	}
	if err != nil {
		return d, false, b.explain(err)
	}
	return d, true, json.Unmarshal([]byte(text), &d)
}

// NewID returns the name of a run: its start and four random characters.
func NewID(started time.Time) string {
	return started.UTC().Format("20060102-150405-") + strings.ToLower(rand.Text()[:4])
}
