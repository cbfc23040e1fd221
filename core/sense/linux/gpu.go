package linux

import (
	"bytes"
	"cmp"
	"context"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"vividstrain/core/sense"
)

// gpuSource reads graphics processors through the kernel: each client's use of each engine (the
// DRM's fdinfo, drm-usage-stats), and what drivers report about the whole card.
type gpuSource struct {
	files
	proc    string
	group   *Group
	cards   []card
	clients map[string]*client
	open    []string // fdinfo files that belong to a client
	looked  time.Time
	hidden  atomic.Bool // the last scan found no fdinfo files
	at      time.Time
}

// card holds the files of one graphics processor; an absent file is empty.
type card struct {
	name                           string
	busy, decode, used, clock, dpm string
	clockScale                     float64
}

// client is the use of a card by one client so far.
type client struct {
	used   [engineClasses]counter
	total  [engineClasses]counter // cycles that were available, where the driver counts in cycles
	member bool
	seen   bool
}

// Classes of engines.
const (
	decodeEngine = iota
	encodeEngine
	renderEngine
	engineClasses
)

// engineClass maps the names that drivers give their engines to classes. A unit that both
// decodes and encodes counts as a decoder.
func engineClass(name string) int {
	switch {
	case strings.Contains(name, "enhance"), strings.Contains(name, "vecs"), strings.Contains(name, "copy"), strings.Contains(name, "bcs"), strings.Contains(name, "dma"):
		return -1
	case strings.Contains(name, "enc"):
		return encodeEngine
	case strings.Contains(name, "video"), strings.Contains(name, "dec"), strings.Contains(name, "vcs"), strings.Contains(name, "vcn"), strings.Contains(name, "vpu"), strings.Contains(name, "jpeg"):
		return decodeEngine
	}
	return renderEngine
}

func newGPU(r Roots, group *Group) *gpuSource {
	s := &gpuSource{proc: r.Proc, group: group, clients: map[string]*client{}}
	exists := func(path string) string {
		if _, err := os.Stat(path); err != nil {
			return ""
		}
		return path
	}
	for _, dir := range glob(r.Sys, "class", "drm", "card[0-9]*") {
		if strings.Contains(filepath.Base(dir), "-") { // a connector
			continue
		}
		c := card{name: filepath.Base(dir), clockScale: 1,
			busy: exists(filepath.Join(dir, "device", "gpu_busy_percent")), decode: exists(filepath.Join(dir, "device", "vcn_busy_percent")),
			used: exists(filepath.Join(dir, "device", "mem_info_vram_used")), dpm: exists(filepath.Join(dir, "device", "pp_dpm_sclk"))}
		c.clock = cmp.Or(exists(filepath.Join(dir, "gt_act_freq_mhz")), exists(filepath.Join(dir, "gt", "gt0", "rps_act_freq_mhz")),
			exists(filepath.Join(dir, "device", "tile0", "gt0", "freq0", "act_freq")))
		if c.clock == "" && c.dpm == "" {
			if list := glob(dir, "device", "devfreq", "*", "cur_freq"); len(list) > 0 {
				c.clock, c.clockScale = list[0], 1e-6
			}
		}
		s.cards = append(s.cards, c)
	}
	return s
}

func (*gpuSource) Kind() string { return sense.System }

func (*gpuSource) Name() string { return "gpu" }

func (s *gpuSource) Sample(_ context.Context, now time.Time, list []sense.Reading) ([]sense.Reading, error) {
	if len(s.cards) == 0 {
		return list, nil
	}
	for i := range s.cards {
		list = s.card(&s.cards[i], list)
	}
	if now.Sub(s.looked) >= lookEvery {
		s.look()
		s.looked = now
		s.hidden.Store(len(s.open) == 0)
	}
	elapsed := now.Sub(s.at).Seconds()
	s.at = now
	return s.engines(elapsed, list), nil
}

// card reads what a driver reports about the whole card.
func (s *gpuSource) card(c *card, list []sense.Reading) []sense.Reading {
	add := func(path, quantity string, scale float64) {
		if path == "" {
			return
		}
		if v, err := s.number(path); err == nil { // some answer only while they are awake
			list = append(list, sense.Reading{Quantity: quantity, Label: c.name, Value: v * scale})
		}
	}
	add(c.busy, sense.GPU, 1)
	add(c.used, sense.GPUMem, 1)
	add(c.clock, sense.GPUClock, c.clockScale)
	if c.decode != "" {
		add(c.decode, sense.BlockUse, 1)
	}
	if c.dpm != "" {
		if data, err := s.read(c.dpm); err == nil { // "1: 800Mhz *"
			for len(data) > 0 {
				var l []byte
				l, data = line(data)
				_, l, _ = bytes.Cut(l, []byte(": "))
				mhz, rest, _ := bytes.Cut(l, []byte("Mhz"))
				if v, ok := parseFloat(mhz); ok && bytes.Contains(rest, []byte("*")) {
					list = append(list, sense.Reading{Quantity: sense.GPUClock, Label: c.name, Value: v})
				}
			}
		}
	}
	return list
}

const (
	lookEvery  = 10 * time.Second // all open files are looked at for users of a card
	maxClients = 4096
)

