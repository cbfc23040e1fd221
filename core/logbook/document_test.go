package logbook

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vividstrain/core/load"
	"vividstrain/core/sense"
)

func parse(t *testing.T, lines ...string) (list []load.Load) {
	for _, line := range lines {
		l, err := load.Parse(line)
		require.NoError(t, err)
		list = append(list, l)
	}
	return list
}

// Which rungs are files survives in the plan, though load lines do not say it.
func TestPlansKeepTheirFiles(t *testing.T) {
	easy, hard := parse(t, "h264 720p25 4M", "h264 1080p25 8M"), parse(t, "mjpeg 240p25 4M", "mjpeg 360p25 6M")
	easy[1].File, hard[0].File = "films/pier.mkv", "films/rain.mp4"
	d := &Document{Plan: Plan{Columns: []load.Column{{Name: "h264", Rungs: easy}, {Name: "mjpeg", Rungs: hard}}}}
	d.PlanFiles()
	require.Equal(t, map[int]string{1: "films/pier.mkv", 2: "films/rain.mp4"}, d.Plan.Files)
	text, err := json.Marshal(d)
	require.NoError(t, err)
	var kept Document
	require.NoError(t, json.Unmarshal(text, &kept))
	require.Empty(t, kept.Plan.Columns[0].Rungs[1].File, "a load line has no file")
	columns := kept.PlannedColumns()
	require.Equal(t, "films/pier.mkv", columns[0].Rungs[1].File)
	require.Equal(t, "films/rain.mp4", columns[1].Rungs[0].File)
	require.Empty(t, kept.Plan.Columns[0].Rungs[1].File, "the plan itself stays as it is")
	kept.FillRungs()
	require.Len(t, kept.Rungs, 4)
	require.Equal(t, "films/rain.mp4", kept.Rungs[2].File)
	require.Equal(t, [2]any{"mjpeg", 1}, [2]any{kept.Rungs[2].Column, kept.Rungs[2].Order})
	require.Zero(t, kept.Attempts())
	kept.Rungs[1].Attempts = make([]Attempt, 2)
	require.Equal(t, 2, kept.Attempts())
}

// A crowd's rungs are numbers of its mix.
func TestRungsOfACrowd(t *testing.T) {
	mix := parse(t, "h264 720p25 4M x2", "h264 1080p25 8M")
	d := &Document{Plan: Plan{Crowd: &CrowdPlan{Mix: mix, Files: []string{"", "films/pier.mkv"}, Numbers: []int{1, 4}}}}
	d.FillRungs()
	require.Len(t, d.Rungs, 2)
	require.Equal(t, 8, d.Rungs[1].Mix[0].Streams)
	require.Equal(t, 4, d.Rungs[1].Mix[1].Streams)
	require.Equal(t, "films/pier.mkv", d.Rungs[1].Mix[1].File)
	require.Equal(t, 2, mix[0].Streams, "the mix itself stays as it is")
	one := &CrowdPlan{Mix: mix[:1], Numbers: []int{3}}
	require.Nil(t, one.Rung(0).Mix, "of one load no mix is told")
	require.Equal(t, 6, one.Rung(0).Load.Streams)
}

func TestGapsAreTimesSinceTheStart(t *testing.T) {
	started := time.Date(2026, 11, 23, 10, 15, 2, 0, time.UTC)
	d := NewWatch(started, "1.0")
	require.Equal(t, "watch", d.Kind)
	d.NoteGaps([]sense.Gap{
		{Source: sense.Identity{Name: "plug"}, From: started.Add(2 * time.Second), To: started.Add(5 * time.Second), Reason: "the broker is away"},
		{Source: sense.Identity{Kind: "system", Name: "gpu"}, From: started.Add(7 * time.Second), Reason: "it vanished"},
	})
	require.Len(t, d.Gaps, 2)
	require.InDelta(t, 2, d.Gaps[0].FromS, 0)
	require.InDelta(t, 5, *d.Gaps[0].ToS, 0)
	require.Nil(t, d.Gaps[1].ToS, "until the end")
	text, err := json.Marshal(d)
	require.NoError(t, err)
	require.Contains(t, string(text), `"rungs":[]`, "empty lists are lists")
}
