package cli

import (
	"fmt"
	"time"

	"github.com/urfave/cli/v3"

	"vividstrain/core/run"
	"vividstrain/report/model"
)

func dryRunFlag() cli.Flag {
	return &cli.BoolFlag{Name: "dry-run", Usage: "say what would be done and how long it would take, and stop"}
}

// planText says what a run is expected to take.
func planText(e run.Estimate) string {
	text := fmt.Sprintf("%s, at most %s", model.Plural(e.Rungs, e.Unit), model.Plural(e.Attempts, "attempt"))
	if e.Virtual {
		return text + ": a moment, in simulated time " + roughly(e.Time)
	}
	text += ": about " + roughly(e.Time)
	if e.Making >= time.Second {
		text += fmt.Sprintf(", of it %s making clips (%s)", roughly(e.Making), model.Bytes(float64(e.Bytes)))
	}
	return text
}

// roughly formats a duration for people: "45 s", "3 min 20 s", "2 h 5 min".
func roughly(d time.Duration) string {
	s := int(d.Round(time.Second).Seconds())
	switch {
	case s >= 3600:
		return fmt.Sprintf("%d h %d min", s/3600, s/60%60)
	case s >= 600:
		return fmt.Sprintf("%d min", (s+30)/60)
	case s >= 60 && s/10%6 > 0:
		return fmt.Sprintf("%d min %d s", s/60, s/10%6*10)
	case s >= 60:
		return fmt.Sprintf("%d min", s/60)
	}
	return fmt.Sprintf("%d s", s)
}