// look finds the fdinfo files of all clients of a card.
func (s *gpuSource) look() {
	s.open = s.open[:0]
	pids, err := os.ReadDir(s.proc)
	if err != nil {
		return
	}
	for _, e := range pids {
		if _, err := strconv.Atoi(e.Name()); err != nil {
			continue
		}
		dir := filepath.Join(s.proc, e.Name(), "fd")
		fds, err := os.ReadDir(dir)
		if err != nil {
			continue // belongs to another user
		}
		for _, fd := range fds {
			to, err := os.Readlink(filepath.Join(dir, fd.Name()))
			if err == nil && strings.HasPrefix(to, "/dev/dri/") && len(s.open) < maxClients {
				s.open = append(s.open, filepath.Join(s.proc, e.Name(), "fdinfo", fd.Name()))
			}
		}
	}
}

// engines adds up the use of each class of engines by all clients.
func (s *gpuSource) engines(elapsed float64, list []sense.Reading) []sense.Reading {
	for _, c := range s.clients {
		c.seen = false
	}
	var all, members [engineClasses]float64
	var has [engineClasses]bool
	var memory float64
	for _, path := range s.open {
		usage, ok := s.usage(path)
		if !ok {
			continue
		}
		c := s.clients[usage.client]
		if c == nil {
			c = &client{}
			s.clients[usage.client] = c
		}
		if c.seen {
			continue // the same client through another of its files
		}
		c.seen = true
		pid, _ := strconv.Atoi(filepath.Base(filepath.Dir(filepath.Dir(path))))
		c.member = s.group.holds(pid)
		if c.member {
			memory += usage.memory
		}
		for class := range engineClasses {
			if !usage.has[class] {
				continue
			}
			used, known := c.used[class].since(usage.used[class])
			span := elapsed * 1e9 * max(1, usage.capacity[class])
			if usage.cycles[class] > 0 {
				span, known = c.total[class].since(usage.cycles[class])
			}
			if has[class] = true; !known || span <= 0 {
				continue
			}
			all[class] += used / span
			if c.member {
				members[class] += used / span
			}
		}
	}
	for key, c := range s.clients {
		if !c.seen {
			delete(s.clients, key)
		}
	}
	if elapsed <= 0 || elapsed > 3600 {
		return list
	}
	for class, q := range [engineClasses][2]string{{sense.BlockUse, sense.GroupDecode}, {sense.EncodeUse, sense.GroupEncode}, {sense.RenderUse, sense.GroupRender}} {
		if has[class] {
			list = append(list, sense.Reading{Quantity: q[0], Value: sense.Percent(all[class])}, sense.Reading{Quantity: q[1], Value: sense.Percent(members[class])})
		}
	}
	if memory > 0 {
		list = append(list, sense.Reading{Quantity: sense.GroupGPUMem, Value: memory})
	}
	return list
}

// usage is the content of one fdinfo file.
type usage struct {
	client   string
	used     [engineClasses]float64 // nanoseconds, or cycles
	cycles   [engineClasses]float64
	capacity [engineClasses]float64 // engines of a class
	has      [engineClasses]bool
	memory   float64
}

func (s *gpuSource) usage(path string) (u usage, ok bool) {
	data, err := s.read(path)
	if err != nil {
		return u, false
	}
	var id, card string
	for len(data) > 0 {
		var l []byte
		l, data = line(data)
		key, rest, found := bytes.Cut(l, []byte(":"))
		if !found {
			continue
		}
		value, unit := field(rest)
		name := string(key)
		v, _ := parseFloat(value)
		switch {
		case name == "drm-client-id":
			id = string(value)
		case name == "drm-pdev":
			card = string(value)
		case strings.HasPrefix(name, "drm-engine-capacity-"):
			if class := engineClass(name[len("drm-engine-capacity-"):]); class >= 0 {
				u.capacity[class] += v
			}
		case strings.HasPrefix(name, "drm-engine-"):
			u.add(name[len("drm-engine-"):], v, 0)
		case strings.HasPrefix(name, "drm-cycles-"):
			u.add(name[len("drm-cycles-"):], v, 0)
		case strings.HasPrefix(name, "drm-total-cycles-"):
			u.add(name[len("drm-total-cycles-"):], 0, v)
		case strings.HasPrefix(name, "drm-memory-"), strings.HasPrefix(name, "drm-resident-"):
			word, _ := field(unit)
			u.memory += v * map[string]float64{"": 1, "KiB": 1 << 10, "MiB": 1 << 20}[string(word)]
		}
	}
	u.client = card + " " + id
	return u, id != ""
}

func (u *usage) add(engine string, used, cycles float64) {
	if class := engineClass(engine); class >= 0 {
		u.used[class] += used
		u.cycles[class] = max(u.cycles[class], cycles)
		u.has[class] = true
	}
}

func (s *gpuSource) Absent() []sense.Absence {
	if len(s.cards) == 0 {
		return []sense.Absence{{Quantity: "gpu_*_pct", Why: "the kernel shows no graphics processor below /sys/class/drm", Remedy: "load its driver; in a container, pass /dev/dri through"}}
	}
	if s.hidden.Load() {
		return []sense.Absence{{Quantity: sense.BlockUse, Why: "no client of the graphics processor may be looked at", Remedy: "run as the player's user or as administrator, on a kernel whose driver fills in fdinfo"}}
	}
	return nil
}
