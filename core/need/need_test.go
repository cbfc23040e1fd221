package need

import (
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/load"
	"vividstrain/core/logbook"
	"vividstrain/core/sense"
	"vividstrain/core/verdict"
)

func rung(t *testing.T, line string, g verdict.Grade, use sense.Use) logbook.Rung {
	l, err := load.Parse(line)
	require.NoError(t, err)
	return logbook.Rung{Load: l, Attempts: []logbook.Attempt{{Verdict: g, Reasons: []string{"9 of 90 frames dropped"}, Use: use}}}
}

func device(name, price string, rungs ...logbook.Rung) *logbook.Document {
	return &logbook.Document{Kind: "climb", Device: logbook.Device{Name: name, Identity: name, Facts: map[string]string{"price": price}}, Route: logbook.Route{Kind: "engine"}, Rungs: rungs}
}

// A need is met by what was measured, or by what is as hard; what misses it says by what.
func TestNeeds(t *testing.T) {
	n, err := Parse([]byte("name: cabins\nloads: [h264 720p25 5M x2, h264 1080p25 10M]\npower_w: 20\nprice: 200\nheadroom_pct: 30\n"))
	require.NoError(t, err)
	calm := sense.Use{sense.CPU: {Mean: 40}, sense.ThreadMax: {Mean: 50}, sense.WallPower: {Mean: 12}}
	hot := sense.Use{sense.CPU: {Mean: 80}, sense.WallPower: {Mean: 25}}
	list := n.Check([]*logbook.Document{
		device("unmeasured", "", rung(t, "h264 720p25 5M x2", verdict.Smooth, calm)),
		device("too hot", "1,250.50 EUR", rung(t, "h264 720p25 5M x2", verdict.Smooth, hot), rung(t, "h264 1080p25 10M", verdict.Smooth, calm)),
		device("slow", "90", rung(t, "h264 720p25 5M x2", verdict.Smooth, calm), rung(t, "h264 720p25 5M", verdict.Choppy, calm)),
		device("good", "189EUR", rung(t, "h264 720p25 6M x3", verdict.Smooth, calm), rung(t, "h264 1080p25 10M", verdict.Smooth, calm)),
	})
	var names []string
	for _, v := range list {
		names = append(names, v.Device)
	}
	require.Equal(t, []string{"good", "unmeasured", "too hot", "slow"}, names, "those that meet it first")
	good := list[0]
	require.Equal(t, "h264 720p25 6M x3 is as hard and was smooth", good.Findings[0].Why)
	require.Equal(t, "measured: smooth", good.Findings[1].Why)
	require.Equal(t, "189 of at most 200", good.Findings[3].Why)
	require.Equal(t, "50 % is left, 30 % is wanted", good.Findings[4].Why)
	unmeasured := list[1]
	require.Equal(t, Unknown, unmeasured.State)
	require.Equal(t, `vividstrain climb "h264 1080p25 10M"`, unmeasured.Findings[1].Run)
	require.Equal(t, "not known before all loads are measured", unmeasured.Findings[2].Why)
	require.Equal(t, Missed, list[2].Findings[2].State)
	require.Equal(t, "25 W, 5 too much", list[2].Findings[2].Why)
	require.Equal(t, Missed, list[3].State)
	require.Contains(t, list[3].Findings[1].Why, "h264 720p25 5M is no harder and was choppy, 9 of 90 frames dropped")
}

func TestBadNeeds(t *testing.T) {
	for text, says := range map[string]string{"": "has loads", "loads: [h999 720p25 5M]": "line 1", "loads: [h264 720p25 5M]\nprice: -3": "0 or more", "loads: [h264 720p25 5M]\nwings: 2": "wings", "loads: [h264 720p25 5M]\npower_w: .nan": "0 or more"} {
		_, err := Parse([]byte(text))
		require.ErrorContains(t, err, says, text)
	}
}

func TestPrices(t *testing.T) {
	for text, want := range map[string]float64{"189EUR": 189, "49 EUR": 49, "€ 12.5": 12.5, "12,5": 12.5} {
		v, known := Price(text)
		require.True(t, known)
		require.Equal(t, want, v, text)
	}
	_, known := Price("", "dear")
	require.False(t, known)
}

func FuzzParse(f *testing.F) {
	f.Add([]byte("loads: [h264 720p25 5M x2]\nprice: 3"))
	f.Fuzz(func(t *testing.T, data []byte) {
		if n, err := Parse(data); err == nil {
			n.Check([]*logbook.Document{{Kind: "climb", Rungs: []logbook.Rung{{}}}})
		}
	})
}
