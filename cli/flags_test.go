package cli_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// What was nearly right is offered, in the program's own words.
func TestNearMissesAreOffered(t *testing.T) {
	s := newSession(t)
	require.NoError(t, os.Mkdir(filepath.Join(s.dir, "films"), 0o777))
	s.write("vividstrain.yaml", "hold: 20s\nholt: 3s\ncliffs: x\n")
	_, errOut, status := s.run("runs")
	require.Equal(t, 2, status)
	require.Equal(t, []string{"vividstrain: vividstrain.yaml: line 2: unknown setting \"holt\"; did you mean hold?"}, strings.Split(errOut, "\n")[:1])
	require.Contains(t, errOut, "\nvividstrain: vividstrain.yaml: line 3: unknown setting \"cliffs\"", "each error has its line")
	require.NoError(t, os.Remove(filepath.Join(s.dir, "vividstrain.yaml")))
	for args, says := range map[string]string{
		"climb|--lader|x":               "there is no flag --lader; did you mean --ladder?",
		"climb|--zzzz":                  "there is no flag --zzzz; vividstrain climb --help lists the flags",
		"clim":                          "there is no command \"clim\"; did you mean climb?",
		"clips|biuld":                   "there is no command \"biuld\"",
		"climb|--hold":                  "--hold needs a value",
		"climb|--hold|long":             "--hold: \"long\" is not a time; write 10s, 1m30s, or 10 for ten seconds",
		"climb|--threads|two":           "--threads: \"two\" is not a number",
		"climb|h264|1080p30|12M":        "quote it: \"h264 1080p30 12M\"",
		"climb|h265 1080p30 12M":        "unknown codec; did you mean hevc?",
		"climb|h264 4k50 12M":           "did you mean 2160p50?",
		"climb|h264 1080p@50 12M":       "did you mean 1080p50?",
		"climb|h264 1080p30 20Mbps":     "did you mean 20M?",
		"climb|h264 1080p30 10-bit 20M": "did you mean 10bit?",
		"climb|filmz/":                  "filmz/: there is no such file or folder; did you mean films?",
		"climb|--fields|cors":           "there is no field \"cors\"; did you mean cores?",
		"climb|--fact|price":            "write it like price=189EUR",
		"watch|--listen|nowhere":        "--listen: \"nowhere\" is not an address; write :9600",
		"serve|--listen|1:2:3:4":        "is not an address",
	} {
		_, errOut, status := s.run(strings.Split(args, "|")...)
		require.Equal(t, 2, status, args)
		require.Contains(t, errOut, says, args)
		require.Equal(t, 1, strings.Count(errOut, "\n"), args)
	}
}

// A number is seconds, and names of earlier versions are understood.
func TestTimesAndEarlierNames(t *testing.T) {
	s := newSession(t)
	d := document(t, s.ok("climb", "--device", "skerry-s1", "--hold", "10", "--settle", "1.5", "--json", "h264 720p25 5M"))
	require.Equal(t, 10., d.Plan.HoldS)
	require.Equal(t, 1.5, d.Plan.SettleS)
	d = document(t, s.ok("crowd", "--device", "breakwater-n2", "--every=12s", "--most", "1", "--json", "h264 720p25 5M"))
	require.Equal(t, 12., d.Plan.HoldS)
	s.env = append(s.env, "VIVIDSTRAIN_EVERY=9")
	d = document(t, s.ok("crowd", "--device", "breakwater-n2", "--most", "1", "--json", "h264 720p25 5M"))
	require.Equal(t, 9., d.Plan.HoldS)
	require.NotContains(t, s.ok("crowd", "--help"), "EVERY")
}

