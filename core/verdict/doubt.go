package verdict

import (
	"fmt"

	"gonum.org/v1/gonum/stat/distuv"

	"vividstrain/core/sense"
)

// Doubt is something that makes a result doubtful, and what to do about it.
type Doubt struct {
	What   string `json:"what"`
	Remedy string `json:"remedy,omitempty"`
}

// DropBound returns the upper limit of the share of frames that a device drops, in percent, at a
// confidence of 95 %, after dropped of due frames were, if drops are independent of each other
// (C. Clopper, E. Pearson: The Use of Confidence or Fiducial Limits Illustrated in the Case of
// the Binomial, 1934; one-sided). due must be positive.
func DropBound(dropped, due int) float64 {
	if dropped >= due {
		return 100
	}
	return 100 * distuv.Beta{Alpha: float64(dropped) + 1, Beta: float64(due - dropped)}.Quantile(0.95)
}

// Warnings returns doubts about what makes a device unfit for a test: its settings, and what
// it did while it should have been idle.
func Warnings(facts map[string]string, idle sense.Use) (list []Doubt) {
	for _, rule := range []func(map[string]string, sense.Use) Doubt{notIdle, savesPower, capped, onBattery, warmAlready, throttledAlready} {
		if w := rule(facts, idle); w.What != "" {
			list = append(list, w)
		}
	}
	return list
}

func notIdle(_ map[string]string, idle sense.Use) (d Doubt) {
	label, other, known := idle.Highest(sense.OtherCPU)
	cpu := idle[sense.CPU]
	if cpu.Mean < 10 && other.Mean < 25 {
		return d
	}
	text := fmt.Sprintf("the device is not idle enough to test: its cores are at %.0f %%", cpu.Mean)
	if known {
		text += fmt.Sprintf(", %q takes %.0f %% of a core", label, other.Mean)
	}
	return Doubt{text, "close other programs, or wait"}
}

// savesPower: a governor that keeps clocks low, or a driver that was told to save power. Drivers
// that choose clocks themselves call their usual governor powersave, too.
func savesPower(facts map[string]string, _ sense.Use) (d Doubt) {
	switch {
	case facts["clock_preference"] == "power":
		return Doubt{"the processor is set to save power rather than to be fast (energy preference power)", "choose the performance mode"}
	case facts["power_profile"] == "low-power":
		return Doubt{"the power profile is low-power", "choose another profile"}
	case facts["clock_preference"] == "" && (facts["governor"] == "powersave" || facts["governor"] == "conservative"):
		return Doubt{fmt.Sprintf("the clock's governor is %s, which keeps it low", facts["governor"]), "choose another governor"}
	}
	return d
}

func capped(facts map[string]string, _ sense.Use) (d Doubt) {
	if share := facts["clock_cap_pct"]; share != "" && share != "100" {
		return Doubt{fmt.Sprintf("the clock is not allowed to pass %s %% of its highest", share), "lift the cap"}
	}
	return d
}

func onBattery(facts map[string]string, _ sense.Use) (d Doubt) {
	if facts["supply"] == "battery" {
		return Doubt{"the device runs on its battery, which may slow it down", "plug it in"}
	}
	return d
}

func warmAlready(_ map[string]string, idle sense.Use) (d Doubt) {
	if t := idle[sense.Temperature]; t.Mean >= 75 {
		return Doubt{fmt.Sprintf("the device is already at %.0f degrees while idle", t.Mean), "let it cool down"}
	}
	return d
}

func throttledAlready(_ map[string]string, idle sense.Use) (d Doubt) {
	if t := idle[sense.Throttles]; t.Mean > 0 {
		return Doubt{"the processor is throttled for its heat while it is idle", "let it cool down"}
	}
	return d
}

// Drift returns doubts about how the idle device differs after a run from before.
func Drift(before, after sense.Use) (list []Doubt) {
	if a, b := before[sense.CPU], after[sense.CPU]; a.N > 0 && b.N > 0 && b.Mean-a.Mean > 10 {
		list = append(list, Doubt{fmt.Sprintf("idle, the cores are at %.0f %% after the run and were at %.0f %% before it", b.Mean, a.Mean), "see what still runs, and climb again"})
	}
	if a, b := before[sense.Temperature], after[sense.Temperature]; a.N > 0 && b.N > 0 && b.Mean-a.Mean > 10 {
		list = append(list, Doubt{fmt.Sprintf("the device is %.0f degrees warmer after the run than before it (%.0f)", b.Mean-a.Mean, b.Mean), "long loads may be slowed down by heat: use a longer --hold"})
	}
	if a, b := before[sense.MemUsed], after[sense.MemUsed]; b.N > 0 && a.Mean > 0 && b.Mean-a.Mean > 0.1*before[sense.MemTotal].Mean {
		list = append(list, Doubt{fmt.Sprintf("%.0f MB more memory are in use after the run than before it", (b.Mean-a.Mean)/1e6), "see what still runs"})
	}
	return list
}
