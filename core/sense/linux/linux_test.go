package linux

import (
	"bufio"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/tools/txtar"

	"vividstrain/core/clock"
	"vividstrain/core/sense"
)

// machine unpacks the files of a made-up machine below dir; what is below
// later/ is how they are a second after.
func machine(t testing.TB, name, dir string) (roots Roots, pass func(), sections map[string]string) {
	archive, err := txtar.ParseFile(filepath.Join("testdata", name+".txtar"))
	require.NoError(t, err)
	sections = map[string]string{}
	write := func(path string, data []byte) {
		path = filepath.Join(dir, path)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o777))
		require.NoError(t, os.WriteFile(path, data, 0o666))
	}
	for _, f := range archive.Files {
		if strings.HasPrefix(f.Name, "proc/") || strings.HasPrefix(f.Name, "sys/") {
			write(f.Name, f.Data)
		} else {
			sections[f.Name] = string(f.Data)
		}
	}
	for l := range strings.Lines(sections["links"]) {
		from, to, found := strings.Cut(strings.TrimSpace(l), " ")
		if !found {
			continue
		}
		require.NoError(t, os.MkdirAll(filepath.Join(dir, filepath.Dir(from)), 0o777))
		require.NoError(t, os.Symlink(to, filepath.Join(dir, from)))
	}
	pass = func() {
		for name, data := range sections {
			if path, later := strings.CutPrefix(name, "later/"); later {
				write(path, []byte(data))
			}
		}
	}
	return Roots{filepath.Join(dir, "proc"), filepath.Join(dir, "sys")}, pass, sections
}

// readAll reads all sources once.
func readAll(t testing.TB, sources []sense.Source, now time.Time) map[string]float64 {
	values := map[string]float64{}
	for _, s := range sources {
		list, _ := s.Sample(t.Context(), now, nil)
		for _, r := range list {
			require.NotContains(t, values, r.Key(), s.Name())
			values[r.Key()] = r.Value
		}
	}
	return values
}

// A desktop, a board and a storage box are read as they are; what they lack is
// absent with its reason, never zero.
func TestThreeMachines(t *testing.T) {
	for _, c := range []struct {
		name string
		pid  int
	}{{"desktop", 100}, {"board", 30}, {"nas", 4000}} {
		t.Run(c.name, func(t *testing.T) {
			roots, pass, sections := machine(t, c.name, t.TempDir())
			group := &Group{}
			group.Watch(c.pid)
			sources := Under(roots, group)
			now := time.Unix(1e9, 0)
			first := readAll(t, sources, now)
			require.NotContains(t, first, sense.CPU, "a rate needs two samples")
			pass()
			values := readAll(t, sources, now.Add(time.Second))
			lines := bufio.NewScanner(strings.NewReader(sections["want"]))
			for lines.Scan() {
				i := strings.LastIndexByte(lines.Text(), ' ')
				key, want := lines.Text()[:i], lines.Text()[i+1:]
				if want == "absent" {
					require.NotContains(t, values, key)
					continue
				}
				v, err := strconv.ParseFloat(want, 64)
				require.NoError(t, err)
				require.Contains(t, values, key)
				require.InEpsilon(t, 1+v, 1+values[key], 1e-6, "%s: %g instead of %g", key, values[key], v)
			}
			absent := fmt.Sprint(sense.Absences(sources))
			for l := range strings.Lines(sections["absent"]) {
				quantity, remedy, _ := strings.Cut(strings.TrimSpace(l), " ")
				require.Contains(t, absent, "{"+quantity+" ")
				require.Contains(t, absent, remedy)
			}
			for l := range strings.Lines(sections["facts"]) {
				name, want, _ := strings.Cut(strings.TrimSpace(l), " ")
				require.Equal(t, want, sense.States(sources)[name], name)
			}
			for _, a := range sense.Absences(sources) {
				require.NotContains(t, values, a.Quantity)
				require.NotEmpty(t, a.Why)
				require.NotEmpty(t, a.Remedy)
			}
		})
	}
}

