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
		return text + ": a moment, in simulated time " + model.Span(e.Time.Seconds())
	}
	text += ": about " + model.Span(e.Time.Seconds())
	if e.Making >= time.Second {
		text += fmt.Sprintf(", of it %s making clips (%s)", model.Span(e.Making.Seconds()), model.Bytes(float64(e.Bytes)))
	}
	return text
}
