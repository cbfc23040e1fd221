package sense

import "strings"

// The quantities with a known name. The unit is part of the name.
const (
	CPU        = "cpu_pct"        // all cores together, 100: all busy; includes time that a host took away
	CPUCore    = "cpu_core_pct"   // one core, 100: busy; the label is its number
	CPUSteal   = "cpu_steal_pct"  // taken away by the host of a virtual machine, of all cores
	CPUWait    = "cpu_iowait_pct" // idle while a disk was waited for, of all cores
	GroupCPU   = "group_cpu_pct"  // the watched processes, 100: one core busy
	ThreadMax  = "thread_max_pct" // busiest thread of the watched processes, 100: one core
	ThreadUse  = "thread_pct"     // one of their busiest threads; the label is its name and number
	GroupSize  = "group_processes"
	OtherCPU   = "process_cpu_pct" // a process that is not watched, 100: one core; the label is its name
	OthersCPU  = "others_cpu_pct"  // all processes that are neither watched nor belong to the system, 100: all cores
	MemUsed    = "mem_used_bytes"  // in use on the whole device
	MemFree    = "mem_available_bytes"
	MemTotal   = "mem_total_bytes"
	SwapUsed   = "swap_used_bytes"
	SwapRate   = "swap_bytes_s"      // swapped in and out
	GroupMem   = "group_mem_bytes"   // resident, shared pages counted in each process
	ProcessMem = "process_mem_bytes" // resident, of one of several watched processes; the label is its name and number
	GroupPSS   = "group_pss_bytes"   // resident, shared pages divided by those who share
	GroupLoad  = "group_faults_hz"   // pages of the watched processes that had to come from disk

	GroupMemLimit = "group_mem_limit_bytes"   // memory limit of the watched processes
	GroupCharged  = "group_mem_charged_bytes" // memory that counts against the limit
	GroupCPULimit = "group_cpu_limit_pct"     // processor time limit of the watched processes, 100: one core
	HeldBack      = "group_cpu_held_pct"      // time for which the limit held back a runnable thread

	PressureCPU    = "pressure_cpu_pct" // of the time some task waited for a core
	PressureMemory = "pressure_memory_pct"
	PressureIO     = "pressure_io_pct"

	Clock     = "clock_pct" // of the full clock, the mean of all cores
	ClockMHz  = "clock_mhz"
	Throttles = "throttle_hz" // times a second that the processor was slowed down for its heat

	Temperature = "temp_c" // of the processor; with a label, of another part
	Fan         = "fan_rpm"
	Power       = "power_w"     // of as much of the device as is measured; with a label, of a part
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

	VideoShown   = "video_shown_hz"   // pictures that were shown of a video
	VideoDropped = "video_dropped_hz" // and dropped
	VideoDrops   = "video_drops"      // pictures dropped since an attempt began
	VideoLead    = "video_lead_s"     // what it has fetched ahead
	VideoPlayed  = "video_played_s"   // place in the film that it plays
	VideoFetched = "video_fetched_s"  // place up to which it has fetched

	Conversions = "conversions_begun" // by a media server since it started, also those begun anew after a jump

	ViewerLag    = "viewer_lag_ms"       // longest delay with which our own viewers woke up
	ViewerCPU    = "viewer_cpu_pct"      // use by our own viewers, 100: one core
	ViewerCores  = "viewer_cores"        // cores that our own viewers may use
	ViewerSteal  = "viewer_steal_pct"    // share of the measuring computer's cores that its host took
	ViewerOthers = "viewer_others_pct"   // share of its cores that other programs took
	ViewerOther  = "viewer_other_pct"    // one of those programs, 100: one core; the label is its name
	ViewerUnread = "viewer_unread_bytes" // received, but not yet read by our own side
)

// units maps the endings of quantities to printed units.
var units = []struct{ ending, unit string }{
	{"_pct", "%"}, {"_bytes_s", "B/s"}, {"_bytes", "B"}, {"_bps", "b/s"}, {"_mhz", "MHz"}, {"_hz", "/s"}, {"_ms", "ms"},
	{"_rpm", "rpm"}, {"_c", "°C"}, {"_w", "W"}, {"_db", "dB"}, {"_s", "s"}, {"_v", "V"}, {"_a", "A"},
}

// Unit returns the printed unit of a quantity, or "".
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

// IsCount reports whether a quantity is a plain number, without a unit.
func IsCount(quantity string) bool {
	return quantity == GroupSize || quantity == Conversions || quantity == VideoDrops
}

// Endings returns the endings that state a quantity's unit.
func Endings() (list []string) {
	for _, u := range units {
		list = append(list, u.ending)
	}
	return list
}

// MemoryKills is the fact that states how many programs the kernel has killed for lack of memory
// since it started.
const MemoryKills = "memory_kills"

// Percent converts a share to percent, clamped to 0 to 100.
func Percent(share float64) float64 { return max(0, min(100*share, 100)) }
