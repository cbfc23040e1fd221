package cli_test

import (
	"bytes"
	"encoding/json"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/require"

	"vividstrain/core/logbook"
)

// program is the path of the built program.
var program string

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "vividstrain-test")
	if err != nil {
		panic(err)
	}
	program = filepath.Join(dir, "vividstrain")
	build := exec.Command("go", "build", "-o", program, "vividstrain")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		panic(string(out))
	}
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

// session is a user with a home of their own.
type session struct {
	t   *testing.T
	dir string
	env []string
}

func newSession(t *testing.T) *session {
	dir := t.TempDir()
	return &session{t, dir, []string{"HOME=" + dir, "XDG_DATA_HOME=" + dir + "/data", "XDG_CACHE_HOME=" + dir + "/cache", "PATH=" + os.Getenv("PATH")}}
}

func (s *session) command(args ...string) *exec.Cmd {
	c := exec.Command(program, args...)
	c.Dir, c.Env = s.dir, s.env
	return c
}

// run calls the program and returns what it printed and its exit status.
func (s *session) run(args ...string) (out, errOut string, status int) {
	c := s.command(args...)
	var o, e bytes.Buffer
	c.Stdout, c.Stderr = &o, &e
	err := c.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		require.NoError(s.t, err)
	}
	require.NotContains(s.t, e.String(), "goroutine ", "a stack trace")
	return o.String(), e.String(), c.ProcessState.ExitCode()
}

// ok calls the program and requires success.
func (s *session) ok(args ...string) string {
	out, errOut, status := s.run(args...)
	require.Zero(s.t, status, errOut)
	return out
}

// write puts a file into the user's folder.
func (s *session) write(name, content string) {
	path := filepath.Join(s.dir, name)
	require.NoError(s.t, os.MkdirAll(filepath.Dir(path), 0o777))
	require.NoError(s.t, os.WriteFile(path, []byte(content), 0o666))
}

// read returns what a file in the user's folder holds.
func (s *session) read(name string) string {
	data, err := os.ReadFile(filepath.Join(s.dir, name))
	require.NoError(s.t, err)
	return string(data)
}

func document(t *testing.T, text string) (d logbook.Document) {
	require.NoError(t, json.Unmarshal([]byte(text), &d), text)
	return d
}

func TestLaddersCanBeEditedAndGivenBack(t *testing.T) {
	s := newSession(t)
	require.Contains(t, s.ok("ladders"), "starter")
	text := s.ok("ladders", "show", "lounge")
	edited := strings.Replace(text, "name: lounge", "name: mine", 1)
	require.NoError(t, os.WriteFile(filepath.Join(s.dir, "mine.yaml"), []byte(edited), 0o666))
	d := document(t, s.ok("climb", "--json", "--device", "skerry-s4", "--ladder", "mine.yaml"))
	require.Equal(t, "mine", d.Ladder)
	require.Len(t, d.Rungs, 12)
	require.InDelta(t, 20, d.Plan.HoldS, 0)
}

func TestSimulatedClimbFitsItsSchema(t *testing.T) {
	s := newSession(t)
	compiler := jsonschema.NewCompiler()
	var schema any
	require.NoError(t, json.Unmarshal([]byte(s.ok("schema")), &schema))
	require.NoError(t, compiler.AddResource("run.json", schema))
	compiled, err := compiler.Compile("run.json")
	require.NoError(t, err)
	file, err := os.ReadFile("../docs/run-document.schema.json")
	require.NoError(t, err)
	require.JSONEq(t, s.ok("schema"), string(file), "write it anew: go run . schema > docs/run-document.schema.json")
	for _, device := range []string{"skerry-s1", "skerry-s4", "breakwater-n2", "breakwater-n5"} {
		text := s.ok("climb", "--json", "--device", device)
		var v any
		require.NoError(t, json.Unmarshal([]byte(text), &v))
		require.NoError(t, compiled.Validate(v))
		require.True(t, document(t, text).Complete)
	}
	v := map[string]any{"schema": 7}
	require.Error(t, compiled.Validate(v), "a schema that refuses nothing proves nothing")
	var runs []map[string]any
	require.NoError(t, json.Unmarshal([]byte(s.ok("runs", "--json")), &runs))
	require.Len(t, runs, 4)
	require.Equal(t, "Breakwater N5", runs[0]["device"])
}

