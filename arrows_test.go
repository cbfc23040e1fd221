package main

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// arrows says which packages of ours a folder may import: the longest entry that a folder begins
// with counts. A name ending in "/..." stands for all below it as well, and one with "-" before it
// is taken out again.
var arrows = map[string]string{
	".":      "cli",
	"cli":    "core/... report/... -core/media/codec/... -core/media/container/...",
	"report": "core/logbook core/load core/verdict core/search core/tally core/sense core/need core/capacity core/media core/media/clip core/media/inspect core/recount core/transcode report/model report/chart",

	"core/clock": "", "core/cputime": "", "core/partial": "", "core/tally": "", "core/search": "", "core/chromium": "",
	"core/child": "", "core/x11": "", "core/x11/x11test": "",
	"core/chromium/headless": "core/chromium",

	"core/media":             "core/media/picture",
	"core/media/picture":     "",
	"core/media/picture/asm": "core/media/neon",
	"core/media/scene":       "core/media core/media/picture",
	"core/media/quality":     "core/media/picture core/chromium/headless",
	"core/media/codec":       "core/media core/media/picture core/cputime " + shared,
	// What the tests of codecs share draws pictures and compares them.
	"core/media/codec/codectest": "core/media core/media/picture core/media/quality core/media/scene",
	"core/media/container":       "core/media core/media/picture",
	"core/media/registry":        "core/media core/media/codec/... core/media/container/...",
	"core/media/stream":          "core/media core/media/registry core/media/stream",
	"core/media/clip":            "core/media core/media/picture core/media/registry core/media/scene core/partial core/transcode/groups",
	"core/media/inspect":         "core/media core/media/picture core/media/registry",
	"core/load":                  "core/media core/media/registry",

	"core/screen":  "core/media/picture core/x11",
	"core/eye":     "core/cputime core/media core/media/picture core/media/registry core/media/scene core/x11",
	"core/recount": "core/eye core/load core/media core/media/clip core/media/picture core/media/registry core/media/scene core/tally",

	"core/sense/video": "core/sense",
	"core/sense":       "core/clock core/cputime",
	"core/sense/linux": "core/sense core/clock core/cputime",
	"core/sense/local": "core/sense core/sense/linux core/cputime",
	"core/sense/meter": "core/sense core/clock",

	"core/transcode":        "core/media core/media/picture core/media/registry core/transcode/groups core/partial core/clock core/cputime core/sense/... core/tally",
	"core/transcode/groups": "core/media",
	"core/mediaserver":      "core/media core/media/registry core/media/stream/... core/load core/transcode core/partial core/clock core/cputime core/sense core/sense/meter",

	"core/verdict":  "core/tally core/sense core/search",
	"core/need":     "core/logbook core/load core/verdict core/search core/sense",
	"core/capacity": "core/logbook core/load core/verdict core/sense",
	"core/logbook":  "core/verdict core/tally core/sense core/search core/load",

	"core/route":           "core/load core/tally core/sense core/clock",
	"core/route/routes":    "core/route/...",
	"core/route/engine":    "core/route core/load core/tally core/sense/... core/clock core/media/... core/screen core/transcode -core/media/codec/... -core/media/container/...",
	"core/route/films":     "core/route core/load core/media core/media/clip core/media/registry core/partial core/tally",
	"core/route/link":      "core/media",
	"core/route/page":      "core/route core/route/films core/route/link core/load core/tally core/sense/... core/child core/clock core/cputime core/partial core/chromium core/media core/media/clip core/media/registry",
	"core/route/program":   "core/route core/route/films core/load core/tally core/sense/... core/child core/clock core/eye core/media core/media/picture core/media/registry core/screen core/x11",
	"core/route/server":    "core/route core/route/link core/load core/tally core/sense/... core/clock core/cputime core/media core/media/registry core/media/stream/...",
	"core/route/simulated": "core/route core/load core/tally core/sense core/clock core/media core/media/registry",

	"core/run":          "core/route core/logbook core/search core/verdict core/tally core/sense core/load core/media core/clock",
	"core/run/adapt":    "core/run core/route core/logbook core/search core/load",
	"core/run/climb":    "core/run core/route core/logbook core/search core/verdict core/load core/sense core/media core/capacity",
	"core/run/frontier": "core/run core/route core/logbook core/search core/load core/media",
	"core/run/crowd":    "core/run core/route core/logbook core/search core/verdict core/load core/sense",
	"core/run/kinds":    "core/run/...",
}

// shared are the packages that several codecs use: they know none of them.
const shared = "core/media/neon core/media/codec/avoblock core/media/codec/bits core/media/codec/cabac core/media/codec/framepool core/media/codec/gop core/media/codec/motion " +
	"core/media/codec/nal core/media/codec/ratecontrol core/media/codec/threads"

