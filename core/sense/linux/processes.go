package linux

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"sync"
	"time"

	"vividstrain/core/cputime"
	"vividstrain/core/sense"
)

// Group is the set of watched processes: those that were named, and all that they start. It is
// safe for several goroutines.
type Group struct {
	mu    sync.Mutex
	roots []int
	name  string // of processes that count as roots, too
	found []int  // process numbers of all running members
	aside []int  // roots of processes that are neither watched nor others
	fresh bool   // the roots are others than at the last look
}

// SetAside names processes that belong to the measurement, though they are not watched: neither
// they nor what they start count as others.
func (g *Group) SetAside(pids ...int) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.aside = slices.Clone(pids)
}

func (g *Group) isAside(pid int) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	return slices.Contains(g.aside, pid)
}

// holds reports whether a process is a running member.
func (g *Group) holds(pid int) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	return slices.Contains(g.found, pid)
}

// first returns the number of a running member, if there is one.
func (g *Group) first() (pid int, any bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if len(g.found) == 0 {
		return 0, false
	}
	return g.found[0], true
}

// find stores the running members.
func (g *Group) find(members []*task) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.found = g.found[:0]
	for _, t := range members {
		g.found = append(g.found, t.pid)
	}
}

// Watch makes processes the roots of the group, by number.
func (g *Group) Watch(pids ...int) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.roots, g.fresh = slices.Clone(pids), true
}

// renewed reports, once, whether the roots are others than at the last look.
func (g *Group) renewed() (is bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	is, g.fresh = g.fresh, false
	return is
}

// isEmpty reports whether no process is to be watched.
func (g *Group) isEmpty() bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	return len(g.roots) == 0 && g.name == ""
}

// WatchName makes all processes of a name roots.
func (g *Group) WatchName(name string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.name = name
}

func (g *Group) is(pid int, name string) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	return slices.Contains(g.roots, pid) || g.name != "" && name == g.name
}

// processSource reads the watched processes, and who else keeps the cores busy, from proc/PID
// (proc_pid_stat(5)). Processes are assigned to their parents once a second, so that helpers
// count.
type processSource struct {
	files
	proc     string
	pageSize float64
	group    *Group

	all     map[int]*task // every process that was seen
	members []*task
	busiest []sense.Reading // of the processes that are not watched
	others  float64         // share of all cores that processes outside the group take together, in percent; negative: not known yet
	reaped  counter         // processor seconds of their ended children
	cores   float64
	display []int     // numbers of the display servers
	looked  time.Time // when the display servers were last looked for
	threads []*thread // of the watched ones, those that worked
	sorted  []*task   // the watched ones, the largest first
	pids    folder    // proc
	stats   string    // proc/stat
	busy    counter   // processor seconds of all cores
	spent   float64   // processor seconds of the group so far
	known   counter   // those at the last scan
	counted time.Time // when the other processes were last read
	little  float64   // seconds that they took together since then
	gone    float64   // seconds of those among them that have ended
	at      time.Time
	scanned time.Time
	sized   time.Time
	sizing  time.Duration // what reading the proportional memory took the last time
	pss     float64
	ended   counter // seconds of the members' children that have ended
}

// task is a process.
type task struct {
	pid, parent  int
	name         string
	begun        float64 // ticks since the system started; distinguishes processes that reuse a number
	member, seen bool
	cpu          float64 // seconds up to the last sample
	taken        float64 // seconds already counted for the group
	listed       float64 // seconds already counted for the list of the busiest
	children     float64 // seconds of children that have ended
	faults, took float64
	rss          float64
	label        string // name and number, "" until it is needed
	stat         string // path of proc/PID/stat
	tasks        folder // proc/PID/task
	threads      map[int]*thread
}

// thread is a thread of a watched process.
type thread struct {
	folder, times string  // proc/PID/task/ID and its file schedstat
	used          float64 // seconds up to the last sample
	share         float64 // of a core since the sample before, in percent
	label         string  // name and number, "" until it is needed
	seen          bool
}

func newProcesses(r Roots, g *Group, pageSize int) *processSource {
	return &processSource{proc: r.Proc, pageSize: float64(pageSize), group: g, all: map[int]*task{}, others: -1,
		pids: folder{path: r.Proc}, stats: filepath.Join(r.Proc, "stat")}
}

func (*processSource) Kind() string { return sense.System }

