package local

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"maps"
	"os"
	"runtime"
	"strconv"
	"strings"

	"github.com/shirou/gopsutil/v4/cpu"
	"github.com/shirou/gopsutil/v4/host"
	"github.com/shirou/gopsutil/v4/mem"
)

// Machine describes this computer. identity recognises it later; it does not reveal the system's
// own number. spec has "cores", "cpu", "memory_bytes", "system", "kernel", "virtual" and what
// the kernel states, as far as they are known.
func Machine() (identity string, spec map[string]string) {
	spec = map[string]string{"cores": strconv.Itoa(runtime.NumCPU())}
	if info, err := cpu.Info(); err == nil && len(info) > 0 && info[0].ModelName != "" {
		spec["cpu"] = strings.Join(strings.Fields(info[0].ModelName), " ")
	}
	if m, err := mem.VirtualMemory(); err == nil {
		spec["memory_bytes"] = strconv.FormatUint(m.Total, 10)
	}
	name, _ := os.Hostname()
	if h, err := host.Info(); err == nil {
		spec["system"] = strings.TrimSpace(h.Platform+" "+h.PlatformVersion) + ", " + h.KernelArch
		spec["kernel"] = h.OS + " " + h.KernelVersion
		if h.VirtualizationRole == "guest" {
			spec["virtual"] = cmp.Or(h.VirtualizationSystem, "yes")
		}
		name = cmp.Or(h.HostID, name)
	}
	maps.Copy(spec, kernelSpec())
	sum := sha256.Sum256([]byte("vividstrain " + name))
	return "computer " + hex.EncodeToString(sum[:6]), spec
}