func TestClipsAreBuiltAndInspected(t *testing.T) {
	s := newSession(t)
	s.ok("clips", "build", "--out", "clips", "--seconds", "2", "mjpeg 240p25 4M", "mjpeg 360p29.97 6M")
	file := filepath.Join("clips", "mjpeg-240p25-4M-2s.mp4")
	var reports []map[string]any
	require.NoError(t, json.Unmarshal([]byte(s.ok("inspect", "--json", file, filepath.Join("clips", "mjpeg-360p29.97-6M-2s.mp4"))), &reports))
	require.Len(t, reports, 2)
	require.Equal(t, "mjpeg", reports[0]["codec"])
	require.Equal(t, "mp4", reports[0]["container"])
	require.EqualValues(t, 426, reports[0]["width"])
	require.EqualValues(t, 50, reports[0]["frames"])
	require.EqualValues(t, 1, reports[0]["key_distance"])
	require.InDelta(t, 2, reports[0]["duration_s"], 1e-6)
	require.InEpsilon(t, 4e6, reports[0]["bitrate_bps"], 0.05)
	require.InDelta(t, 29.97, reports[1]["frame_rate"], 0.001)
	table := s.ok("inspect", file)
	require.Contains(t, table, "426x240")
	sums := strings.Fields(s.ok("inspect", "--checksums", file))
	require.Len(t, sums, 50)
	require.Len(t, sums[0], 32)
	require.NotEqual(t, sums[0], sums[1])
}

// Clips are listed and verified against the manifest; what was changed is found.
func TestClipsAreListedAndVerified(t *testing.T) {
	s := newSession(t)
	s.ok("clips", "build", "--out", "clips", "--seconds", "1", "--scene", "kelp", "--container", "mkv", "--b-frames", "2", "h264 240p25 600k", "h264 240p25 10bit hdr 900k")
	list := s.ok("clips", "list", "clips")
	require.Contains(t, list, "h264-240p25-600k-1s-kelp-b2.mkv")
	require.Contains(t, list, "h264 240p25 10bit hdr 900k")
	var manifest struct {
		Clips []struct{ File, SHA256 string }
	}
	require.NoError(t, json.Unmarshal([]byte(s.ok("clips", "list", "--json", "clips")), &manifest))
	require.Len(t, manifest.Clips, 2)
	require.Equal(t, 2, strings.Count(s.ok("clips", "verify", "clips"), "● as made"))
	one := s.ok("inspect", filepath.Join("clips", manifest.Clips[0].File))
	for _, part := range []string{"h264 High 10", "BT.2020", "PQ", "2 in a row", "1000 cd/m2"} {
		require.Contains(t, one, part)
	}
	require.NoError(t, os.Truncate(filepath.Join(s.dir, "clips", manifest.Clips[1].File), 500))
	out, errOut, status := s.run("clips", "verify", "clips")
	require.Equal(t, 1, status)
	require.Contains(t, out, "× it has 500 bytes")
	require.Contains(t, errOut, "1 of 2 clips in clips are not as they were made")
	s.ok("clips", "build", "--out", "clips", "--seconds", "1", "--scene", "kelp", "--container", "mkv", "--b-frames", "2", "h264 240p25 600k")
	again := s.ok("clips", "list", "--json", "clips")
	require.Contains(t, again, manifest.Clips[1].SHA256, "the same order gives the same bytes")
}

// film copies a foreign stream into the session's folder.
func (s *session) film(name string) {
	data, err := os.ReadFile("../core/media/codec/h264/testdata/" + name)
	require.NoError(s.t, err)
	require.NoError(s.t, os.MkdirAll(filepath.Join(s.dir, "films"), 0o777))
	require.NoError(s.t, os.WriteFile(filepath.Join(s.dir, "films", name), data, 0o666))
}