// A device keeps its name and facts from run to run, and what is asked for is shown.
func TestDevicesKeepTheirNames(t *testing.T) {
	s := newSession(t)
	s.write("vividstrain.yaml", "facts:\n  cooling: fanless\n")
	climb := []string{"climb", "--device", "skerry-s1", "h264 720p25 5M"}
	out := s.ok(append(climb, "--name", "Lounge box", "--fact", "price=189EUR", "--fact", "bios=1.4")...)
	require.True(t, strings.HasPrefix(out, "Lounge box plays up to h264 720p25 5M smoothly"), out)
	require.Contains(t, out, "bios 1.4, cooling fanless, price 189EUR")
	d := document(t, s.ok(append(climb, "--fact", "bios=", "--json")...))
	require.Equal(t, "Lounge box", d.Device.Name)
	require.Equal(t, map[string]string{"price": "189EUR", "cooling": "fanless"}, d.Device.Facts)
	require.Contains(t, s.ok("runs"), "Lounge box")
	other := document(t, s.ok("climb", "--device", "skerry-s4", "h264 720p25 5M", "--json"))
	require.Equal(t, "Skerry S4", other.Device.Name)
	d = document(t, s.ok(append(climb, "--name", "", "--json")...))
	require.Equal(t, "Skerry S1", d.Device.Name)
}

// What would be done is said, and nothing is done.
func TestDryRun(t *testing.T) {
	s := newSession(t)
	out := s.ok("climb", "--dry-run", "--hold", "10s", "--baseline", "0s", "mjpeg 240p25 4M", "mjpeg 360p25 6M")
	require.Contains(t, out, "mjpeg 240p25 4M\nmjpeg 360p25 6M\n2 rungs, at most 3 attempts: about ")
	out = s.ok("crowd", "--dry-run", "--device", "breakwater-n2", "--need", "70", "h264 720p25 5M")
	require.Contains(t, out, "9 numbers, at most 10 attempts: a moment", "up to twice what is needed")
	_, errOut, status := s.run("show")
	require.Equal(t, 2, status)
	require.Contains(t, errOut, "there is no such logbook yet")
	_, err := os.Stat(filepath.Join(s.dir, "clips"))
	require.ErrorIs(t, err, os.ErrNotExist)
}

// The user chooses the fields of the table.
func TestFieldsAreChosen(t *testing.T) {
	s := newSession(t)
	s.ok("climb", "--device", "skerry-s1", "h264 720p25 5M")
	require.Regexp(t, `(?m)^load +verdict +degrees +freeze$`, s.ok("show", "--fields", "degrees,freeze"))
	require.Regexp(t, `(?m)^load +verdict .*freeze.*memory`, s.ok("show", "--wide"))
}

// A shell completes commands, flags, values and whole load lines.
func TestCompletion(t *testing.T) {
	s := newSession(t)
	s.ok("climb", "--device", "skerry-s1", "h264 720p25 5M")
	id := document(t, s.ok("show", "--json")).ID
	for words, want := range map[string]string{
		"cli":                       "climb",
		"clips|b":                   "build",
		"climb|--lad":               "--ladder",
		"climb|--ladder|loun":       "lounge",
		"climb|--device|skerry-s4":  "skerry-s4",
		"climb|h264 1080p50 10bit":  "h264 1080p50 10bit hlg 20M",
		"show|--fields|wat":         "watts",
		"show|" + id[:6]:            id,
		"help|cro":                  "crowd",
		"completion|f":              "fish",
		"clips|build|--scene|harb":  "harbour",
		"crowd|--no-color|--nee":    "--need",
		"climb|--no-color|--resu":   "--resume",
		"climb|\"mjpeg 240p25 500k": "",
	} {
		out := s.ok(append([]string{"completion", "words", "--"}, strings.Split(words, "|")...)...)
		require.Equal(t, want, strings.SplitN(out, "\n", 2)[0], words)
	}
	bash := s.command("x")
	bash.Path, bash.Args = "/bin/bash", []string{"bash", "-c", `
		vividstrain() { "` + program + `" "$@"; }
		source <(vividstrain completion bash)
		COMP_WORDS=(vividstrain climb --ladder loun); COMP_CWORD=3; _vividstrain; echo "${COMPREPLY[*]}"
		COMP_WORDS=(vividstrain climb '"h264 1440p50'); COMP_CWORD=2; _vividstrain; echo "${COMPREPLY[*]}"`}
	out, err := bash.Output()
	require.NoError(t, err)
	require.Equal(t, "lounge\nh264 1440p50 30M\n", string(out))
	require.Contains(t, s.ok("completion", "zsh"), "#compdef")
	require.Contains(t, s.ok("completion", "fish"), "complete -c vividstrain")
}