// imported is one import of ours: in the folder from, of the folder to.
type imported struct{ from, to string }

// imports lists all imports of ours that are not in tests.
func imports(t *testing.T) (list []imported) {
	eachFile(t, func(path string) {
		if strings.HasSuffix(path, "_test.go") {
			return
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
		require.NoError(t, err)
		for _, spec := range file.Imports {
			name, err := strconv.Unquote(spec.Path.Value)
			require.NoError(t, err)
			if to, ours := strings.CutPrefix(name, "vividstrain/"); ours {
				list = append(list, imported{filepath.ToSlash(filepath.Dir(path)), to})
			}
		}
	})
	require.Greater(t, len(list), 200, "the files were found")
	return list
}

func eachFile(t *testing.T, do func(path string)) {
	require.NoError(t, filepath.WalkDir(".", func(path string, entry fs.DirEntry, err error) error {
		if err == nil && !entry.IsDir() && strings.HasSuffix(path, ".go") {
			do(path)
		}
		return err
	}))
}

// literals are all literals of a file.
func literals(file *ast.File) (list []string) {
	ast.Inspect(file, func(n ast.Node) bool {
		if l, ok := n.(*ast.BasicLit); ok {
			list = append(list, l.Value)
		}
		return true
	})
	return list
}

// allowed tells whether an entry of the table names a folder.
func allowed(entry, folder string) (yes bool) {
	for name := range strings.FieldsSeq(entry) {
		name, out := strings.CutPrefix(name, "-")
		whole, below := strings.CutSuffix(name, "/...")
		if folder == whole || below && strings.HasPrefix(folder, whole+"/") {
			yes = !out
		}
	}
	return yes
}

// entryOf is the entry of the table that is for a folder.
func entryOf(folder string) (name string) {
	for ; folder != "."; folder = filepath.ToSlash(filepath.Dir(folder)) {
		if _, there := arrows[folder]; there {
			return folder
		}
	}
	return "."
}

// The structure is kept: nothing imports what its place in the house does not allow.
func TestArrowsPointOneWay(t *testing.T) {
	used := map[string]bool{}
	for _, i := range imports(t) {
		entry := entryOf(i.from)
		used[entry] = true
		require.True(t, allowed(arrows[entry], i.to), "%s imports %s, which the entry %q does not allow", i.from, i.to, entry)
	}
	for name, entry := range arrows {
		require.True(t, used[name] || entry == "", "the entry %q is for no folder", name)
	}
}

// Codecs, routes and kinds of run are named where they are registered, and nowhere else: a new one is a
// folder and a line.
func TestRegistriesAloneNameWhatTheyList(t *testing.T) {
	for folder, by := range map[string][]string{
		"core/media/codec/aac": {"core/media/registry"}, "core/media/codec/h264": {"core/media/registry"},
		"core/media/codec/mjpeg": {"core/media/registry"}, "core/media/codec/raw": {"core/media/registry"},
		"core/media/container/annexb": {"core/media/registry"}, "core/media/container/mkv": {"core/media/registry"},
		"core/media/container/mp4": {"core/media/registry"}, "core/media/container/ts": {"core/media/registry"},
		"core/media/container/y4m": {"core/media/registry"},
		"core/run/adapt":           {"core/run/kinds", "cli"},
		"core/run/climb":           {"core/run/kinds", "cli"}, "core/run/crowd": {"core/run/kinds", "cli"}, // each has a command
	} {
		for _, i := range imports(t) {
			if i.to == folder && !strings.HasPrefix(i.from, folder) && !slices.Contains(by, i.from) {
				t.Errorf("%s imports %s; only %v may", i.from, i.to, by)
			}
		}
	}
	quoted := regexp.MustCompile(`"(h264|mjpeg)"`)
	eachFile(t, func(path string) {
		folder := filepath.ToSlash(filepath.Dir(path))
		if strings.HasSuffix(path, "_test.go") || strings.HasPrefix(folder, "core/media/codec/") {
			return
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		require.NoError(t, err)
		for _, word := range literals(file) {
			require.False(t, quoted.MatchString(word), "%s asks for a codec by its word: %s", path, word)
		}
	})
}

// Assembly that is used where there is AVX2 must not need more: the assembler takes names of registers
// that only AVX-512 has.
func TestAssemblyNeedsNoMoreThanAVX2(t *testing.T) {
	beyond := regexp.MustCompile(`\b(Z\d+|[XY](1[6-9]|2\d|3[01])|K[0-7])\b`)
	seen := 0
	require.NoError(t, filepath.WalkDir(".", func(path string, _ fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, "_amd64.s") {
			return err
		}
		text, err := os.ReadFile(path)
		require.Empty(t, beyond.FindString(string(text)), path)
		seen++
		return err
	}))
	require.GreaterOrEqual(t, seen, 4)
}