// Helpers count with the player that started them: those that nobody saw, too,
// and those that outlive it.
func TestHelpersCount(t *testing.T) {
	dir := t.TempDir()
	put := func(pid, parent int, begun, ticks, childTicks int) {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, strconv.Itoa(pid)), 0o777))
		text := fmt.Sprintf("%d (p %d) x) S %d 0 0 0 0 0 0 0 0 0 %d 0 %d 0 20 0 1 0 %d 0 10", pid, pid, parent, ticks, childTicks, begun)
		require.NoError(t, os.WriteFile(filepath.Join(dir, strconv.Itoa(pid), "stat"), []byte(text), 0o666))
	}
	group := &Group{}
	group.Watch(10)
	s := newProcesses(Roots{Proc: dir}, group, 4096)
	now := time.Unix(1e9, 0)
	cpu := func() (float64, float64) {
		now = now.Add(time.Second)
		list, err := s.Sample(t.Context(), now, nil)
		require.NoError(t, err)
		values := map[string]float64{}
		for _, r := range list {
			values[r.Quantity] = r.Value
		}
		return values[sense.GroupCPU], values[sense.GroupSize]
	}
	put(10, 1, 5, 100, 0)
	put(11, 10, 6, 1000, 0) // was there before
	cpu()
	put(10, 1, 5, 110, 0)
	put(12, 11, 7, 30, 0) // is new: all of its time counts
	used, size := cpu()
	require.InDelta(t, 40, used, 1e-6)
	require.Equal(t, 3.0, size)
	require.NoError(t, os.RemoveAll(filepath.Join(dir, "12")))
	put(11, 10, 6, 1000, 50) // the helper took 20 ticks more before it ended
	used, size = cpu()
	require.InDelta(t, 20, used, 1e-6)
	require.Equal(t, 2.0, size)
	put(11, 10, 6, 1000, 75) // another came and went unseen
	used, _ = cpu()
	require.InDelta(t, 25, used, 1e-6)
	put(12, 1, 99, 5000, 0) // the number is used again, by a stranger
	used, size = cpu()
	require.InDelta(t, 0, used, 1e-6)
	require.Equal(t, 2.0, size)
	require.NoError(t, os.RemoveAll(filepath.Join(dir, "10")))
	put(11, 1, 6, 1010, 75)
	used, size = cpu()
	require.InDelta(t, 10, used, 1e-6, "a helper that outlives the player still counts")
	require.Equal(t, 1.0, size)
	require.NoError(t, os.RemoveAll(filepath.Join(dir, "11")))
	_, err := s.Sample(t.Context(), now.Add(time.Second), nil)
	require.ErrorIs(t, err, errNobody)
}

// Others are neither the watched processes with their helpers, nor those set aside, nor the
// kernel's threads, nor the display server; short-lived ones count by their parents.
func TestOthers(t *testing.T) {
	dir := t.TempDir()
	spent, all := map[int]int{}, 0
	put := func(pid, parent, ticks, childTicks int) {
		all, spent[pid] = all+ticks+childTicks-spent[pid], ticks+childTicks
		require.NoError(t, os.WriteFile(filepath.Join(dir, "stat"), fmt.Appendf(nil, "cpu  %d 2 3\ncpu0 1 2 3\ncpu1 1 2 3\nintr 1\n", all), 0o666))
		require.NoError(t, os.MkdirAll(filepath.Join(dir, strconv.Itoa(pid), "fd"), 0o777))
		text := fmt.Sprintf("%d (p) S %d 0 0 0 0 0 0 0 0 0 %d 0 %d 0 20 0 1 0 7 0 10", pid, parent, ticks, childTicks)
		require.NoError(t, os.WriteFile(filepath.Join(dir, strconv.Itoa(pid), "stat"), []byte(text), 0o666))
	}
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "net"), 0o777))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "net", "unix"), []byte("Num RefCount Protocol Flags Type St Inode Path\n"+
		"0: 00000002 00000000 00010000 0001 01 4242 /tmp/.X11-unix/X0\n0: 00000003 00000000 00000000 0001 03 4243 /tmp/.X11-unix/X0\n"), 0o666))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "net", "tcp"), []byte("sl local rem st tx tr ret uid timeout inode\n"+
		"0: 0100007F:1F90 00000000:0000 0A 0 0 0 0 0 777 1\n1: 0100007F:1F90 0100007F:9999 01 0 0 0 0 0 778 1\n"), 0o666))
	group := &Group{}
	group.Watch(10)
	group.SetAside(30)
	s := newProcesses(Roots{Proc: dir}, group, 4096)
	now := time.Unix(1e9, 0)
	others := func() (pct float64, named []string) {
		now = now.Add(time.Second)
		list, err := s.Sample(t.Context(), now, nil)
		require.NoError(t, err)
		pct = -1
		for _, r := range list {
			switch r.Quantity {
			case sense.OthersCPU:
				pct = r.Value
			case sense.OtherCPU:
				named = append(named, r.Label)
			}
		}
		return pct, named
	}
	for _, pid := range []int{1, 10, 20, 30, 50} {
		put(pid, 1, 1000, 0)
	}
	put(2, 0, 0, 0)
	put(40, 2, 1000, 0)  // a thread of the kernel
	put(31, 30, 1000, 0) // a helper of what was set aside
	require.NoError(t, os.Symlink("socket:[4242]", filepath.Join(dir, "50", "fd", "3")))
	require.NoError(t, os.Symlink("socket:[4243]", filepath.Join(dir, "20", "fd", "3"))) // a client of it
	require.NoError(t, os.Symlink("socket:[777]", filepath.Join(dir, "30", "fd", "9")))
	pct, _ := others()
	require.Equal(t, -1.0, pct, "nothing is known yet")
	for _, pid := range []int{10, 20, 30, 50} {
		put(pid, 1, 1050, 0)
	}
	put(31, 30, 1100, 0)
	put(40, 2, 1100, 0)
	put(60, 20, 30, 0)
	pct, named := others()
	require.InDelta(t, 100*0.8/2, pct, 1e-6)
	require.Equal(t, []string{"p 20", "p 60"}, named)
	require.NoError(t, os.RemoveAll(filepath.Join(dir, "60")))
	put(20, 1, 1050, 60) // 30 ticks of the one that was seen, and 30 that nobody saw
	pct, _ = others()
	require.InDelta(t, 100*0.3/2, pct, 1e-6)
	put(50, 1, 1051, 0) // the display server, but so little that nobody looks who it was
	pct, named = others()
	require.InDelta(t, 100*0.01/2, pct, 1e-6)
	require.Empty(t, named)
	put(20, 1, 1090, 60)
	pct, named = others()
	require.InDelta(t, 100*0.39/2, pct, 1e-6, "without what was counted while it was little")
	require.Equal(t, []string{"p 20"}, named)
	require.Equal(t, []int{30}, listeners(dir, 8080))
	require.Empty(t, listeners(dir, 8081))
}

