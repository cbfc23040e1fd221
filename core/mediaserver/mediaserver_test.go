package mediaserver

import (
	"context"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vividstrain/core/load"
	"vividstrain/core/media/clip"
	"vividstrain/core/route"
	"vividstrain/core/route/server"
	"vividstrain/core/sense"
)

// clips is a folder with two films of twelve seconds.
func clips(t *testing.T) string {
	dir := t.TempDir()
	for _, line := range []string{"h264 240p25 0.5M", "h264 240p25 10bit 0.5M"} {
		_, err := clip.Clip(t.Context(), dir, clip.Order{Format: parsed(t, line).Format, Seconds: 12, Threads: 2})
		require.NoError(t, err)
	}
	return dir
}

func parsed(t *testing.T, line string) load.Load {
	l, err := load.Parse(line)
	require.NoError(t, err)
	return l
}

// opened is a box with its address.
func opened(t *testing.T, o Options) (*Server, string) {
	b, err := New(t.Context(), o)
	require.NoError(t, err)
	s := httptest.NewServer(b)
	t.Cleanup(func() {
		s.Close()
		require.NoError(t, b.Close())
	})
	return b, s.URL
}

// watched has viewers watch a load.
func watched(t *testing.T, address, line string, hold time.Duration, o server.Options) (route.Result, error) {
	o.URL = address
	s, err := server.New(o)
	require.NoError(t, err)
	return s.Play(t.Context(), route.Plan{Loads: []load.Load{parsed(t, line)}, Hold: hold, Settle: hold / 4}, func(route.Live) {})
}

func answer(t *testing.T, address string) (int, string) {
	r, err := http.Get(address)
	require.NoError(t, err)
	defer r.Body.Close()
	text, err := io.ReadAll(r.Body)
	require.NoError(t, err)
	return r.StatusCode, string(text)
}

// As it is and converted, in every form: what arrives is what was asked for.
func TestViewersFindWhatTheyAskFor(t *testing.T) {
	_, address := opened(t, Options{Clips: clips(t), Refuse: []string{"h264 10bit"}, Segment: time.Second})
	for form, path := range map[string]string{"hls": "/film/{clip}/hls/{goal}/list.m3u8", "dash": "/film/{clip}/dash/{goal}/main.mpd",
		"variants": "/film/{clip}/hls/main.m3u8", "file": "/film/{clip}/file", "stream": "/film/{clip}/ts/{goal}"} {
		for _, line := range []string{"h264 240p25 0.5M", "h264 240p25 0.5M -> 160p 0.2M"} {
			isConverted := strings.Contains(line, "->")
			if isConverted == (form == "file") || (form == "variants" || form == "stream") && isConverted == (form == "variants") {
				continue
			}
			t.Run(form+" "+line, func(t *testing.T) {
				result, err := watched(t, address+path, line, 3*time.Second, server.Options{Verify: 1})
				require.NoError(t, err)
				require.Empty(t, result.Failure)
				s := result.Streams[0]
				require.Equal(t, map[bool]string{true: "converted", false: "as-is"}[isConverted], s.Delivered.Treatment)
				require.Empty(t, s.Delivered.Notes)
				require.Zero(t, s.Steady().Dropped+s.Steady().Damaged)
			})
		}
	}
	result, err := watched(t, address+"/film/{clip}/file", "h264 240p25 10bit 0.5M", time.Second, server.Options{})
	require.NoError(t, err)
	require.True(t, result.Refused)
	require.Contains(t, result.Failure, "this box does not play h264 10bit")
	_, err = watched(t, address+"/film/{clip}/file", "h264 720p25 5M", time.Second, server.Options{})
	require.ErrorContains(t, err, "404 Not Found: there is no such film here")
	_, err = watched(t, address+"/film/{clip}/hls/{goal}/list.m3u8", "h264 240p25 0.5M -> 576i 1M", time.Second, server.Options{})
	require.ErrorContains(t, err, "progressive")
}

// A jump starts the conversion anew at its place, and what is there then goes on
// with the film's times.
func TestJumpsStartConversionsAnew(t *testing.T) {
	b, address := opened(t, Options{Clips: clips(t), Segment: 2 * time.Second, Ahead: 4 * time.Second})
	status, text := answer(t, address+"/film/h264-240p25-500k/hls/160p-0.2M/list.m3u8")
	require.Equal(t, http.StatusOK, status)
	require.Equal(t, 6, strings.Count(text, "#EXTINF:2.00000"))
	var s *session
	b.mu.Lock()
	for _, s = range b.sessions {
	}
	b.mu.Unlock()
	for _, n := range []int{0, 5, 1, 2} {
		data, err := s.get(t.Context(), n)
		require.NoError(t, err)
		require.NotEmpty(t, data)
	}
	s.mu.Lock()
	require.LessOrEqual(t, len(s.segments), 6)
	s.mu.Unlock()
	_, err := s.get(t.Context(), 6)
	require.ErrorIs(t, err, errNoSegment)
	result, err := watched(t, address+"/film/{clip}/hls/{goal}/list.m3u8", "h264 240p25 0.5M -> 160p 0.2M", 6*time.Second, server.Options{Jumps: 3})
	require.NoError(t, err)
	require.Empty(t, result.Failure)
	require.Len(t, result.Streams[0].Buffer.Jumps, 3)
	require.Empty(t, result.Streams[0].Delivered.Notes)
}

