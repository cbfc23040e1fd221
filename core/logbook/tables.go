package logbook

import (
	"errors"
	"fmt"
	"os"
)

// application identifies a SQLite file as a logbook, in the header field for that purpose.
const application = 0x56535442

// schema is that of the tables. A sample is one row: the readings of one source at one time, as
// a JSON object.
const schema = `
CREATE TABLE runs(
	id TEXT PRIMARY KEY,
	started TEXT NOT NULL,
	document TEXT NOT NULL, -- the run document without rungs' attempts and readings
	summary TEXT           -- what lists show of it, as JSON; NULL: of a version that wrote none
) STRICT;
CREATE TABLE attempts(
	id INTEGER PRIMARY KEY,
	run TEXT NOT NULL REFERENCES runs(id),
	rung INTEGER NOT NULL,  -- counted through all columns, from 0
	purpose TEXT NOT NULL,
	started TEXT NOT NULL,
	result TEXT             -- the attempt as JSON; NULL while it runs
) STRICT;
CREATE TABLE samples(
	run TEXT NOT NULL REFERENCES runs(id),
	attempt INTEGER,        -- NULL: outside attempts
	at INTEGER NOT NULL,    -- microseconds since 1970
	source TEXT NOT NULL,   -- name of the source
	readings TEXT NOT NULL,
	phase TEXT,             -- NULL: of a version that did not tell
	kind TEXT               -- of the source; NULL: of a version that did not tell
) STRICT;
CREATE TABLE remarks(
	run TEXT NOT NULL REFERENCES runs(id),
	remark TEXT NOT NULL    -- as JSON
) STRICT;
CREATE INDEX attempts_of_run ON attempts(run);
CREATE INDEX samples_of_run ON samples(run, attempt);
CREATE INDEX samples_by_time ON samples(run, at);
`

// version of the tables, in the file's user_version. Version 0 lacks the phase of samples, and
// perhaps remarks; version 1 lacks the kind of sources; version 2 lacks summaries.
const version = 3

// steps convert each version of the tables to the next.
var steps = [version]string{`
CREATE TABLE IF NOT EXISTS remarks(run TEXT NOT NULL REFERENCES runs(id), remark TEXT NOT NULL) STRICT;
ALTER TABLE samples ADD COLUMN phase TEXT;
`, `
ALTER TABLE samples ADD COLUMN kind TEXT;
CREATE INDEX samples_by_time ON samples(run, at);
`, `
ALTER TABLE runs ADD COLUMN summary TEXT;
`}

// make creates the tables in an empty file, in one transaction: another program may be doing the
// same.
func (b *Book) make() error {
	tx, err := b.db.Begin()
	if err != nil {
		return err
	}
	defer tx.Rollback() // does nothing after Commit
	var id, tables int
	if err := errors.Join(tx.QueryRow("PRAGMA application_id").Scan(&id),
		tx.QueryRow("SELECT count(*) FROM sqlite_master").Scan(&tables)); err != nil {
		return err
	}
	switch {
	case id == application:
		return nil
	case id != 0 || tables != 0:
		return errNotABook
	}
	if _, err := tx.Exec(schema + fmt.Sprintf("PRAGMA application_id = %d; PRAGMA user_version = %d;", application, version)); err != nil {
		return err
	}
	return tx.Commit()
}

// step converts the tables of an older version to this one, in one transaction. A copy of the
// old file is kept beside it.
func (b *Book) step() error {
	var has int
	if err := b.db.QueryRow("PRAGMA user_version").Scan(&has); err != nil || has == version {
		return err
	}
	if has > version || has < 0 {
		return errNewer
	}
	if err := b.keepCopy(has); err != nil {
		return err
	}
	tx, err := b.db.Begin()
	if err != nil {
		return err
	}
	defer tx.Rollback() // does nothing after Commit
	if err := tx.QueryRow("PRAGMA user_version").Scan(&has); err != nil || has == version {
		return err // another program was first
	}
	for _, step := range steps[has:] {
		if _, err := tx.Exec(step); err != nil {
			return err
		}
	}
	if _, err := tx.Exec(fmt.Sprintf("PRAGMA user_version = %d", version)); err != nil {
		return err
	}
	return tx.Commit()
}

// keepCopy writes a copy of the logbook beside it, unless there is one. A plain copy of the file
// would lack what is in the write-ahead log.
func (b *Book) keepCopy(has int) error {
	path := fmt.Sprintf("%s.version%d", b.path, has)
	if _, err := os.Stat(path); err == nil {
		return nil
	}
	half := path + ".partial"
	if err := os.Remove(half); err != nil && !errors.Is(err, os.ErrNotExist) { // of a program that was killed
		return err
	}
	if _, err := b.db.Exec("VACUUM INTO ?", half); err != nil {
		return fmt.Errorf("a copy of the older logbook cannot be kept in %s: %w", path, err)
	}
	return os.Rename(half, path)
}
