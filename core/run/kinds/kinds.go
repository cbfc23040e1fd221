// Package kinds lists the kinds of runs. A new one is one line here.
package kinds

import (
	"vividstrain/core/run"
	"vividstrain/core/run/adapt"
	"vividstrain/core/run/climb"
	"vividstrain/core/run/crowd"
	"vividstrain/core/run/frontier"
)

// All lists the kinds of runs that can be resumed.
var All = []run.Descriptor{
	climb.Descriptor,
	crowd.Descriptor,
	adapt.Descriptor,
	frontier.Descriptor,
}
