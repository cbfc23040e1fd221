package h264

import (
	"testing"

	"vividstrain/core/media/codec/ratecontrol"

	"github.com/stretchr/testify/require"
)

// Steps double every six quantisers, as LevelScale does.
func TestQuantiserSteps(t *testing.T) {
	scale := newLevelScale(&flatScaling)
	for qp := range 52 {
		require.InEpsilon(t, float64(scale.small[0][qp][0])/16/16, ratecontrol.Step(qp)/ratecontrol.Step(0)*0.625, 0.06, "%d", qp)
		if qp >= 6 {
			require.InEpsilon(t, 2*ratecontrol.Step(qp-6), ratecontrol.Step(qp), 1e-9)
		}
	}
	require.InDelta(t, 1, ratecontrol.Step(4), 1e-9, "QP 4 is a step of 1")
}