func TestFilesKeepTheirPicturesInEveryContainer(t *testing.T) {
	s := newSession(t)
	s.film("high-mbaff-cabac.264")
	text, err := os.ReadFile("../core/media/codec/h264/testdata/high-mbaff-cabac.264.md5")
	require.NoError(t, err)
	_, want, _ := strings.Cut(string(text), "\n")
	require.Equal(t, want, s.ok("inspect", "--checksums", "films/high-mbaff-cabac.264"))
	from := "films/high-mbaff-cabac.264"
	for _, to := range []string{"films/a.ts", "films/b.mkv", "films/c.mp4"} {
		require.Equal(t, to+"\n", s.ok("rewrap", from, to))
		require.Equal(t, want, s.ok("inspect", "--checksums", to))
		from = to
	}
	require.Equal(t, "films/d.mp4\n", s.ok("rewrap", "--fragmented", from, "films/d.mp4"))
	require.Equal(t, want, s.ok("inspect", "--checksums", "films/d.mp4"))
	one := s.ok("inspect", "films/c.mp4")
	for _, part := range []string{"h264 High @ 2.1", "208x160, interlaced (MBAFF), 8 bit 4:2:0", "30 frames/s, constant", "closed GOPs", "CABAC", "h264 208x160i30"} {
		require.Contains(t, one, part)
	}
	table := strings.Split(s.ok("inspect", "films/a.ts", "films/b.mkv", "films/c.mp4"), "\n")
	require.Contains(t, table[1], "208x160i30")
	require.Contains(t, table[2], "mkv")
}

// A folder of mixed files and a load line: each becomes a rung at its place.
func TestEngineClimbsOverFiles(t *testing.T) {
	s := newSession(t)
	for _, name := range []string{"high-640.264", "baseline-ip.264", "high10-420.264"} {
		s.film(name)
	}
	require.NoError(t, os.WriteFile(filepath.Join(s.dir, "films", "broken.mp4"), []byte("no film"), 0o666))
	out, errOut, status := s.run("climb", "--once", "--json", "--hold", "1500ms", "--settle", "500ms", "--baseline", "0s", "--clips", "clips", "films", "mjpeg 240p25 4M")
	require.Zero(t, status, errOut)
	require.Contains(t, errOut, "skipped films/broken.mp4")
	d := document(t, out)
	require.True(t, d.Complete)
	var rungs []string
	for _, r := range d.Rungs {
		rungs = append(rungs, r.Column+": "+r.Load.String()+" "+filepath.Base(r.File))
		require.NotEmpty(t, r.Attempts)
		require.Zero(t, r.Attempts[0].Frames.Damaged)
	}
	require.Equal(t, []string{"mjpeg: mjpeg 240p25 4M .", "h264: h264 176x144p30 336k baseline-ip.264",
		"h264: h264 360p30 1.12M high-640.264", "h264-10bit: h264 208x160p30 10bit 2.85M high10-420.264"}, rungs)
	require.Contains(t, s.ok("show"), "high-640.264: h264 360p30 1.12M")
}

func TestEngineClimbs(t *testing.T) {
	s := newSession(t)
	d := document(t, s.ok("climb", "--once", "--json", "--hold", "3s", "--settle", "500ms", "--baseline", "1s", "--clips", "clips", "mjpeg 240p10 1M", "mjpeg 240p25 4M"))
	require.True(t, d.Complete)
	require.Equal(t, "engine", d.Route.Kind)
	for _, r := range d.Rungs {
		for _, a := range r.Attempts {
			require.Equal(t, int(2.5*r.Load.Rate.Hz()), a.Frames.Due)
			require.Zero(t, a.Frames.Wrong)
			require.Contains(t, a.Use, "cpu_pct")
			require.Contains(t, a.Use, "group_cpu_pct")
			require.Contains(t, a.Use, "cpu_core_pct:0")
		}
	}
	require.NotEmpty(t, d.Baseline.Readings)
	require.Contains(t, s.ok("show"), "mjpeg 240p25 4M")
}

