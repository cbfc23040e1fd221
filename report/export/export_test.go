package export

import (
	"bytes"
	"encoding/csv"
	"strings"
	"testing"
	"time"

	"github.com/parquet-go/parquet-go"
	"github.com/stretchr/testify/require"

	"vividstrain/core/load"
	"vividstrain/core/logbook"
	"vividstrain/core/tally"
	"vividstrain/core/verdict"
)

func example(t *testing.T) (*logbook.Document, []logbook.Reading) {
	l, err := load.Parse("h264 720p25 5M")
	require.NoError(t, err)
	d := &logbook.Document{ID: "r", Started: time.Unix(1700000000, 0), Rungs: []logbook.Rung{{Load: l, Column: "h264", Attempts: []logbook.Attempt{
		{Verdict: verdict.Choppy, Reasons: []string{"a, \"b\"", "c"}, Frames: &tally.Frames{Due: 100, Dropped: 7}, Windows: []tally.Window{{Kind: tally.Steady, ToS: 4, Frames: &tally.Frames{Due: 100, Shown: 93, Dropped: 7}}, {Kind: tally.Jump}}}}}}}
	return d, []logbook.Reading{{AtS: 0.25, Kind: "system", Source: "cpu", Quantity: "cpu_core_pct:0", Value: 12.5, Phase: logbook.Trying}, {AtS: 0.5, Kind: "system", Source: `a "plug"`, Quantity: "odd-name w", Value: 3}, {AtS: 0.75, Kind: "system", Source: "cpu", Quantity: "cpu_core_pct:0", Value: 13}}
}

// Every format gives back what went in.
func TestFormats(t *testing.T) {
	d, readings := example(t)
	rows := Readings(d, readings)
	var out bytes.Buffer
	require.NoError(t, CSV(&out, rows))
	lines, err := csv.NewReader(&out).ReadAll()
	require.NoError(t, err)
	require.Equal(t, []string{"run", "at_s", "unix_ms", "phase", "source_kind", "source", "quantity", "label", "value"}, lines[0])
	require.Equal(t, []string{"r", "0.25", "1700000000250", "attempt", "system", "cpu", "cpu_core_pct", "0", "12.5"}, lines[1])
	out.Reset()
	require.NoError(t, Parquet(&out, rows))
	back, err := parquet.Read[Reading](bytes.NewReader(out.Bytes()), int64(out.Len()))
	require.NoError(t, err)
	require.Equal(t, rows, back)
	out.Reset()
	require.NoError(t, OpenMetrics(&out, rows))
	require.Equal(t, `# TYPE vividstrain_cpu_core_pct gauge
vividstrain_cpu_core_pct{run="r",kind="system",source="cpu",label="0"} 12.5 1700000000.250
vividstrain_cpu_core_pct{run="r",kind="system",source="cpu",label="0"} 13 1700000000.750
# TYPE vividstrain_odd_name_w gauge
vividstrain_odd_name_w{run="r",kind="system",source="a \"plug\""} 3 1700000000.500
# EOF
`, out.String())
	require.Len(t, Frames(d), 1)
	require.EqualValues(t, 93, Frames(d)[0].Shown)
	require.Equal(t, `a, "b"; c`, Rungs(d)[0].Reasons)
	require.EqualValues(t, 7, *Rungs(d)[0].Dropped)
	require.Nil(t, Rungs(d)[0].Watts, "what was not read is absent, not zero")
	out.Reset()
	require.NoError(t, CSV(&out, Rungs(d)))
	require.Equal(t, 2, strings.Count(out.String(), "\n"))
}
