package sense

import "strings"

// The quantities that are known by name. The unit is in the name.
const (
	CPU       = "cpu_pct"        // all cores together, 100: all busy; time that a host took away counts
	CPUCore   = "cpu_core_pct"   // one core, 100: busy; the label is its number
	CPUSteal  = "cpu_steal_pct"  // taken away by the host of a virtual machine, of all cores
	CPUWait   = "cpu_iowait_pct" // idle while a disk was waited for, of all cores
	GroupCPU  = "group_cpu_pct"  // the watched processes, 100: one core busy
	ThreadMax = "thread_max_pct" // busiest thread of the watched processes, 100: one core
	ThreadUse = "thread_pct"     // one of their busiest threads; the label is its name and number
	GroupSize = "group_processes"
	OtherCPU  = "process_cpu_pct" // a process that is not watched, 100: one core; the label is its name
	OthersCPU = "others_cpu_pct"  // all processes that are neither watched nor belong to the system, 100: all cores
	MemUsed   = "mem_used_bytes"  // in use on the whole device
	MemFree   = "mem_available_bytes"
	MemTotal  = "mem_total_bytes"
	SwapUsed  = "swap_used_bytes"
	SwapRate  = "swap_bytes_s"    // swapped in and out
	GroupMem  = "group_mem_bytes" // resident, shared pages counted in each process
	GroupPSS  = "group_pss_bytes" // resident, shared pages divided by those who share
	GroupLoad = "group_faults_hz" // pages of the watched processes that had to come from disk

	GroupMemLimit = "group_mem_limit_bytes"   // that the watched processes are held to
	GroupCharged  = "group_mem_charged_bytes" // what counts against it
	GroupCPULimit = "group_cpu_limit_pct"     // that they are held to, 100: one core
	HeldBack      = "group_cpu_held_pct"      // of the time they were held back for it, of each thread that wanted to run

	PressureCPU    = "pressure_cpu_pct" // of the time some task waited for a core
	PressureMemory = "pressure_memory_pct"
	PressureIO     = "pressure_io_pct"

	Clock     = "clock_pct" // of the full clock, the mean of all cores
	ClockMHz  = "clock_mhz"
	Throttles = "throttle_hz" // times a second that the processor was slowed down for its heat

	Temperature = "temp_c" // of the processor; with a label of another part
	Fan         = "fan_rpm"
	Power       = "power_w"     // of the device as far as it is known; with a label of a part
	Battery     = "battery_pct" // charge

	BlockUse    = "gpu_decode_pct" // fixed-function decoder, 100: busy
	EncodeUse   = "gpu_encode_pct"
	RenderUse   = "gpu_render_pct"
	GPU         = "gpu_pct" // busy with anything
	GPUMem      = "gpu_mem_bytes"
	GPUClock    = "gpu_clock_mhz"
	GroupDecode = "group_gpu_decode_pct" // by the watched processes
	GroupEncode = "group_gpu_encode_pct"
	GroupRender = "group_gpu_render_pct"
	GroupGPUMem = "group_gpu_mem_bytes"
	DiskBusy    = "disk_busy_pct" // time with a request under way; the label is the disk
	DiskRead    = "disk_read_bytes_s"
	DiskWrite   = "disk_write_bytes_s"
	DiskQueue   = "disk_queue"   // requests under way, on average
	DiskWait    = "disk_wait_ms" // of a request, on average
	NetReceive  = "net_rx_bps"   // the label is the interface
	NetSend     = "net_tx_bps"
	NetLink     = "net_link_pct" // of the link's speed, in the busier direction
	NetDrops    = "net_drop_hz"  // packets lost here
	WallPower   = "wall_power_w" // at the socket

	ViewerLag    = "viewer_lag_ms"       // by how much our own viewers woke up too late, at worst
	ViewerCPU    = "viewer_cpu_pct"      // that our own viewers take, 100: one core
	ViewerCores  = "viewer_cores"        // that they may use
	ViewerSteal  = "viewer_steal_pct"    // that the host took of the measuring computer's cores
	ViewerOthers = "viewer_others_pct"   // that other programs took of them
	ViewerOther  = "viewer_other_pct"    // one of those programs, 100: one core; the label is its name
	ViewerUnread = "viewer_unread_bytes" // that have arrived and that our own side has not taken yet
)

// units are the endings of quantities and how their unit is printed.
var units = []struct{ ending, unit string }{
	{"_pct", "%"}, {"_bytes_s", "B/s"}, {"_bytes", "B"}, {"_bps", "b/s"}, {"_mhz", "MHz"}, {"_hz", "/s"}, {"_ms", "ms"},
	{"_rpm", "rpm"}, {"_c", "°C"}, {"_w", "W"}, {"_db", "dB"}, {"_s", "s"}, {"_v", "V"}, {"_a", "A"},
}

// Unit is the unit of a quantity as people write it, or empty.
func Unit(quantity string) string {
	quantity, _, _ = strings.Cut(quantity, ":")
	quantity, _, _ = strings.Cut(quantity, "@")
	for _, u := range units {
		if strings.HasSuffix(quantity, u.ending) {
			return u.unit
		}
	}
	return ""
}

// Endings are the endings that say a quantity's unit.
func Endings() (list []string) {
	for _, u := range units {
		list = append(list, u.ending)
	}
	return list
}

// MemoryKills is the fact that tells how many programs the kernel has killed for
// want of memory since it started.
const MemoryKills = "memory_kills"

// Percent is a share in percent, from 0 to 100.
func Percent(share float64) float64 { return max(0, min(100*share, 100)) }