func TestKilledRunIsKeptAndResumed(t *testing.T) {
	t.Parallel()
	s := newSession(t)
	c := s.command("climb", "--hold", "3s", "--settle", "500ms", "--baseline", "0s", "--clips", "clips", "mjpeg 240p10 1M", "mjpeg 240p12.5 1M", "mjpeg 240p25 4M")
	var childErr bytes.Buffer
	c.Stderr = &childErr
	require.NoError(t, c.Start())
	// Two attempts have ended and the third runs.
	require.Eventually(t, func() bool {
		out, _, status := s.run("show", "--json")
		if status != 0 {
			return false
		}
		d := document(t, out)
		return d.Attempts() == 2
	}, 60*time.Second, 100*time.Millisecond, "%s", &childErr)
	_, errOut, status := s.run("climb", "--device", "skerry-s1")
	require.Equal(t, 1, status, "two runs at once")
	require.Contains(t, errOut, "another run is being measured")
	require.Contains(t, s.ok("show"), "still goes on")
	require.Contains(t, s.ok("runs"), "running")
	time.Sleep(time.Second)
	require.NoError(t, c.Process.Signal(syscall.SIGKILL))
	require.Error(t, c.Wait())

	d := document(t, s.ok("show", "--json"))
	require.False(t, d.Complete)
	require.Equal(t, 2, d.Attempts())
	require.Contains(t, s.ok("show"), "interrupted")
	d = document(t, s.ok("climb", "--resume", "--json"))
	require.True(t, d.Complete)
	stopped := d.Rungs[2].Attempts[0]
	require.EqualValues(t, "void", stopped.Verdict, "what was killed says nothing of the device")
	require.Equal(t, []string{"the program was killed during it"}, stopped.Reasons)
	require.Greater(t, len(d.Rungs[2].Attempts), 1)
	_, errOut, status = s.run("climb", "--resume")
	require.Equal(t, 2, status)
	require.Contains(t, errOut, "nothing to resume")
}

func TestInterruptKeepsWhatThereIs(t *testing.T) {
	t.Parallel()
	s := newSession(t)
	c := s.command("climb", "--hold", "30s", "--baseline", "1s", "--clips", "clips", "mjpeg 240p25 4M")
	var errOut bytes.Buffer
	c.Stderr = &errOut
	require.NoError(t, c.Start())
	require.Eventually(t, func() bool {
		_, _, status := s.run("show")
		return status == 0
	}, 60*time.Second, 100*time.Millisecond)
	time.Sleep(1500 * time.Millisecond)
	require.NoError(t, c.Process.Signal(os.Interrupt))
	require.Error(t, c.Wait())
	require.Equal(t, 130, c.ProcessState.ExitCode(), errOut.String())
	require.Contains(t, errOut.String(), "interrupted; everything so far is kept")
	require.False(t, document(t, s.ok("show", "--json")).Complete)
}

