package linux

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vividstrain/core/sense"
)

// tree writes files below a folder.
func tree(t testing.TB, dir string, files map[string]string) Roots {
	for name, text := range files {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o777))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o666))
	}
	return Roots{filepath.Join(dir, "proc"), filepath.Join(dir, "sys")}
}

// What the watched processes are held to is read from control groups of both
// versions, the tightest limit up to the root.
func TestLimits(t *testing.T) {
	player := "10 (player) S 1 0 0 0 0 0 0 0 0 0 5 0 0 0 20 0 1 0 77 0 10"
	for name, c := range map[string]struct {
		now, later map[string]string
		want       map[string]float64
	}{
		"version 2": {
			map[string]string{"proc/10/cgroup": "0::/boats/lounge\n",
				"sys/fs/cgroup/boats/lounge/memory.max": "200000000\n", "sys/fs/cgroup/boats/lounge/memory.current": "90000000\n",
				"sys/fs/cgroup/boats/lounge/memory.stat": "anon 1\ninactive_file 10000000\n", "sys/fs/cgroup/boats/memory.max": "max\n",
				"sys/fs/cgroup/boats/cpu.max": "150000 100000\n", "sys/fs/cgroup/boats/lounge/cpu.max": "max 100000\n",
				"sys/fs/cgroup/boats/cpu.stat": "usage_usec 5\nthrottled_usec 1000000\n"},
			map[string]string{"sys/fs/cgroup/boats/cpu.stat": "usage_usec 5\nthrottled_usec 1500000\n"},
			map[string]float64{sense.GroupMemLimit: 2e8, sense.GroupCharged: 8e7, sense.GroupCPULimit: 150, sense.HeldBack: 25},
		},
		"version 1": {
			map[string]string{"proc/10/cgroup": "4:memory:/lounge\n3:cpu,cpuacct:/lounge\n0::/\n",
				"sys/fs/cgroup/memory/lounge/memory.limit_in_bytes": "100000000", "sys/fs/cgroup/memory/lounge/memory.usage_in_bytes": "95000000",
				"sys/fs/cgroup/memory/memory.limit_in_bytes":            "9223372036854771712",
				"sys/fs/cgroup/cpu,cpuacct/lounge/cpu.cfs_quota_us":     "50000",
				"sys/fs/cgroup/cpu,cpuacct/lounge/cpu.cfs_period_us":    "100000",
				"sys/fs/cgroup/cpu,cpuacct/lounge/cpu.stat":             "nr_throttled 5\nthrottled_time 0\n",
				"sys/fs/cgroup/cpu,cpuacct/cpu.cfs_quota_us":            "-1",
				"sys/fs/cgroup/memory/lounge/memory.stat":               "cache 5\n",
				"sys/fs/cgroup/cpu,cpuacct/cpu.cfs_period_us":           "100000",
				"sys/fs/cgroup/memory/lounge/memory.max_usage_in_bytes": "0"},
			map[string]string{"sys/fs/cgroup/cpu,cpuacct/lounge/cpu.stat": "nr_throttled 9\nthrottled_time 2000000000\n"},
			map[string]float64{sense.GroupMemLimit: 1e8, sense.GroupCharged: 9.5e7, sense.GroupCPULimit: 50, sense.HeldBack: 100},
		},
		"one core of two": {map[string]string{"proc/10/status": "Name:\tplayer\nCpus_allowed:\t2\nCpus_allowed_list:\t1\nMems_allowed:\t1\n", "proc/stat": "cpu  1\ncpu0 1\ncpu1 1\n",
			"proc/10/cgroup": "0::/lounge\n", "sys/fs/cgroup/lounge/cpu.max": "150000 100000\n"},
			nil, map[string]float64{sense.GroupCPULimit: 100}},
		"more cores than there are": {map[string]string{"proc/10/status": "Cpus_allowed_list:\t0-7,16\n", "proc/stat": "cpu  1\ncpu0 1\ncpu1 1\n"},
			nil, map[string]float64{}},
		"no limits": {map[string]string{"proc/10/cgroup": "0::/\n"}, nil, map[string]float64{}},
		"a way out": {map[string]string{"proc/10/cgroup": "0::/../../etc\n4:memory:/..\n"}, nil, map[string]float64{}},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			roots := tree(t, dir, c.now)
			tree(t, dir, map[string]string{"proc/10/stat": player})
			group := &Group{}
			group.Watch(10)
			processes := newProcesses(roots, group, 4096)
			limits := newLimits(roots, group)
			now := time.Unix(1e9, 0)
			readAll(t, []sense.Source{processes, limits}, now)
			tree(t, dir, c.later)
			list, err := limits.Sample(t.Context(), now.Add(2*time.Second), nil)
			require.NoError(t, err)
			got := map[string]float64{}
			for _, r := range list {
				got[r.Key()] = r.Value
			}
			require.Equal(t, c.want, got)
		})
	}
}

// Whatever a file of the kernel holds, the sources read on: nothing panics, and
// what they give are numbers.
func FuzzKernelFiles(f *testing.F) {
	names := []string{"proc/stat", "proc/meminfo", "proc/vmstat", "proc/pressure/cpu", "proc/diskstats", "proc/net/dev", "proc/10/stat", "proc/10/cgroup",
		"proc/10/task/10/schedstat", "proc/10/fdinfo/3", "proc/10/smaps_rollup", "sys/class/drm/card0/device/pp_dpm_sclk", "sys/class/hwmon/hwmon0/temp1_input"}
	for i, text := range []string{"cpu  1 2 3 4 5 6 7 8\ncpu0 1 2 3 4 5 6 7 8\n", "MemTotal: 5 kB\n", "pswpin 4\n", "some avg10=0 total=7\n", "8 0 sda 1 2 3 4 5 6 7 8 9 10 11\n",
		"eth0: 1 2 3 4 5 6 7 8 9 10 11 12\n", "10 (a b) S 1 0 0 0 0 0 0 0 0 0 5 0 0 0 20 0 1 0 77 0 10", "0::/a\n", "1000 2 3", "drm-client-id: 4\ndrm-engine-dec: 7 ns\n", "Rss: 1 kB\nPss: 3 kB\n", "1: 800Mhz *\n", "45000\n"} {
		f.Add(uint8(i), text, text)
	}
	dir := f.TempDir()
	roots := tree(f, dir, map[string]string{"sys/class/hwmon/hwmon0/name": "coretemp", "sys/class/hwmon/hwmon0/temp1_input": "1", "sys/block/sda/size": "1",
		"sys/class/drm/card0/device/pp_dpm_sclk": "1", "proc/10/stat": "10 (p) S 1 0 0 0 0 0 0 0 0 0 5 0 0 0 20 0 1 0 77 0 10", "proc/10/fd/x": ""})
	require.NoError(f, os.Symlink("/dev/dri/card0", filepath.Join(dir, "proc/10/fd/3")))
	f.Fuzz(func(t *testing.T, which uint8, first, second string) {
		name := names[int(which)%len(names)]
		group := &Group{}
		group.Watch(10)
		tree(t, dir, map[string]string{name: first})
		sources := Under(roots, group)
		now := time.Unix(1e9, 0)
		for i, text := range []string{first, second, first} {
			tree(t, dir, map[string]string{name: text})
			for _, s := range sources {
				list, _ := s.Sample(t.Context(), now.Add(time.Duration(i)*time.Second), nil)
				for _, r := range list {
					require.Equal(t, r.Value, r.Value, fmt.Sprint(s.Name(), r))
				}
			}
		}
	})
}
