package cli_test

import (
	"encoding/json"
	"math"
	"regexp"
	"strconv"
	"testing"

	"github.com/stretchr/testify/require"
)

// Whatever prints JSON keeps the same manners: names in small letters, numbers as numbers,
// and none that is the dust of a calculation.
func TestJSONManners(t *testing.T) {
	s := newSession(t)
	s.ok("clips", "build", "--out", "clips", "--seconds", "1", "h264 240p25 0.5M")
	s.ok("climb", "--device", "skerry-s1", "--ladder", "lounge")
	for _, args := range [][]string{
		{"ladders", "--json"}, {"ladders", "show", "lounge", "--json"}, {"devices", "--json"}, {"devices", "show", "skerry-s1", "--json"},
		{"clips", "list", "clips", "--json"}, {"clips", "verify", "clips", "--json"}, {"inspect", "clips/h264-240p25-500k-1s.mp4", "--json"},
		{"convert", "clips/h264-240p25-500k-1s.mp4", "--goal", "144p 0.2M", "--json"}, {"runs", "--json"}, {"show", "--json"}, {"sensors", "--json"}, {"schema"},
		{"climb", "--device", "skerry-s1", "h264 720p25 5M", "--json"}, {"crowd", "--device", "breakwater-n2", "h264 720p25 5M", "--json"},
	} {
		var value any
		require.NoError(t, json.Unmarshal([]byte(s.ok(args...)), &value), args)
		if args[0] != "schema" { // whose names are those of JSON Schema, and of types
			manners(t, args, "", value)
		}
	}
}

var (
	nameOfAField = regexp.MustCompile(`^[a-z0-9][a-z0-9_]*$`)
	nameOfAUnit  = regexp.MustCompile(`_(s|ms|bps|pct|bytes|hz|w|c)$`)
)

// manners looks at a value and all that is in it. Maps by quantity, file and the like have
// names that are data.
func manners(t *testing.T, args []string, name string, value any) {
	switch v := value.(type) {
	case map[string]any:
		isData := name == "use" || name == "files" || name == "spec" || name == "facts" || name == "options" || name == "readings" || name == "sources"
		for key, inner := range v {
			require.True(t, isData || nameOfAField.MatchString(key), "%v: %q in %q", args, key, name)
			if name == "options" || name == "spec" {
				key = "" // these are texts by their schema
			}
			manners(t, args, key, inner)
		}
	case []any:
		for _, inner := range v {
			manners(t, args, name, inner)
		}
	case float64:
		require.True(t, v == 0 || math.Abs(v) >= 1e-7, "%v: %q is %g", args, name, v)
	case string:
		_, err := strconv.ParseFloat(v, 64)
		require.False(t, err == nil && nameOfAUnit.MatchString(name), "%v: %q is the text %q", args, name, v)
	}
}

// Loads are joined as they are printed.
func TestSeveralLoadsInOneWord(t *testing.T) {
	s := newSession(t)
	one := document(t, s.ok("crowd", "h264 720p25 5M x2 + h264 576i25 3M", "--device", "breakwater-n5", "--json"))
	two := document(t, s.ok("crowd", "h264 720p25 5M x2", "h264 576i25 3M", "--device", "breakwater-n5", "--json"))
	require.Len(t, one.Plan.Crowd.Mix, 2)
	require.Equal(t, two.Plan.Crowd.Mix, one.Plan.Crowd.Mix)
	require.Equal(t, two.Crowd.Highest, one.Crowd.Highest)
}

// What others name or write may hold what steers a terminal; it never gets there.
func TestNothingSteersTheTerminal(t *testing.T) {
	s := newSession(t)
	evil := "deck\x1b]0;owned\x07\x1b[2J.mp4"
	s.write(evil, "no film")
	s.ok("climb", "--device", "skerry-s1", "h264 720p25 5M")
	s.ok("note", "green \x1b[31mbars\u009b2J")
	s.write("evil.yaml", "name: \"a\\e[2Jb\"\ncolumns:\n  - name: \"c\\e[2J\"\n    rungs: [h264 720p25 5M]\n")
	for _, args := range [][]string{{"inspect", evil}, {"climb", evil}, {"show"}, {"runs"}, {"ladders", "show", "evil.yaml"}, {"climb", "--device", "skerry-s1", "--ladder", "evil.yaml"}, {"rewrap", evil, evil + ".ts"}} {
		out, errOut, _ := s.run(args...)
		require.NotContains(t, out+errOut, "\x1b", args)
		require.NotContains(t, out+errOut, "\x07", args)
		require.NotContains(t, out+errOut, "\u009b", args)
	}
	require.Contains(t, s.ok("show", "--json"), `\u001b[2J`, "the record keeps what it was given")
}