func TestBadInputIsOneClearLine(t *testing.T) {
	s := newSession(t)
	s.write("empty.mp4", "")
	s.write("garbage.mp4", strings.Repeat("garbage! ", 1000))
	s.write("huge.mp4", "\x00\x00\x00\x10ftypiso6\x00\x00\x00\x00\xff\xff\xff\xf0moov....")
	s.write("letter.txt", "Dear purser, the boxes are here.\n")
	s.write("bad.yaml", "name: a\ncolumns:\n  - name: b\n    rungs: [h999 1080p30 4M]\n")
	s.write("device.yaml", "name: x\ncores: 0\n")
	s.ok("climb", "--device", "skerry-s1", "h264 720p25 5M")
	s.ok("clips", "build", "--out", ".", "--seconds", "1", "mjpeg 240p25 4M")
	whole, err := os.ReadFile(filepath.Join(s.dir, "mjpeg-240p25-4M-1s.mp4"))
	require.NoError(t, err)
	s.write("cut.mp4", string(whole[:len(whole)/2]))
	for _, c := range []struct {
		args   string
		status int
		want   string
	}{
		{"climb|h999 1080p30 4M", 2, "at \"h999\": unknown codec; known are mjpeg"},
		{"climb|mjpeg 1081p30 4M", 2, "unknown size \"1081p\""},
		{"climb|av1 1080p30 4M", 2, "av1 clips cannot be made here yet"},
		{"climb|mjpeg 1080p30 10bit 40M", 2, "8 bits a sample, not 10"},
		{"climb|--ladder|nowhere", 2, "there is no built-in ladder \"nowhere\""},
		{"climb|--ladder|bad.yaml", 2, "bad.yaml: line 4: load line"},
		{"climb|--ladder|lounge|mjpeg 240p25 4M", 2, "not both"},
		{"climb|--device|nothing", 2, "there is no built-in device"},
		{"climb|--device|device.yaml", 2, "cores must be 1 to 1024, not 0"},
		{"climb|--hold|soon", 2, "soon"},
		{"climb|--hold|10ms|mjpeg 240p25 4M", 2, "held for 1s to"},
		{"climb|--late|never|mjpeg 240p25 4M", 2, "not \"never\""},
		{"climb|--criterion|smooth.beauty=1|mjpeg 240p25 4M", 2, "unknown criterion"},
		{"climb|--wings", 2, "wings"},
		{"fly", 2, "there is no command \"fly\""},
		{"convert|letter.txt|--goal|480p 1M", 2, "no video file of a kind that is read here"},
		{"convert|cut.mp4|--goal|144p 0.2M", 2, "cut.mp4: damaged mp4 at byte"},
		{"rewrap|letter.txt|a.ts", 2, "no video file of a kind that is read here"},
		{"runs|all", 2, "takes no argument"},
		{"--logbook|empty.db|show", 2, "there is no such logbook yet"},
		{"show|2020", 2, "no such run"},
		{"ladders|show|none", 2, "there are"},
		{"devices|show|none", 2, "there are"},
		{"inspect", 2, "which file?"},
		{"inspect|absent.mp4", 2, "absent.mp4: no such file"},
		{"inspect|empty.mp4", 2, "empty.mp4: the file is empty"},
		{"inspect|garbage.mp4", 2, "no video file of a kind that is read here"},
		{"inspect|huge.mp4", 2, "huge.mp4: damaged mp4 at byte 16"},
		{"inspect|cut.mp4", 2, "cut.mp4: damaged mp4 at byte"},
		{"inspect|--checksums|cut.mp4", 2, "cut.mp4: damaged mp4 at byte"},
		{"inspect|letter.txt", 2, "no video file"},
		{"inspect|.", 2, "it is a folder"},
		{"climb|absent.mkv", 2, "absent.mkv: there is no such file or folder"},
		{"climb|letter.txt", 2, "no video file"},
		{"rewrap|cut.mp4", 2, "and to where?"},
		{"rewrap|cut.mp4|cut.avi", 2, "cut.avi: no files of this kind are written here (.mp4, .mkv, .ts are)"},
		{"rewrap|garbage.mp4|a.mkv", 2, "no video file"},
		{"rewrap|letter.txt|letter.txt", 2, "no files of this kind"},
		{"rewrap|mjpeg-240p25-4M-1s.mp4|./mjpeg-240p25-4M-1s.mp4", 2, "is the source itself"},
		{"climb|--device|skerry-s1|--url|http://a/b|mjpeg 240p25 4M", 2, "--device does nothing on the route server"},
		{"climb|--resume|20200101-000000-none", 2, "no such run"},
		{"clips|build|{klip}.mp4", 2, "load line"},
		{"--logbook|letter.txt|runs", 2, "letter.txt: this file is not a logbook"},
		{"--logbook|letter.txt/below/book.db|runs", 2, "logbook letter.txt/below"},
		{"clips|build|--out|letter.txt/below|mjpeg 240p25 4M", 1, "not a directory"},
		{"clips|build|--seconds|0|mjpeg 240p25 4M", 2, "more than 0"},
		{"clips|build|--scene|desert|h264 240p25 1M", 2, "there are harbour, rain, kelp"},
		{"clips|build|--effort|heroic|h264 240p25 1M", 2, "fast or good"},
		{"clips|build|--b-frames|9|h264 240p25 1M", 2, "0 to 7, not 9"},
		{"clips|build|--container|avi|h264 240p25 1M", 2, "mp4, mkv or ts"},
		{"clips|build|--cavlc|mjpeg 240p25 4M", 2, "mjpeg codes every picture by itself; choose h264"},
		{"clips|build|h264 240p25 12bit 1M", 2, "8 or 10 bits a sample, not 12"},
		{"clips|build|h264 4320p25 90M", 2, "4096x2304"},
		{"clips|list|letter.txt", 2, "not a directory"},
		{"clips|verify|films", 2, "films has no manifest"},
	} {
		t.Run(c.args, func(t *testing.T) {
			out, errOut, status := s.run(strings.Split(c.args, "|")...)
			require.Equal(t, c.status, status, errOut)
			lines := strings.Split(strings.TrimSpace(errOut), "\n")
			lines = slices.DeleteFunc(lines, func(l string) bool { return strings.HasPrefix(l, "◐ Warning:") }) // of a busy computer
			require.Contains(t, lines[len(lines)-1], c.want)
			require.Len(t, lines, 1, errOut)
			if !strings.Contains(c.args, "--checksums") { // prints those of the pictures before the cut
				require.Empty(t, out)
			}
		})
	}
}

