package run

import (
	"context"
	"errors"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vividstrain/core/load"
	"vividstrain/core/logbook"
	"vividstrain/core/route"
	"vividstrain/core/route/simulated"
	"vividstrain/core/search"
	"vividstrain/core/sense"
	"vividstrain/core/tally"
	"vividstrain/core/verdict"
)

// plug is an outside meter that is away from one sample to another.
type plug struct {
	n, from, to int
	cpu         float64
	facts       map[string]string
}

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
	c.Watch = func(e Event) {
		if e.Kind == Warned {
			warned = append(warned, e.Text)
		}
	}
	b := book(t)
	doc, err := Climb(t.Context(), b, c)
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
		doc, err := Climb(t.Context(), book(t), config(device(t, p, 1), load.Column{Name: "a", Rungs: rungs(t, lines...)}))
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

// An attempt in which the run was stopped tells what its last readings show.
func TestAbandonedAttemptTellsOfMemory(t *testing.T) {
	p, err := simulated.Named("skerry-s1")
	require.NoError(t, err)
	c := &conductor{Config: config(device(t, p, 1)), doc: &logbook.Document{Started: time.Unix(1e9, 0), Rungs: make([]logbook.Rung, 1)}}
	reading := func(at float64, quantity string, v float64) logbook.Reading {
		return logbook.Reading{AtS: at, Source: "limits", Quantity: quantity, Value: v}
	}
	full := []logbook.Reading{reading(1, sense.GroupCharged, 1e7), reading(1, sense.GroupMemLimit, 1e8), reading(9, sense.GroupCharged, 9.5e7), reading(9, sense.GroupMemLimit, 1e8)}
	a := c.abandoned(0, search.Explore, time.Unix(1e9, 0), slices.Clone(full))
	require.Equal(t, verdict.Failed, a.Verdict)
	require.Equal(t, verdict.Memory, a.Limiter)
	require.Contains(t, a.Evidence, "95 MB were in use of the 100 MB")
	a = c.abandoned(0, search.Explore, time.Unix(1e9, 0), full[:2])
	require.Equal(t, verdict.Void, a.Verdict)
	require.Equal(t, verdict.VoidKilled, a.Void)
	c.doc.Rungs[0].Attempts = []logbook.Attempt{a}
	a = c.abandoned(0, search.Explore, time.Unix(1e9, 0), full[:2])
	require.Equal(t, verdict.Failed, a.Verdict, "twice in one rung")
	require.Equal(t, verdict.Unknown, a.Limiter)
	c.doc.Rungs[0].Attempts = nil
	c.doc.Conditions.Facts = map[string]string{sense.MemoryKills: "3"}
	c.Route = killer{c.Route}
	require.Equal(t, verdict.Memory, c.abandoned(0, search.Explore, time.Unix(1e9, 0), nil).Limiter)
}

// killer is a route to a device on which a fourth program was killed.
type killer struct{ route.Route }

func (killer) Sources() []sense.Source {
	return []sense.Source{&plug{facts: map[string]string{sense.MemoryKills: "4"}}}
}

// The same frames take the same work: where they take more, it is told that the computer
// became slower, and of the rung that shows it most.
func TestPaceOfThisComputer(t *testing.T) {
	attempt := func(cpu float64, shown int) logbook.Attempt {
		a := logbook.Attempt{Use: sense.Use{sense.GroupCPU: {Mean: cpu}}}
		a.Frames = &tally.Frames{Due: 200, Shown: shown}
		return a
	}
	list := rungs(t, "h264 1080p25 20M", "h264 1080p25 40M")
	notes := func(same bool, easy, hard []logbook.Attempt) []string {
		c := conductor{Config: Config{Route: worker{same: same}}, doc: &logbook.Document{Rungs: []logbook.Rung{{Load: list[0], Attempts: easy}, {Load: list[1], Attempts: hard}}}}
		return c.pace()
	}
	even := []logbook.Attempt{attempt(40, 200), attempt(46, 200)}
	require.Empty(t, notes(true, even, nil))
	require.Empty(t, notes(true, even, []logbook.Attempt{attempt(95, 120), attempt(96, 180)}), "what was dropped may have been decoded")
	slow := notes(true, even, []logbook.Attempt{attempt(94, 171), attempt(67, 192)})
	require.Len(t, slow, 1)
	require.Contains(t, slow[0], "the same frames of h264 1080p25 40M took 1.3 times as much of the cores")
	slow = notes(true, []logbook.Attempt{attempt(40, 200), attempt(72, 200)}, []logbook.Attempt{attempt(94, 171), attempt(67, 192)})
	require.Contains(t, slow[0], "h264 1080p25 20M took 1.8 times")
	require.Empty(t, notes(false, even, []logbook.Attempt{attempt(94, 171), attempt(67, 192)}), "a server may have converted it before")
	require.Empty(t, notes(true, []logbook.Attempt{attempt(0, 200), attempt(70, 0)}, nil), "without readings and frames nothing is said")
}

// worker is a route that does the same work at every attempt, or not.
type worker struct {
	route.Route
	same bool
}

func (w worker) Traits() route.Traits { return route.Traits{SameWork: w.same} }