func TestHelpAndVersionAreCommands(t *testing.T) {
	s := newSession(t)
	require.Equal(t, s.ok("clips", "build", "--help"), s.ok("help", "clips", "build"))
	require.Equal(t, s.ok("--help"), s.ok("help"))
	require.Regexp(t, "^vividstrain .*commit", s.ok("version"))
	_, errOut, status := s.run("help", "clmb")
	require.Equal(t, 2, status)
	require.Contains(t, errOut, "did you mean climb?")
}

// Runs are found by their last letters, and their tables go into articles.
func TestRunsAreListedAndExported(t *testing.T) {
	s := newSession(t)
	s.ok("climb", "--device", "skerry-s1", "h264 720p25 5M", "h264 2160p50 80M")
	s.ok("crowd", "--device", "breakwater-n2", "--most", "2", "h264 720p25 5M", "h264 480p25 2M x2")
	list := s.ok("runs")
	require.Contains(t, list, "6 streams")
	require.Contains(t, list, "h264 720p25 5M + h264 480p25 2M x2")
	id := strings.Fields(strings.Split(list, "\n")[2])[0]
	require.Equal(t, id, document(t, s.ok("show", "--json", id[len(id)-4:])).ID)
	require.True(t, strings.HasPrefix(s.ok("show", "--markdown", "--fields", "dropped", id), "| load | verdict | dropped |\n| --- | --- | ---: |\n| h264 720p25 5M | smooth | 0 of 200 |\n"))
	csv := s.ok("show", "--csv", "--fields", "dropped", id)
	require.True(t, strings.HasPrefix(csv, "load,verdict,dropped\nh264 720p25 5M,smooth,0 of 200\nh264 720p25 5M,smooth,"), csv)
}

// Several climbs are made under one name, which shows them together.
func TestClimbsAreRepeated(t *testing.T) {
	s := newSession(t)
	out := s.ok("climb", "--device", "skerry-s1", "--repeat", "3", "h264 720p25 5M", "h264 1440p50 30M")
	require.Contains(t, out, "Skerry S1 plays up to h264 720p25 5M in 3 of 3 runs.")
	d := document(t, s.ok("show", "--json"))
	require.Equal(t, 3, d.Repeat.Number)
	require.Equal(t, d.Repeat.Of+"-3", d.ID)
	require.Equal(t, out, s.ok("show", d.Repeat.Of))
	require.Equal(t, d.ID, document(t, s.ok("show", "--json", d.ID)).ID)
}

// A first look tries each rung once, and says that nothing was confirmed.
func TestEachRungOnce(t *testing.T) {
	s := newSession(t)
	d := document(t, s.ok("climb", "--once", "--device", "skerry-s1", "--ladder", "quick", "--json"))
	require.True(t, d.Plan.Once && d.Complete && !d.Ceiling.Confirmed)
	for _, r := range d.Rungs {
		require.Len(t, r.Attempts, 1)
	}
	require.Contains(t, strings.Join(strings.Fields(s.ok("show")), " "), "smoothly, not confirmed by a second try")
	for _, other := range []string{"--quick", "--refine"} {
		_, errOut, status := s.run("climb", "--once", "--device", "skerry-s1", other)
		require.Equal(t, 2, status)
		require.Contains(t, errOut, "--once makes no second attempts")
	}
}
