package linux

import (
	"os"
	"path/filepath"
	"strings"
)

// Spec returns what the kernel states about the machine: "product", "gpu", "screen" and
// "power_mode", as far as they are known.
func Spec(r Roots) map[string]string {
	var f files
	spec := map[string]string{}
	set := func(name string, words ...string) {
		if text := strings.Join(strings.Fields(strings.Join(words, " ")), " "); text != "" {
			spec[name] = text
		}
	}
	dmi := filepath.Join(r.Sys, "class", "dmi", "id")
	set("product", f.text(filepath.Join(dmi, "sys_vendor")), f.text(filepath.Join(dmi, "product_name")))
	if model := strings.Trim(f.text(filepath.Join(r.Proc, "device-tree", "model")), "\x00"); model != "" {
		set("product", model)
	}
	set("gpu", strings.Join(gpus(&f, r.Sys), ", "))
	set("screen", strings.Join(screens(&f, r.Sys), ", "))
	mode := f.text(filepath.Join(r.Sys, "firmware", "acpi", "platform_profile"))
	if mode == "" {
		mode = f.text(filepath.Join(r.Sys, "devices", "system", "cpu", "cpu0", "cpufreq", "scaling_governor"))
	}
	set("power_mode", mode)
	return spec
}

// gpus names graphics processors by driver and PCI numbers: "i915 8086:9a49".
func gpus(f *files, sys string) (list []string) {
	for _, dir := range glob(sys, "class", "drm", "card[0-9]*") {
		device := filepath.Join(dir, "device")
		driver, err := os.Readlink(filepath.Join(device, "driver"))
		if strings.Contains(filepath.Base(dir), "-") || err != nil { // a connector, or nothing behind it
			continue
		}
		name := filepath.Base(driver)
		vendor, number := f.text(filepath.Join(device, "vendor")), f.text(filepath.Join(device, "device"))
		if vendor != "" {
			name += " " + strings.TrimPrefix(vendor, "0x") + ":" + strings.TrimPrefix(number, "0x")
		}
		list = append(list, name)
	}
	return list
}

// screens names the connectors to which something is connected, with its preferred mode:
// "HDMI-A-1 1920x1080".
func screens(f *files, sys string) (list []string) {
	for _, dir := range glob(sys, "class", "drm", "card[0-9]*-*") {
		if f.text(filepath.Join(dir, "status")) != "connected" {
			continue
		}
		_, connector, _ := strings.Cut(filepath.Base(dir), "-")
		mode, _, _ := strings.Cut(f.text(filepath.Join(dir, "modes")), "\n")
		list = append(list, strings.TrimSpace(connector+" "+mode))
	}
	return list
}