func TestIdleSessionsEnd(t *testing.T) {
	b, address := opened(t, Options{Clips: clips(t), Idle: 300 * time.Millisecond})
	before := b.hold.charged
	_, text := answer(t, address+"/film/h264-240p25-500k/hls/160p-0.2M/list.m3u8")
	head := text[strings.Index(text, `URI="`)+5:]
	head = address + head[:strings.Index(head, `"`)]
	require.Greater(t, b.hold.charged, before)
	require.Eventually(t, func() bool {
		b.mu.Lock()
		defer b.mu.Unlock()
		return len(b.sessions) == 0
	}, 10*time.Second, 20*time.Millisecond)
	status, said := answer(t, head)
	require.Equal(t, http.StatusGone, status)
	require.Contains(t, said, "this session has ended")
	b.hold.mu.Lock()
	defer b.hold.mu.Unlock()
	require.Equal(t, before, b.hold.charged)
}

func TestMemoryIsHeld(t *testing.T) {
	b, address := opened(t, Options{Clips: clips(t), Memory: 2 * own})
	list := address + "/film/h264-240p25-500k/hls/160p-0.2M/list.m3u8"
	n := 0
	status, said := http.StatusOK, ""
	for ; status == http.StatusOK && n < 100; n++ {
		status, said = answer(t, list)
	}
	require.Equal(t, http.StatusServiceUnavailable, status)
	require.Contains(t, said, "no memory")
	require.Greater(t, n, 2)
	readings, err := b.hold.Sample(t.Context(), time.Now(), nil)
	require.NoError(t, err)
	values := map[string]float64{}
	for _, r := range readings {
		values[r.Quantity] = r.Value
	}
	require.Equal(t, float64(2*own), values[sense.GroupMemLimit])
	require.Greater(t, values[sense.GroupCharged], 0.95*values[sense.GroupMemLimit], "it filled up before it gave up")
}

// The link carries what it is held to, and not more.
func TestLinkIsHeld(t *testing.T) {
	b, address := opened(t, Options{Clips: clips(t), Link: 2_000_000})
	began := time.Now()
	status, data := answer(t, address+"/film/h264-240p25-500k/file")
	require.Equal(t, http.StatusOK, status)
	least := float64(8*len(data)-8*2*chunk) / 2e6
	require.Greater(t, time.Since(began).Seconds(), 0.98*least)
	require.NotEmpty(t, b.sampler.Latest())
}

// The gate lets through as much work as its share, by the processor time of the
// program.
func TestCoresAreHeld(t *testing.T) {
	h := newHold(Options{Cores: 0.3})
	spent, began := h.spent, time.Now()
	for time.Since(began) < 2*time.Second {
		require.NoError(t, h.gate(t.Context()))
		for k := 0; k < 100_000; k++ {
			_ = k
		}
	}
	require.NoError(t, h.gate(t.Context())) // brings the account up to date
	share := (h.spent - spent).Seconds() / time.Since(began).Seconds()
	require.Greater(t, share, 0.15)
	require.Less(t, share, 0.45, "0.3 and a quarter of a second saved up")
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	require.ErrorIs(t, h.gate(ctx), context.Canceled)
}

func TestPages(t *testing.T) {
	_, address := opened(t, Options{Clips: clips(t), Cores: 1.5, Refuse: []string{"10bit"}})
	status, page := answer(t, address+"/")
	require.Equal(t, http.StatusOK, status)
	require.Contains(t, page, "h264-240p25-500k-12s.mp4")
	require.Contains(t, page, "this box does not play 10bit")
	require.Eventually(t, func() bool {
		_, text := answer(t, address+"/metrics")
		return strings.Contains(text, "vividstrain_group_cpu_limit_pct 150") && strings.HasSuffix(text, "# EOF\n")
	}, 5*time.Second, 50*time.Millisecond)
	for _, path := range []string{"/nothing", "/film/x/file", "/session/x/list.m3u8", "/film/h264-240p25-500k/as-is/99.m4s", "/film/h264-240p25-500k/ts/big"} {
		status, _ := answer(t, address+path)
		require.GreaterOrEqual(t, status, 400, path)
		require.Less(t, status, 500, path)
	}
}

func TestBoxesThatCannotBe(t *testing.T) {
	dir := clips(t)
	for says, o := range map[string]Options{"there are no films": {Clips: t.TempDir()}, "cores": {Clips: dir, Cores: -1}, "memory": {Clips: dir, Memory: 1},
		"link": {Clips: dir, Link: 5}, "segments last": {Clips: dir, Segment: 1500 * time.Millisecond}, "threads": {Clips: dir, Threads: 100}} {
		_, err := New(t.Context(), o)
		require.ErrorContains(t, err, says)
	}
}

// A viewer who leaves while a film is divided does not spoil it for the others.
func TestViewersWhoLeaveSpoilNothing(t *testing.T) {
	b, address := opened(t, Options{Clips: clips(t)})
	path := "/film/h264-240p25-500k/hls/as-is/list.m3u8"
	gone, cancel := context.WithCancel(t.Context())
	cancel()
	r := httptest.NewRequestWithContext(gone, http.MethodGet, path, nil)
	b.mux.ServeHTTP(httptest.NewRecorder(), r)
	status, text := answer(t, address+path)
	require.Equal(t, http.StatusOK, status, text)
	require.Contains(t, text, "#EXTINF")
}
