package html

import (
	"bytes"
	"encoding/json"
	"io"
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vividstrain/core/load"
	"vividstrain/core/logbook"
	"vividstrain/core/verdict"
	"vividstrain/report/model"
)

// long is a run of two hours with so many quantities, read four times a second.
func long(t testing.TB, quantities int) (*logbook.Document, []logbook.Reading) {
	l, err := load.Parse("h264 720p25 5M")
	require.NoError(t, err)
	d := &logbook.Document{Schema: logbook.Schema, ID: "long", Kind: "climb", Started: time.Unix(1700000000, 0), Device: logbook.Device{Name: "Box"}}
	for i := range 60 {
		from := d.Started.Add(time.Duration(i) * 2 * time.Minute)
		d.Rungs = append(d.Rungs, logbook.Rung{Load: l, Column: "h264", Attempts: []logbook.Attempt{{Verdict: verdict.Smooth, Started: from, Ended: from.Add(100 * time.Second)}}})
	}
	names := []string{"cpu_pct", "mem_used_bytes", "temp_c", "power_w", "video_shown_hz"}
	for len(names) < quantities {
		names = append(names, "odd_"+string(rune('a'+len(names)%26))+string(rune('a'+len(names)/26))+"_pct")
	}
	var readings []logbook.Reading
	for i := range 2 * 3600 * 4 {
		for k, q := range names {
			readings = append(readings, logbook.Reading{AtS: float64(i) / 4, Kind: "system", Source: "x", Quantity: q, Value: 50 + 40*math.Sin(float64(i*(k+1))/500)})
		}
	}
	readings[12345*len(names)].Value = 99.5 // a peak
	return d, readings
}

// A page of hours is small, and the one peak in it is on it.
func TestLongRunsAreThinned(t *testing.T) {
	d, readings := long(t, 60)
	var out bytes.Buffer
	require.NoError(t, Write(&out, []*model.Report{model.NewReport(d, readings, false)}, nil))
	require.Less(t, out.Len(), 2<<20)
	require.Contains(t, out.String(), "99.5")
	require.Contains(t, out.String(), "20 more are not drawn")
}

// BenchmarkPage writes the page of two hours of 60 quantities.
func BenchmarkPage(b *testing.B) {
	d, readings := long(b, 60)
	for b.Loop() {
		require.NoError(b, Write(io.Discard, []*model.Report{model.NewReport(d, readings, false)}, nil))
	}
}

// Whatever a run document says, a page comes of it, and nothing of it is script.
func FuzzPages(f *testing.F) {
	f.Add([]byte(`{"id":"x","rungs":[{"load":"h264 720p25 5M","column":"a","attempts":[{"verdict":"smooth","started":"2026-01-01T00:00:00Z","frames":{"due":5}}]}],"readings":[{"at_s":1,"quantity":"cpu_core_pct:0","value":5},{"at_s":-1e300,"quantity":"cpu_pct","value":1e308}]}`))
	f.Add([]byte(`{"kind":"crowd","plan":{"crowd":{"mix":["h264 720p25 5M"],"numbers":[1,2]}},"device":{"name":"<script>x()</script>"},"ended":"1999-01-01T00:00:00Z"}`))
	f.Add([]byte(`{"kind":"map","map":[{"size":"720p","rate":"25","load":"h264 720p25 5M"}],"ceiling":{"columns":[{"column":"a","load":"h264 720p25 5M","refined":[{"by":"rate"}]}]}}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		var d logbook.Document
		if json.Unmarshal(data, &d) != nil {
			return
		}
		var out bytes.Buffer
		r := model.NewReport(&d, d.Readings, false)
		m := []model.Measured{{Docs: []*logbook.Document{&d}, Readings: [][]logbook.Reading{d.Readings}}, {Docs: []*logbook.Document{&d}, Readings: [][]logbook.Reading{nil}}}
		require.NoError(t, Write(&out, []*model.Report{r}, model.Compare(m)))
		require.NotContains(t, out.String(), "<script>x")
	})
}
