package cli

import (
	"cmp"
	"runtime/debug"
	"strings"
)

// version, commit and date are set by the linker (make build); else the Go command may have noted them.
var version, commit, date string

// build is what this program was built from.
type build struct{ version, commit, date string }

// built tells what is known of the build, however it was made.
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

// String is like "v0.4.0, commit 1a2b3c4d5e6f of 2026-11-29".
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

// short is what a run document notes: the version, or else the commit.
func (b build) short() string {
	id, _, _ := strings.Cut(b.commit, " ")
	return cmp.Or(b.version, id[:min(12, len(id))], "development")
}
