package cli

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vividstrain/core/logbook"
)

// Keys mark at once; a note is typed, mended and ended, or given up.
func TestKeysTakeNotes(t *testing.T) {
	var got []logbook.Remark
	shown := ""
	k := &keyNotes{add: func(r logbook.Remark) { got = append(got, r) }, show: func(text string) { shown = text }}
	press := func(keys string) {
		for _, b := range []byte(keys) {
			k.press(b)
		}
	}
	press("xs")
	press("p")
	press("nspü")
	require.Equal(t, "note: spü", shown)
	press("\x7f\x7f\x7f\x7f\x7fgreen\r")
	require.Empty(t, shown)
	press("nnever mind\x1b")
	press("n  \n")
	press("s")
	require.Equal(t, []logbook.Remark{{Kind: logbook.Stutter}, {Kind: logbook.Picture}, {Kind: logbook.Note, Text: "green"}, {Kind: logbook.Stutter}}, got)
}

func TestMomentOf(t *testing.T) {
	began := time.Date(2026, 11, 23, 23, 50, 0, 0, time.Local)
	for text, want := range map[string]time.Time{
		"+90s": began.Add(90 * time.Second), "23:55": began.Add(5 * time.Minute), "00:05:10": began.Add(15*time.Minute + 10*time.Second),
		"2026-11-23 23:51:00": began.Add(time.Minute),
	} {
		at, err := momentOf(text, began, began)
		require.NoError(t, err)
		require.True(t, want.Equal(at), "%s: %s", text, at)
	}
	_, err := momentOf("noon", began, began)
	require.ErrorContains(t, err, "is not a time")
}

func TestHandReadings(t *testing.T) {
	for text, want := range map[string]struct {
		quantity string
		value    float64
	}{"noise=53dB": {"noise_db", 53}, "wall_power=24.5W": {"wall_power_w", 24.5}, "wall_power=2,5 kW": {"wall_power_w", 2500}, "case=122F": {"case_c", 50}, "fan_rpm=900": {"fan_rpm", 900}, "temp_c=-5C": {"temp_c", -5}} {
		quantity, v, err := handReading(text)
		require.NoError(t, err, text)
		require.Equal(t, want.quantity, quantity)
		require.InDelta(t, want.value, v, 1e-9)
	}
	for _, text := range []string{"", "noise", "noise=", "noise=loud", "Noise=5dB", "noise=5furlongs", "temp_c=5W"} {
		_, _, err := handReading(text)
		require.Error(t, err, text)
	}
}
