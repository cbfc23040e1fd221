package page

import (
	"net"
	"net/netip"

	gopsnet "github.com/shirou/gopsutil/v4/net"
	"github.com/shirou/gopsutil/v4/process"
)

// isHere reports whether an address is one of this computer's.
func isHere(host string) bool {
	ip, err := netip.ParseAddr(host)
	if err != nil {
		return false
	}
	if ip = ip.Unmap(); ip.IsLoopback() {
		return true
	}
	found, _ := net.InterfaceAddrs()
	for _, a := range found {
		if n, is := a.(*net.IPNet); is && n.Contains(ip.AsSlice()) && n.IP.Equal(ip.AsSlice()) {
			return true
		}
	}
	return false
}

// browserOf returns the main process of the browser on this computer whose connection comes from
// a port: of the process that has it, the highest parent that runs the same program. It is 0 where
// that is not known.
func browserOf(port int) int {
	list, err := gopsnet.Connections("tcp")
	if err != nil {
		return 0
	}
	for _, c := range list {
		if int(c.Laddr.Port) != port || c.Pid == 0 {
			continue
		}
		p, err := process.NewProcess(c.Pid)
		if err != nil {
			return 0
		}
		program, _ := p.Exe() // of others' processes it is not known
		for program != "" {
			parent, err := p.Parent()
			if err != nil {
				break
			}
			if above, err := parent.Exe(); err != nil || above != program {
				break
			}
			p = parent
		}
		return int(p.Pid)
	}
	return 0
}
