package routes

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vividstrain/core/route"
)

// values are settings: those in set, else the options' defaults.
type values struct{ set map[string]any }

func (v values) get(name string) any {
	if value, ok := v.set[name]; ok {
		return value
	}
	for _, o := range All.Options() {
		if o.Name == name {
			return o.Default
		}
	}
	panic("nobody has the option " + name)
}

func (v values) String(name string) string          { return fmt.Sprint(v.get(name)) }
func (v values) Bool(name string) bool              { return v.get(name).(bool) }
func (v values) Int(name string) int                { return v.get(name).(int) }
func (v values) Uint64(name string) uint64          { return v.get(name).(uint64) }
func (v values) Float(name string) float64          { return v.get(name).(float64) }
func (v values) Duration(name string) time.Duration { return v.get(name).(time.Duration) }
func (v values) IsSet(name string) bool             { _, ok := v.set[name]; return ok }

// What is set chooses the route; what was typed goes before what was set elsewhere.
func TestChoose(t *testing.T) {
	set := func(names ...string) values {
		v := values{map[string]any{}}
		for _, name := range names {
			v.set[name] = "something"
		}
		return v
	}
	for _, c := range []struct {
		word  string
		v     values
		typed []string
		want  string
	}{
		{"", set(), nil, "engine"}, {"", set("device"), nil, "simulated"}, {"", set("url"), nil, "server"},
		{"", set("url", "device"), []string{"device"}, "simulated"}, {"", set("url", "device"), []string{"url"}, "server"},
		{"engine", set("url"), nil, "engine"}, {"standin", set(), nil, "simulated"}, {"simulated", set("device"), []string{"device", "seed"}, "simulated"},
		{"", set(), []string{"hold"}, "engine"},
	} {
		d, err := All.Choose(c.word, c.v, c.typed)
		require.NoError(t, err, "%+v", c)
		require.Equal(t, c.want, d.Word, "%+v", c)
	}
	for want, c := range map[string]struct {
		word  string
		typed []string
	}{
		`there is no route "moon"; there are engine, server, page, program, simulated`: {"moon", nil},
		"--queue does nothing on the route simulated; it is for engine":                {"simulated", []string{"queue"}},
		"--lines does nothing on the route engine; it is for program":                  {"engine", []string{"hold", "lines"}},
		"--refresh does nothing on the route server; it is for engine and simulated":   {"server", []string{"refresh"}},
	} {
		_, err := All.Choose(c.word, set(), c.typed)
		require.EqualError(t, err, want)
	}
}

// An option that several routes take is the same in all, and its default has its type.
func TestOptionsAgree(t *testing.T) {
	seen := map[string]route.Option{}
	for _, d := range All {
		require.NotNil(t, d.Open, d.Word)
		require.NotNil(t, d.Restore, d.Word)
		for _, o := range d.Options {
			if before, known := seen[o.Name]; known {
				require.Equal(t, before, o)
			}
			seen[o.Name] = o
			require.NotEmpty(t, o.Usage)
			switch o.Default.(type) {
			case string, bool, int, float64, uint64, time.Duration:
			default:
				t.Errorf("--%s has a default of type %T", o.Name, o.Default)
			}
		}
		for _, name := range d.Implied {
			require.Contains(t, seen, name)
		}
	}
}

// A route that is restored from what it recorded has the options that it had.
func TestEveryRouteIsRestored(t *testing.T) {
	list := filepath.Join(t.TempDir(), "list.yaml")
	require.NoError(t, os.WriteFile(list, []byte("- load: h264 720p25 5M\n  url: http://pier.test/a.mp4\n"), 0o600))
	for word, set := range map[string]map[string]any{
		"engine":    {"refresh": 50., "late": "wait", "clips": t.TempDir(), "threads": 3, "queue": 5, "ahead": 7 * time.Second},
		"simulated": {"device": "skerry-s1", "refresh": 50., "late": "wait", "seed": uint64(9)},
		"page": {"listen": "127.0.0.1:0", "screen": "window", "fit": "native", "jumps": 2, "no-marks": true, "tls": true, "clips": t.TempDir(), "devices": 2,
			"link": "2M,20M@20s", "delay": 40 * time.Millisecond, "loss": "0.5%"},
		"server": {"list": list, "jumps": 2, "verify": "12%", "timeout": 9 * time.Second, "seed": uint64(4), "ahead": 11 * time.Second},
	} {
		d, err := All.Named(word)
		require.NoError(t, err)
		r, err := d.Open(values{set})
		require.NoError(t, err, word)
		require.Equal(t, word, r.Kind())
		again, err := d.Restore(route.Record{Options: r.Options(), Device: r.Device().Name, Typed: func(string) bool { return false }}, values{})
		require.NoError(t, err, word)
		require.Equal(t, r.Options(), again.Options(), word)
		require.Equal(t, r.Device().Name, again.Device().Name, word)
		require.Equal(t, r.Traits(), again.Traits(), word)
	}
}

// What was not recorded must be given again, and it is said how.
func TestSecretsAreGivenAgain(t *testing.T) {
	d, err := All.Named("server")
	require.NoError(t, err)
	r, err := d.Open(values{map[string]any{"url": "http://pier.test/{clip}", "login": "mate:hunter2", "bearer": ""}})
	require.NoError(t, err)
	for name, value := range r.Options() {
		require.False(t, strings.Contains(value, "hunter2"), name)
	}
	record := route.Record{Options: r.Options(), Typed: func(string) bool { return false }}
	_, err = d.Restore(record, values{})
	var again *route.GiveAgainError
	require.ErrorAs(t, err, &again)
	require.ErrorContains(t, err, "give --login again, or VIVIDSTRAIN_LOGIN")
	_, err = d.Restore(record, values{map[string]any{"login": "mate:hunter2"}})
	require.NoError(t, err)
	record.Options["jumps"] = "many"
	_, err = d.Restore(record, values{})
	require.ErrorContains(t, err, `option jumps is "many"`)
}

// Nothing is opened from settings that make no sense.
func TestBadSettingsOpenNothing(t *testing.T) {
	for word, sets := range map[string][]map[string]any{
		"engine":    {{"refresh": 0.}, {"late": "never"}, {"queue": 0}},
		"simulated": {{}, {"device": "no such thing"}, {"device": "skerry-s1", "late": "never"}},
		"page":      {{"listen": "127.0.0.1:0", "screen": "wide", "fit": "fit"}, {"listen": "nowhere", "screen": "full", "fit": "fit"}, {"listen": "127.0.0.1:0", "screen": "full", "fit": "fit", "devices": 99}},
		"server":    {{}, {"url": "ftp://x"}, {"url": "http://x", "verify": "half"}, {"url": "http://x", "verify": "120%"}, {"list": "absent.yaml"}},
	} {
		d, err := All.Named(word)
		require.NoError(t, err)
		for _, set := range sets {
			_, err := d.Open(values{set})
			require.Error(t, err, "%s %v", word, set)
		}
	}
}
