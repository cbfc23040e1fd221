package run_test

import (
	"context"
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vividstrain/core/load"
	"vividstrain/core/logbook"
	"vividstrain/core/route/simulated"
	"vividstrain/core/run"
	"vividstrain/core/run/climb"
	"vividstrain/core/sense"
	"vividstrain/core/verdict"
)

// plug is an outside meter that is away from one sample to another.
type plug struct {
	n, from, to int
	cpu         float64
	facts       map[string]string
}

func (*plug) Kind() string { return "test" }

func (*plug) Name() string { return "plug" }

func (p *plug) Sample(_ context.Context, _ time.Time, list []sense.Reading) ([]sense.Reading, error) {
	if p.n++; p.n >= p.from && p.n < p.to {
		return list, errors.New("the broker is away")
	}
	return append(list, sense.Reading{Quantity: sense.WallPower, Value: 20}, sense.Reading{Quantity: sense.CPU, Value: p.cpu}), nil
}

func (p *plug) State() map[string]string { return p.facts }

func (*plug) Absent() []sense.Absence {
	return []sense.Absence{{Quantity: sense.Fan, Why: "a plug has none", Remedy: "look at the box"}}
}

// A meter that vanishes in mid-run leaves a gap with its reason; what it says
// otherwise than the device's own sensors is told; and so is what makes the
// device unfit to be tested.
func TestConditionsGapsAndDisagreements(t *testing.T) {
	p, err := simulated.Named("skerry-s4")
	require.NoError(t, err)
	c := config(device(t, p, 1), load.Column{Name: "a", Rungs: rungs(t, "h264 720p25 5M")})
	meter := &plug{from: 30, to: 50, cpu: 80, facts: map[string]string{"supply": "battery"}}
	c.Sensors = []sense.Source{meter}
	warned := []string{}
	c.Watch = func(e run.Event) {
		if e.Kind == run.Warned {
			warned = append(warned, e.Text)
		}
	}
	b := book(t)
	doc, err := climb.Run(t.Context(), b, c)
	require.NoError(t, err)
	require.True(t, doc.Complete)
	require.Len(t, doc.Gaps, 1)
	require.Equal(t, "the broker is away", doc.Gaps[0].Reason)
	require.InDelta(t, 7.5, doc.Gaps[0].FromS, 0.3)
	require.InDelta(t, 5, *doc.Gaps[0].ToS-doc.Gaps[0].FromS, 0.3)
	use := doc.Rungs[0].Attempts[0].Use
	require.Equal(t, 80.0, use[sense.CPU+"@plug"].Mean)
	require.Less(t, use[sense.CPU].Mean, 60.0)
	require.Equal(t, 20.0, use[sense.WallPower].Mean)
	require.Equal(t, "battery", doc.Conditions.Facts["supply"])
	require.Len(t, warned, 1)
	require.Contains(t, warned[0], "battery")
	require.Contains(t, doc.Notes[0], "battery")
	require.Contains(t, doc.Notes[len(doc.Notes)-1], "sensors disagree at h264 720p25 5M: cpu_pct is")
	require.Equal(t, sense.Fan, doc.Conditions.Absent[0].Quantity)
	require.NotNil(t, doc.After)
	require.NotEmpty(t, doc.After.Readings)
	require.Greater(t, doc.After.FromS, 20.0)
	kept, err := b.Load(doc.ID)
	require.NoError(t, err)
	require.Equal(t, len(doc.Baseline.Readings), len(kept.Baseline.Readings))
	require.Equal(t, len(doc.After.Readings), len(kept.After.Readings))
}

// The room that is found is true: so many streams play smoothly, and one more
// than a stream beyond that does not.
func TestRoomIsTrue(t *testing.T) {
	p, err := simulated.Named("breakwater-n2")
	require.NoError(t, err)
	climbed := func(lines ...string) *logbook.Document {
		doc, err := climb.Run(t.Context(), book(t), config(device(t, p, 1), load.Column{Name: "a", Rungs: rungs(t, lines...)}))
		require.NoError(t, err)
		return doc
	}
	room := climbed("h264 720p25 5M").Ceiling.Room
	require.NotNil(t, room)
	require.Equal(t, verdict.CPU, room.Limiter)
	require.Greater(t, room.Streams, 3)
	l := rungs(t, "h264 720p25 5M")[0]
	l.Streams = room.Streams
	inside := climbed(l.String())
	require.NotNil(t, inside.Ceiling.Load, "%d streams", room.Streams)
	l.Streams = room.Streams + 2 + room.Streams/5
	require.Nil(t, climbed(l.String()).Ceiling.Load, "%d streams", l.Streams)
}
