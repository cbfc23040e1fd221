package run

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vividstrain/core/load"
	"vividstrain/core/logbook"
	"vividstrain/core/route"
	"vividstrain/core/search"
	"vividstrain/core/sense"
	"vividstrain/core/tally"
	"vividstrain/core/verdict"
)

// An attempt in which the run was stopped tells what its last readings show.
func TestAbandonedAttemptTellsOfMemory(t *testing.T) {
	c := &Run{Config: Config{Route: quietRoute{}}, ranks: map[sense.Identity]int{{Name: "limits"}: 0}, Doc: &logbook.Document{Started: time.Unix(1e9, 0), Rungs: make([]logbook.Rung, 1)}}
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
	c.Doc.Rungs[0].Attempts = []logbook.Attempt{a}
	a = c.abandoned(0, search.Explore, time.Unix(1e9, 0), full[:2])
	require.Equal(t, verdict.Failed, a.Verdict, "twice in one rung")
	require.Equal(t, verdict.Unknown, a.Limiter)
	c.Doc.Rungs[0].Attempts = nil
	c.Doc.Conditions.Facts = map[string]string{sense.MemoryKills: "3"}
	c.Route = killer{c.Route}
	require.Equal(t, verdict.Memory, c.abandoned(0, search.Explore, time.Unix(1e9, 0), nil).Limiter)
}

// quietRoute has no sensors.
type quietRoute struct{ route.Route }

func (quietRoute) Sources() []sense.Source { return nil }

// kills says that a fourth program was killed.
type kills struct{ sense.Source }

func (kills) State() map[string]string { return map[string]string{sense.MemoryKills: "4"} }

// killer is a route to a device on which a fourth program was killed.
type killer struct{ route.Route }

func (killer) Sources() []sense.Source {
	return []sense.Source{kills{}}
}

// The same frames take the same work: where they take more, it is told that the computer
// became slower, and of the rung that shows it most.
func TestPaceOfThisComputer(t *testing.T) {
	attempt := func(cpu float64, shown int) logbook.Attempt {
		a := logbook.Attempt{Use: sense.Use{sense.GroupCPU: {Mean: cpu}}}
		a.Frames = &tally.Frames{Due: 200, Shown: shown}
		return a
	}
	var list []load.Load
	for _, line := range []string{"h264 1080p25 20M", "h264 1080p25 40M"} {
		l, err := load.Parse(line)
		require.NoError(t, err)
		list = append(list, l)
	}
	notes := func(same bool, easy, hard []logbook.Attempt) (texts []string) {
		c := Run{Config: Config{Route: worker{same: same}}, Doc: &logbook.Document{Rungs: []logbook.Rung{{Load: list[0], Attempts: easy}, {Load: list[1], Attempts: hard}}}}
		for _, d := range c.pace() {
			require.NotEmpty(t, d.Remedy)
			texts = append(texts, d.What)
		}
		return texts
	}
	even := []logbook.Attempt{attempt(40, 200), attempt(46, 200)}
	require.Empty(t, notes(true, even, nil))
	require.Empty(t, notes(true, even, []logbook.Attempt{attempt(95, 120), attempt(96, 180)}), "what was dropped may have been decoded")
	slow := notes(true, even, []logbook.Attempt{attempt(94, 171), attempt(67, 192)})
	require.Len(t, slow, 1)
	require.Contains(t, slow[0], "one attempt at h264 1080p25 40M took 1.3 times as much CPU per frame")
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

// Work that was done before the steady window says nothing about how a device decodes, and a
// stream that starts too late is judged by the readings before its first picture.
func TestWorkBeforeTheWindow(t *testing.T) {
	l, err := load.Parse("h264 1080p25 8M -> 720p 4M")
	require.NoError(t, err)
	arriving := func(rate float64) route.Result {
		return route.Result{Decode: route.Unknown, Streams: []tally.Tally{{Buffer: &tally.Buffer{BuildRate: &rate}}}}
	}
	c := &Run{Config: Config{Criteria: verdict.Default()}}
	idle := sense.Use{sense.GroupCPU: {Mean: 0.1}}
	for rate, decode := range map[float64]string{1.1: route.Hardware, 20: route.Unknown} {
		a := logbook.Attempt{Use: idle}
		c.judgeDecode(&a, arriving(rate), route.Plan{Loads: []load.Load{l}})
		require.Equal(t, decode, a.Decode, "media arrive at %g of real time", rate)
	}
	for delay, late := range map[float64]bool{2: false, 11: true} {
		require.Equal(t, late, startedLate(route.Result{Streams: []tally.Tally{{}, {StartDelayS: &delay}}}, c.Criteria))
	}
}