func (*processSource) Name() string { return "processes" }

const (
	scanEvery    = time.Second     // new processes are looked for
	countEvery   = 5 * time.Second // others are read, even if they take hardly any time
	restless     = 0.02            // share of a core that others take together from which they are read each time
	blur         = 0.06            // seconds by which the cores' and the group's time may differ where nobody else works: both are counted in ticks
	sizeEvery    = 5 * time.Second // proportional memory is read, which is slow in the kernel
	sizeRare     = 5000            // times as long as reading it takes are between two readings, at least
	maxProcesses = 1 << 16
	ticks        = 100 // a second, on every Linux
)

var errNobody = errors.New("no watched process runs")

func (s *processSource) Sample(_ context.Context, now time.Time, list []sense.Reading) ([]sense.Reading, error) {
	elapsed := now.Sub(s.at).Seconds()
	first := s.at.IsZero() || elapsed <= 0
	if s.group.renewed() || now.Sub(s.scanned) >= scanEvery {
		if err := s.scan(now, first); err != nil {
			return list, err
		}
	}
	s.at = now
	list = append(list, s.busiest...)
	if s.others >= 0 {
		list = append(list, sense.Reading{Quantity: sense.OthersCPU, Value: s.others})
	}
	var used, memory, faults, children, gone float64
	s.threads = s.threads[:0]
	alive := s.members[:0]
	for _, t := range s.members {
		before := t.cpu
		if !s.readStat(t) {
			gone += before
			s.drop(t)
			continue
		}
		alive = append(alive, t)
		used, t.taken = used+t.cpu-t.taken, t.cpu
		faults, t.took = faults+t.faults-t.took, t.faults
		memory += t.rss
		children += t.children
		s.readThreads(t, elapsed)
	}
	s.members = alive
	s.group.find(alive)
	if all, ok := s.ended.since(children); ok {
		used += max(0, all-gone) // time of ended helpers that was not seen while they ran
	}
	s.spent += used
	if len(alive) == 0 && s.group.isEmpty() {
		return list, nil // between two players
	}
	if len(alive) == 0 {
		return list, errNobody
	}
	list = append(list, sense.Reading{Quantity: sense.GroupSize, Value: float64(len(alive))}, sense.Reading{Quantity: sense.GroupMem, Value: memory})
	list = s.largest(list)
	if now.Sub(s.sized) >= max(sizeEvery, s.sizing*sizeRare) {
		begun := cputime.Thread()
		s.sized, s.pss = now, s.shared()
		s.sizing = cputime.Thread() - begun
	}
	if s.pss > 0 {
		list = append(list, sense.Reading{Quantity: sense.GroupPSS, Value: s.pss})
	}
	if !first {
		list = append(list, sense.Reading{Quantity: sense.GroupCPU, Value: 100 * used / elapsed}, sense.Reading{Quantity: sense.GroupLoad, Value: max(0, faults) / elapsed})
		list = s.busiestThreads(list)
	}
	return list, nil
}

// maxLargest is how many of the watched processes are listed with their memory.
const maxLargest = 8

// largest appends the memory of the largest of several watched processes.
func (s *processSource) largest(list []sense.Reading) []sense.Reading {
	if len(s.members) < 2 {
		return list
	}
	s.sorted = append(s.sorted[:0], s.members...)
	slices.SortFunc(s.sorted, func(a, b *task) int { return cmp.Compare(b.rss, a.rss) })
	for _, t := range s.sorted[:min(maxLargest, len(s.sorted))] {
		if t.label == "" {
			t.label = t.name + " " + strconv.Itoa(t.pid)
		}
		list = append(list, sense.Reading{Quantity: sense.ProcessMem, Label: t.label, Value: t.rss})
	}
	return list
}

// drop forgets a process that has ended.
func (s *processSource) drop(t *task) {
	s.forget(t.stat)
	for _, th := range t.threads {
		s.forget(th.times)
	}
	t.tasks.close()
	delete(s.all, t.pid)
}