func TestFullDisk(t *testing.T) {
	if _, err := os.Stat("/dev/full"); err != nil {
		t.Skip("this system has no device that is always full")
	}
	s := newSession(t)
	c := s.command("runs")
	full, err := os.OpenFile("/dev/full", os.O_WRONLY, 0)
	require.NoError(t, err)
	defer full.Close()
	var errOut bytes.Buffer
	c.Stdout, c.Stderr = full, &errOut
	require.Error(t, c.Run())
	require.Equal(t, 1, c.ProcessState.ExitCode())
	require.Contains(t, errOut.String(), "no space left")
}

// A disk that becomes full while readings are recorded is told, and is no success.
func TestFullDiskWhileRecording(t *testing.T) {
	t.Parallel()
	s := newSession(t)
	s.ok("climb", "--device", "skerry-s1", "h264 720p25 5M") // makes the logbook
	// A bound on the size of files stands for a full disk: 100 blocks of 512 bytes.
	c := exec.Command("sh", "-c", "ulimit -f 100; trap '' XFSZ; exec \"$0\" watch --record --for 8s", program)
	c.Dir, c.Env = s.dir, s.env
	var errOut bytes.Buffer
	c.Stderr = &errOut
	require.Error(t, c.Run())
	require.Equal(t, 1, c.ProcessState.ExitCode(), errOut.String())
	require.Contains(t, errOut.String(), "is full; make room")
	require.Equal(t, 1, strings.Count(errOut.String(), "make room"))
	require.NotContains(t, errOut.String(), "The readings are run")
}

// What nobody writes to is not waited for.
func TestPipesAreNoFilms(t *testing.T) {
	s := newSession(t)
	require.NoError(t, exec.Command("mkfifo", filepath.Join(s.dir, "pipe.mp4")).Run())
	for _, args := range [][]string{{"inspect", "pipe.mp4"}, {"climb", "pipe.mp4"}, {"convert", "pipe.mp4", "--goal", "144p 0.2M"}, {"rewrap", "pipe.mp4", "a.ts"}} {
		_, errOut, status := s.run(args...)
		require.Equal(t, 2, status)
		require.Contains(t, errOut, "it is not an ordinary file")
	}
}

func TestEveryHelpHasExamplesThatParse(t *testing.T) {
	s := newSession(t)
	for _, name := range []string{"demo", "climb", "runs", "show", "ladders", "clips", "clips build", "clips list", "clips verify", "inspect", "rewrap", "devices", "convert", "crowd", "serve", "sensors", "watch", "note", "trust", "schema"} {
		help := s.ok(append(strings.Fields(name), "--help")...)
		_, examples, found := strings.Cut(help, "Examples:")
		require.True(t, found, name)
		require.Contains(t, examples, "vividstrain ")
	}
}