// What sources lack and how the device is set may be asked while they are read.
func TestSourcesAreAskedWhileTheyAreRead(t *testing.T) {
	roots, _, _ := machine(t, "nas", t.TempDir())
	sources := Under(roots, &Group{})
	facts, absent := sense.States(sources), sense.Absences(sources)
	s := sense.Start(t.Context(), clock.Real{}, time.Millisecond, sources, func(sense.Sample) {})
	defer s.Stop()
	for range 300 {
		require.Equal(t, facts, sense.States(sources))
		require.Equal(t, absent, sense.Absences(sources))
	}
}

// Files may hold anything at all.
func TestNonsenseInFilesIsSurvived(t *testing.T) {
	for _, text := range []string{"", "\n", "cpu", "cpu 1 x", strings.Repeat("9", 400), "some avg10=0.00 total=-1\n", "a: b c\n\x00\xff", strings.Repeat("a b\n", 100000)} {
		dir := t.TempDir()
		roots, pass, sections := machine(t, "desktop", dir)
		group := &Group{}
		group.Watch(100)
		sources := Under(roots, group)
		readAll(t, sources, time.Unix(1e9, 0))
		pass()
		require.NoError(t, filepath.WalkDir(dir, func(path string, e os.DirEntry, err error) error {
			if err == nil && e.Type().IsRegular() {
				err = os.WriteFile(path, []byte(text), 0o666)
			}
			return err
		}))
		for key, v := range readAll(t, sources, time.Unix(1e9+1, 0)) {
			require.False(t, v != v, key)
			require.GreaterOrEqual(t, v, 0.0, key)
		}
		readAll(t, Under(roots, group), time.Unix(1e9, 0)) // found so at the start
		require.NotEmpty(t, sections)
	}
}

// BenchmarkBigMachine reads a machine with 64 cores and 400 processes.
func BenchmarkBigMachine(b *testing.B) {
	dir := b.TempDir()
	roots, _, _ := machine(b, "desktop", dir)
	stat := "cpu  1 2 3 4 5 6 7 8 0 0\n"
	for i := range 64 {
		stat += fmt.Sprintf("cpu%d 1 2 3 4 5 6 7 8 0 0\n", i)
	}
	require.NoError(b, os.WriteFile(filepath.Join(roots.Proc, "stat"), []byte(stat), 0o666))
	for pid := 1000; pid < 1400; pid++ {
		require.NoError(b, os.Mkdir(filepath.Join(roots.Proc, strconv.Itoa(pid)), 0o777))
		text := fmt.Sprintf("%d (some) S 1 0 0 0 0 0 0 0 0 0 100 0 0 0 20 0 1 0 77 0 10", pid)
		require.NoError(b, os.WriteFile(filepath.Join(roots.Proc, strconv.Itoa(pid), "stat"), []byte(text), 0o666))
	}
	group := &Group{}
	group.Watch(100)
	sources := Under(roots, group)
	now, n := time.Unix(1e9, 0), 0
	b.ReportAllocs()
	var list []sense.Reading
	for b.Loop() {
		now = now.Add(time.Second) // so that all processes are looked at each time
		for _, s := range sources {
			list, _ = s.Sample(b.Context(), now, list[:0])
		}
		n++
	}
	b.ReportMetric(1e3*b.Elapsed().Seconds()/float64(n), "ms/sample")
}