// readStat reads a process; false if it has ended.
func (s *processSource) readStat(t *task) bool {
	if t.stat == "" {
		t.stat = filepath.Join(s.proc, strconv.Itoa(t.pid), "stat")
	}
	data, err := s.read(t.stat)
	if err != nil {
		return false
	}
	open, end := bytes.IndexByte(data, '('), bytes.LastIndexByte(data, ')') // the name may hold anything
	if open < 0 || end < open {
		return false
	}
	if t.name == "" {
		t.name = string(data[open+1 : end])
	}
	var v [22]float64              // from the third field on
	_, rest := field(data[end+1:]) // the state, a letter
	for i := 1; i < len(v); i++ {
		var word []byte
		word, rest = field(rest)
		v[i], _ = parseFloat(word)
	}
	if t.begun != 0 && t.begun != v[19] {
		return false // another process has its number now
	}
	t.parent, t.faults, t.begun, t.rss = int(v[1]), v[9], v[19], v[21]*s.pageSize
	t.cpu, t.children = (v[11]+v[12])/ticks, (v[13]+v[14])/ticks
	return true
}

// scan assigns all processes to the group or to others, and finds the busiest of the others.
// Time used before the first scan is not counted.
func (s *processSource) scan(now time.Time, first bool) error {
	pids, err := s.pids.numbers()
	if err != nil {
		return err
	}
	if now.Sub(s.looked) >= lookEvery {
		s.looked, s.display, s.cores = now, displayServers(s.proc), s.countCores(s.proc)
	}
	quiet := s.quiet(now)
	for _, pid := range pids {
		t, known := s.all[pid]
		if !known {
			if len(s.all) >= maxProcesses {
				continue
			}
			t = &task{pid: pid}
		}
		if !t.member && !(known && quiet) && !s.readStat(t) {
			s.drop(t)
			continue
		}
		if !known {
			s.all[pid] = t
			if first {
				t.taken, t.listed, t.took = t.cpu, t.cpu, t.faults
			}
		}
		t.seen = true
	}
	elapsed, listed := now.Sub(s.scanned).Seconds(), now.Sub(s.counted).Seconds()
	s.scanned = now
	if !quiet {
		s.counted, s.busiest = now, s.busiest[:0]
	}
	var took, children, gone float64
	for pid, t := range s.all {
		if !t.seen && !t.member {
			if s.isOther(t) {
				gone += t.listed
			}
			s.drop(t)
			continue
		}
		t.seen = false
		if !t.member && s.belongs(t, 0) {
			t.member = true
			s.members = append(s.members, t)
		}
		if quiet {
			continue
		}
		if s.isOther(t) {
			took += t.cpu - t.listed
			children += t.children
			if share := 100 * (t.cpu - t.listed) / listed; !first && share >= 1 {
				s.busiest = append(s.busiest, sense.Reading{Quantity: sense.OtherCPU, Label: fmt.Sprintf("%s %d", t.name, pid), Value: share})
			}
		}
		t.listed = t.cpu
	}
	slices.SortFunc(s.members, func(a, b *task) int { return cmp.Compare(a.pid, b.pid) })
	if s.gone += gone; quiet {
		return nil
	}
	gone, s.gone = s.gone, 0
	took, s.little = took-max(0, s.little), 0
	s.busiest = most(s.busiest)
	if ended, ok := s.reaped.since(children); ok {
		took += max(0, ended-gone) // time of ended helpers that was not seen while they ran
	}
	if s.others = -1; !first && elapsed > 0 && s.cores > 0 {
		s.others = sense.Percent(max(0, took) / elapsed / s.cores)
	}
	return nil
}

// quiet reports whether all that is not watched takes so little time since the last scan that reading its
// processes one by one tells nothing. Their share is then what the cores spent besides the group.
func (s *processSource) quiet(now time.Time) bool {
	data, err := s.read(s.stats)
	if err != nil {
		return false
	}
	_, rest := field(data) // "cpu"; then user, nice, system
	total := 0.0
	for range 3 {
		var word []byte
		word, rest = field(rest)
		v, _ := parseFloat(word)
		total += v / ticks
	}
	busy, ok := s.busy.since(total)
	spent, ok2 := s.known.since(s.spent)
	elapsed := now.Sub(s.scanned).Seconds()
	if !ok || !ok2 || elapsed <= 0 || s.cores == 0 || now.Sub(s.counted) >= countEvery {
		return false
	}
	little := s.little + busy - spent
	if little > restless*now.Sub(s.counted).Seconds()+blur {
		return false
	}
	s.little = little
	s.others, s.busiest = sense.Percent(max(0, busy-spent)/elapsed/s.cores), s.busiest[:0]
	return true
}

