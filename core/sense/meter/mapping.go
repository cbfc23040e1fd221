package meter

import (
	"slices"
	"strings"
	"time"

	"vividstrain/core/sense"
)

// collect converts the metrics of one page to readings.
type collect struct {
	meter   *Metrics
	now     time.Time
	newest  time.Time
	metrics int
	rates   int // counters seen for the first time; their rates are known with the next page
	list    []sense.Reading
	counted map[string]float64 // processor seconds by core and whether idle; bytes of memory
	cores   []string
	found   []bool // for each pick, whether the page has it
}

// take is called for each metric of the page.
func (c *collect) take(m *metric) {
	c.metrics++
	if m.at > 0 {
		if at := time.UnixMicro(int64(m.at * 1e6)); at.After(c.newest) {
			c.newest = at
		}
	}
	if len(c.meter.picks) > 0 {
		for i := range c.meter.picks {
			if p := &c.meter.picks[i]; matches(p.At, m) {
				c.found[i] = true
				c.pick(p, m)
			}
		}
		return
	}
	c.known(m)
}

// matches reports whether m is the wanted metric, by its name and any labels in braces.
func matches(want string, m *metric) bool {
	asked, err := parseMetric(want + " 0")
	if err != nil || asked.name != m.name {
		return false
	}
	for _, l := range asked.labels {
		if m.label(l.name) != l.value {
			return false
		}
	}
	return true
}

func (c *collect) pick(p *Pick, m *metric) {
	v, ok := m.value, true
	if isCounter(m.name) && isRate(p.Quantity) {
		v, ok = c.rate(m)
	}
	if !ok {
		return
	}
	if r, err := p.reading(v); err == nil {
		c.list = append(c.list, r)
	}
}

func isCounter(name string) bool { return strings.HasSuffix(name, "_total") }

// isRate reports whether a quantity is a rate per second, for which the growth of a counter is
// meant.
func isRate(quantity string) bool {
	return slices.Contains([]string{"B/s", "b/s", "/s", "%", "W"}, sense.Unit(quantity))
}

// rate returns the growth of a counter per second.
func (c *collect) rate(m *metric) (float64, bool) {
	var key strings.Builder
	key.WriteString(m.name)
	for _, l := range m.labels {
		key.WriteString("\x00" + l.name + "\x01" + l.value)
	}
	at := c.now
	if m.at > 0 {
		at = time.UnixMicro(int64(m.at * 1e6))
	}
	before, known := c.meter.totals[key.String()]
	if len(c.meter.totals) < maxMetrics || known {
		c.meter.totals[key.String()] = total{m.value, at}
	}
	elapsed := at.Sub(before.at).Seconds()
	if !known || elapsed <= 0 || m.value < before.value {
		c.rates++
		return 0, false
	}
	return (m.value - before.value) / elapsed, true
}

// endings map metric names of common exporters to quantities, by how the names end.
var endings = []struct {
	ending   string
	quantity string
	label    string // name of the metric's label that becomes the reading's label
	scale    float64
}{
	{"network_receive_bytes_total", sense.NetReceive, "device", 8},
	{"network_transmit_bytes_total", sense.NetSend, "device", 8},
	{"net_bytes_received_total", sense.NetReceive, "nic", 8},
	{"net_bytes_sent_total", sense.NetSend, "nic", 8},
	{"disk_read_bytes_total", sense.DiskRead, "device", 1},
	{"disk_written_bytes_total", sense.DiskWrite, "device", 1},
	{"disk_io_time_seconds_total", sense.DiskBusy, "device", 100},
	{"pressure_cpu_waiting_seconds_total", sense.PressureCPU, "", 100},
	{"pressure_io_waiting_seconds_total", sense.PressureIO, "", 100},
	{"pressure_memory_waiting_seconds_total", sense.PressureMemory, "", 100},
	{"hwmon_temp_celsius", sense.Temperature, "sensor", 1},
	{"thermal_zone_temp", sense.Temperature, "type", 1},
	{"temperature_celsius", sense.Temperature, "", 1},
	{"hwmon_fan_rpm", sense.Fan, "sensor", 1},
	{"power_watts", sense.Power, "", 1},
}

// known reads a metric whose name is known.
func (c *collect) known(m *metric) {
	if quantity, own := strings.CutPrefix(m.name, "vividstrain_"); own && CheckQuantity(quantity) == nil {
		c.list = append(c.list, sense.Reading{Quantity: quantity, Label: m.label("of"), Value: m.value})
		return
	}
	switch {
	case strings.HasSuffix(m.name, "cpu_seconds_total") && m.label("mode") != "", strings.HasSuffix(m.name, "cpu_time_total") && m.label("mode") != "":
		c.processor(m)
		return
	case strings.HasSuffix(m.name, "memory_MemTotal_bytes"), strings.HasSuffix(m.name, "memory_physical_total_bytes"):
		c.counted["total"] = m.value
		return
	case strings.HasSuffix(m.name, "memory_MemAvailable_bytes"), strings.HasSuffix(m.name, "memory_available_bytes"):
		c.counted["available"] = m.value
		return
	}
	for _, e := range endings {
		if !strings.HasSuffix(m.name, e.ending) {
			continue
		}
		v, ok := m.value, true
		if isCounter(m.name) {
			v, ok = c.rate(m)
		}
		if ok {
			c.list = append(c.list, sense.Reading{Quantity: e.quantity, Label: m.label(e.label), Value: v * e.scale})
		}
		return
	}
}

// processor adds the seconds of a core by its state.
func (c *collect) processor(m *metric) {
	share, ok := c.rate(m)
	if !ok {
		return
	}
	core := m.label("cpu") + m.label("core")
	if !slices.Contains(c.cores, core) {
		c.cores = append(c.cores, core)
	}
	kind := "busy "
	if mode := m.label("mode"); mode == "idle" || mode == "iowait" {
		kind = "idle "
	}
	c.counted[kind+core] += share
}

// readings appends the readings of the page.
func (c *collect) readings(list []sense.Reading) []sense.Reading {
	var busy, all float64
	slices.Sort(c.cores)
	for _, core := range c.cores {
		b, total := c.counted["busy "+core], c.counted["busy "+core]+c.counted["idle "+core]
		if total > 0 {
			list = append(list, sense.Reading{Quantity: sense.CPUCore, Label: core, Value: 100 * b / total})
			busy, all = busy+b, all+total
		}
	}
	if all > 0 {
		list = append(list, sense.Reading{Quantity: sense.CPU, Value: 100 * busy / all})
	}
	if total, available := c.counted["total"], c.counted["available"]; total > 0 {
		list = append(list, sense.Reading{Quantity: sense.MemTotal, Value: total})
		if available > 0 {
			list = append(list, sense.Reading{Quantity: sense.MemFree, Value: available}, sense.Reading{Quantity: sense.MemUsed, Value: total - available})
		}
	}
	return unique(append(list, c.list...))
}

// unique numbers the labels of readings that have the same key, so that each of them is kept.
func unique(list []sense.Reading) []sense.Reading {
	seen := map[string]int{}
	for i := range list {
		key := list[i].Key()
		if seen[key]++; seen[key] > 1 {
			list[i].Label = strings.TrimSpace(list[i].Label + " " + string(rune('0'+min(seen[key], 9))))
		}
	}
	return list
}
