package cli

import (
	"cmp"
	"runtime/debug"
	"strings"
)

// version, commit and date are set by the linker (make build); otherwise the Go command may have
// recorded them.
var version, commit, date string

// build is the origin of this program.
type build struct{ version, commit, date string }

// built returns what is known about the build, however it was made.
func built() build {
	b := build{version, commit, date}
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return b
	}
	if v := info.Main.Version; v != "(devel)" {
		b.version = cmp.Or(b.version, v)
	}
	changed := false
	for _, s := range info.Settings {
		switch s.Key {
		case "vcs.revision":
			b.commit = cmp.Or(b.commit, s.Value)
		case "vcs.time":
			b.date = cmp.Or(b.date, s.Value)
		case "vcs.modified":
			changed = s.Value == "true"
		}
	}
	if changed && commit == "" {
		b.commit += " with changes"
	}
	return b
}

// String returns text like "v0.4.0, commit 1a2b3c4d5e6f of 2026-11-29".
func (b build) String() string {
	v := cmp.Or(b.version, "development")
	if b.commit == "" {
		return v + ", commit not recorded"
	}
	id, rest, _ := strings.Cut(b.commit, " ")
	text := v + ", commit " + strings.TrimSpace(id[:min(12, len(id))]+" "+rest)
	if day, _, _ := strings.Cut(b.date, "T"); day != "" {
		text += " of " + day
	}
	return text
}

// short returns the version, or else the commit, for run documents.
func (b build) short() string {
	id, _, _ := strings.Cut(b.commit, " ")
	return cmp.Or(b.version, id[:min(12, len(id))], "development")
}