// isOther reports whether a process is neither watched nor set aside, and does not work for
// those that are, as kernel threads and the display server do.
func (s *processSource) isOther(t *task) bool {
	for depth := 0; t != nil && depth < 64; depth++ {
		if t.member || t.pid == kernelThreads || s.group.isAside(t.pid) || slices.Contains(s.display, t.pid) {
			return false
		}
		parent := s.all[t.parent]
		if parent == t {
			break
		}
		t = parent
	}
	return true
}

// kernelThreads is the process whose children are the kernel's threads.
const kernelThreads = 2

// most keeps the three largest values.
func most(list []sense.Reading) []sense.Reading {
	slices.SortFunc(list, func(a, b sense.Reading) int {
		return cmp.Or(cmp.Compare(b.Value, a.Value), cmp.Compare(a.Label, b.Label))
	})
	return list[:min(len(list), 3)]
}

// belongs reports whether a process is a root or a descendant of one.
func (s *processSource) belongs(t *task, depth int) bool {
	if t.member || s.group.is(t.pid, t.name) {
		return true
	}
	parent := s.all[t.parent]
	return parent != nil && parent != t && depth < 64 && s.belongs(parent, depth+1)
}

// readThreads adds the threads of a process to those of the group.
func (s *processSource) readThreads(t *task, elapsed float64) {
	first := t.threads == nil
	if first {
		t.threads, t.tasks.path = map[int]*thread{}, filepath.Join(filepath.Dir(t.stat), "task")
	}
	ids, err := t.tasks.numbers()
	if err != nil || len(ids) > maxProcesses {
		return
	}
	for _, id := range ids {
		th := t.threads[id]
		if th == nil {
			dir := filepath.Join(t.tasks.path, strconv.Itoa(id))
			th = &thread{folder: dir, times: filepath.Join(dir, "schedstat")}
			t.threads[id] = th
		}
		used, ok := s.threadTime(th)
		if !ok {
			continue
		}
		th.seen = true
		th.share, th.used = min(100*(used-th.used)/elapsed, 100), used
		if !first && th.share > 0 {
			s.threads = append(s.threads, th)
		}
	}
	for id, th := range t.threads {
		if !th.seen {
			s.forget(th.times)
			delete(t.threads, id)
		}
		th.seen = false
	}
}

// threadTime returns the processor time of a thread in seconds, from nanoseconds where the
// kernel counts them, else from ticks.
func (s *processSource) threadTime(t *thread) (float64, bool) {
	if data, err := s.read(t.times); err == nil {
		word, _ := field(data)
		ns, ok := parseFloat(word)
		return ns * 1e-9, ok
	}
	data, err := s.read(filepath.Join(t.folder, "stat"))
	if err != nil {
		return 0, false
	}
	rest := data[bytes.LastIndexByte(data, ')')+1:]
	var v [13]float64
	for i := range v {
		var word []byte
		word, rest = field(rest)
		v[i], _ = parseFloat(word)
	}
	return (v[11] + v[12]) / ticks, true
}

// busiestThreads appends the share of the busiest thread, and the three busiest threads by name.
func (s *processSource) busiestThreads(list []sense.Reading) []sense.Reading {
	slices.SortFunc(s.threads, func(a, b *thread) int {
		return cmp.Or(cmp.Compare(b.share, a.share), cmp.Compare(a.folder, b.folder))
	})
	top := 0.0
	for i, t := range s.threads[:min(len(s.threads), 3)] {
		if i == 0 {
			top = t.share
		}
		if t.share < 5 {
			continue
		}
		if t.label == "" {
			t.label = s.text(filepath.Join(t.folder, "comm")) + " " + filepath.Base(t.folder)
		}
		list = append(list, sense.Reading{Quantity: sense.ThreadUse, Label: t.label, Value: t.share})
	}
	return append(list, sense.Reading{Quantity: sense.ThreadMax, Value: top})
}

// shared returns the memory of the group, with shared pages divided among those who share them;
// 0 where the kernel does not report it.
func (s *processSource) shared() (sum float64) {
	for _, t := range s.members {
		data, err := s.read(filepath.Join(filepath.Dir(t.stat), "smaps_rollup"))
		if err != nil {
			return 0
		}
		_, rest, found := bytes.Cut(data, []byte("\nPss:"))
		word, _ := field(rest)
		kb, ok := parseFloat(word)
		if !found || !ok {
			return 0
		}
		sum += 1024 * kb
	}
	return sum
}
