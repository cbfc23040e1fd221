package meter

import (
	"net/http"
	"net/http/httptest"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vividstrain/core/sense"
)

// What one computer serves another one reads, with its own times, corrected by
// how far its clock is off.
func TestReadingsFromAnotherComputer(t *testing.T) {
	const ahead = 90 * time.Second
	taken := time.Now().Add(-200 * time.Millisecond)
	latest := func() map[sense.Identity]sense.Sample {
		return map[sense.Identity]sense.Sample{
			{Name: "cpu"}:  {At: taken.Add(ahead), Readings: []sense.Reading{{Quantity: sense.CPU, Value: 42.5}, {Quantity: sense.ThreadUse, Label: `a "b" \ 7`, Value: 99}}},
			{Name: "wall"}: {At: taken.Add(ahead), Rank: 4, Readings: []sense.Reading{{Quantity: sense.CPU, Value: 1}, {Quantity: "no unit", Value: 1}}},
		}
	}
	handler := Serve("gangway", latest)
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		handler.ServeHTTP(aheadWriter{w, ahead}, r)
	}))
	defer s.Close()
	m := one(t, "- name: box\n  metrics: "+s.URL+"\n  token: gangway").(*Metrics)
	values, err := read(t, m, time.Now())
	require.NoError(t, err)
	require.Equal(t, map[string]float64{sense.CPU: 42.5, sense.ThreadUse + `:a "b" \ 7`: 99}, values)
	require.WithinDuration(t, taken, m.ReadAt(), 100*time.Millisecond)
	difference, err := strconv.ParseFloat(m.State()["clock_difference_ms:box"], 64)
	require.NoError(t, err)
	require.InDelta(t, 90_000, difference, 100)
	_, err = read(t, one(t, "- metrics: "+s.URL+"\n  token: lifebelt"), time.Now())
	require.ErrorContains(t, err, "401")
	_, err = read(t, one(t, "- metrics: "+s.URL), time.Now())
	require.ErrorContains(t, err, "401")
}

// aheadWriter is an answer of a computer whose clock is ahead.
type aheadWriter struct {
	http.ResponseWriter
	by time.Duration
}

func (a aheadWriter) Write(p []byte) (int, error) {
	h := a.Header()
	if at, err := time.Parse(time.RFC3339Nano, h.Get(TimeHeader)); err == nil {
		h.Set(TimeHeader, at.Add(a.by).Format(time.RFC3339Nano))
	}
	return a.ResponseWriter.Write(p)
}
