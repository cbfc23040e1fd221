package page

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/coder/websocket"
	"github.com/robertkrimen/otto/parser"
	"github.com/stretchr/testify/require"

	"vividstrain/core/load"
	"vividstrain/core/media/registry"
	"vividstrain/core/route"
)

func opened(t *testing.T, o Options) *Page {
	o.Listen, o.Screen, o.Fit = "127.0.0.1:0", "full", "fit"
	p, err := New(o)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, p.Close()) })
	return p
}

// joined connects a page that is played by the test.
func joined(t *testing.T, p *Page, hello string) *websocket.Conn {
	c, _, err := websocket.Dial(t.Context(), strings.Replace(p.hub.local(), "http", "ws", 1)+"ws", nil)
	require.NoError(t, err)
	t.Cleanup(func() { c.CloseNow() })
	require.NoError(t, c.Write(t.Context(), websocket.MessageText, []byte(hello)))
	return c
}

// next returns the next order of a kind.
func next(t *testing.T, c *websocket.Conn, kind string) (o order) {
	for {
		ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
		_, data, err := c.Read(ctx)
		cancel()
		require.NoError(t, err)
		require.NoError(t, json.Unmarshal(data, &o))
		if o.Do == kind {
			return o
		}
	}
}

// Everything but what is below the code is refused, and the page may fetch from here alone.
func TestOnlyTheCodeOpensThePage(t *testing.T) {
	p := opened(t, Options{})
	base := strings.TrimSuffix(p.hub.local(), p.hub.code+"/")
	get := func(path string) *http.Response {
		r, err := http.Get(base + path)
		require.NoError(t, err)
		r.Body.Close()
		return r
	}
	for _, path := range []string{"", "page.js", "wrong1/", "film/x", p.hub.code + "x/", p.hub.code + "/../etc/passwd", p.hub.code + "/film/none", p.hub.code + "/page.go"} {
		require.Equal(t, http.StatusNotFound, get(path).StatusCode, path)
	}
	page := get(p.hub.code + "/")
	require.Equal(t, http.StatusOK, page.StatusCode)
	policy := page.Header.Get("Content-Security-Policy")
	require.Contains(t, policy, "default-src 'none'; script-src 'self'; style-src 'self'")
	require.NotContains(t, policy, "unsafe")
	require.Equal(t, "nosniff", page.Header.Get("X-Content-Type-Options"))
	r, err := http.Post(base+p.hub.code+"/", "text/plain", nil)
	require.NoError(t, err)
	r.Body.Close()
	require.Equal(t, http.StatusMethodNotAllowed, r.StatusCode)
	limited := false
	for range 60 {
		limited = limited || get("guess/").StatusCode == http.StatusTooManyRequests
	}
	require.True(t, limited, "codes cannot be tried one after the other")
	require.Equal(t, http.StatusOK, get(p.hub.code+"/page.js").StatusCode, "the page itself still works")
	_, _, err = websocket.Dial(t.Context(), strings.Replace(p.hub.local(), "http", "ws", 1)+"ws", &websocket.DialOptions{HTTPHeader: http.Header{"Origin": {"http://other.test"}}})
	require.Error(t, err, "other sites' pages may not connect")
}

// The page is plain: it parses as ES5, and requests nothing from outside.
func TestThePageIsPlain(t *testing.T) {
	for _, name := range []string{"page.js", "index.html", "page.css"} {
		data, err := static.ReadFile("static/" + name)
		require.NoError(t, err)
		require.NotContains(t, string(data), "http://")
		require.NotContains(t, string(data), "https://")
		if name == "page.js" {
			_, err = parser.ParseFile(nil, name, data, 0)
			require.NoError(t, err, "it parses as ES5")
		}
	}
}

// A page that is no page of ours is sent away.
func TestMessagesAreChecked(t *testing.T) {
	p := opened(t, Options{})
	for _, hello := range []string{"{", `{"say":"tick"}`, `{"say":"hello","t":1e300}`, `{"say":"hello","lacks":[` + strings.Repeat(`"x",`, 100) + `"x"]}`} {
		c := joined(t, p, hello)
		_, _, err := c.Read(t.Context())
		require.Error(t, err, hello)
	}
	require.False(t, p.there())
	c := joined(t, p, `{"say":"hello","page":"a","ready":true,"facts":{"screen":"1x1`+"\x1b"+`[2J","evil":"x"}}`)
	_, _, err := c.Read(t.Context())
	require.Error(t, err, "control characters are no JSON")
	c = joined(t, p, `{"say":"hello","page":"a","ready":true,"facts":{"screen":"1x1\u001b[2J","evil":"x"}}`)
	next(t, c, "welcome")
	require.NoError(t, p.Await(t.Context()))
	require.Equal(t, "1x1[2J", p.Device().Spec["screen"])
	require.NotContains(t, p.Device().Spec, "evil")
	for range 3000 {
		if err = c.Write(t.Context(), websocket.MessageText, []byte(`{"say":"ready"}`)); err != nil {
			break
		}
	}
	if err == nil {
		_, _, err = c.Read(t.Context())
		for err == nil {
			_, _, err = c.Read(t.Context())
		}
	}
	require.ErrorContains(t, err, "too many messages")
}

func FuzzMessages(f *testing.F) {
	f.Add([]byte(`{"say":"hello","page":"x","facts":{"screen":"1920x1080"},"lacks":["wake lock: x"]}`))
	f.Add([]byte(`{"say":"tick","attempt":1,"t":12.5,"at":1,"ahead":3,"total":25,"dropped":1,"frames":[[1,0,1000,0,1,25,0],[2,0.04,1040,1,1,26,0]]}`))
	f.Add([]byte(`{"say":"event","attempt":1,"kind":"first","t":1000}`))
	f.Add([]byte(`{"say":"promises","id":1,"items":[null,{"supported":true,"smooth":false}]}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		m, err := parseMessage(data)
		if err != nil {
			return
		}
		a := newAccount(10*time.Second, 2*time.Second, 25)
		a.refresh, a.marks, a.film = 60, 125, 20
		a.take(&message{Say: "event", Kind: "ordered", T: m.T - 10})
		a.take(&message{Say: "event", Kind: "first", T: m.T})
		a.take(m)
		m.T += 3000
		a.take(m)
		a.live()
		for _, w := range a.finish().Windows {
			if f := w.Frames; f != nil {
				require.GreaterOrEqual(t, f.Due, f.Shown)
				require.GreaterOrEqual(t, f.Dropped, 0)
			}
		}
	})
}

func plan(t *testing.T, line string) route.Plan {
	l, err := load.Parse(line)
	require.NoError(t, err)
	return route.Plan{Loads: []load.Load{l}, Hold: 2 * time.Second, Settle: 500 * time.Millisecond}
}

// played has a page of the test's play one attempt.
func played(t *testing.T, p *Page, do func(o order)) (route.Result, error) {
	pl := plan(t, "h264 240p25 0.5M")
	require.NoError(t, p.Prepare(t.Context(), pl.Loads[0], nil))
	c := joined(t, p, `{"say":"hello","page":"a","ready":true}`)
	go func() {
		o := next(t, c, "ask")
		_ = c.Write(t.Context(), websocket.MessageText, []byte(`{"say":"promises","id":`+jsonOf(o.ID)+`,"items":[{"supported":true,"smooth":true,"efficient":false}]}`))
		do(next(t, c, "play"))
	}()
	require.NoError(t, p.Await(t.Context()))
	return p.Play(t.Context(), pl, func(route.Live) {})
}

func jsonOf(v any) string {
	data, _ := json.Marshal(v)
	return string(data)
}

// The film of an attempt is one file that is longer than the rung, with times that go on; it is
// served while it plays, in ranges, and gone afterwards.
func TestFilmsCoverTheRung(t *testing.T) {
	p := opened(t, Options{Clips: t.TempDir(), Marks: true})
	var name string
	path := filepath.Join(t.TempDir(), "film.mp4")
	result, err := played(t, p, func(o order) {
		require.Len(t, o.Films, 1)
		require.Equal(t, int64(2000), o.Films[0].HoldMS)
		name = p.hub.local() + "film/" + o.Films[0].Name
		r, err := http.Get(name)
		require.NoError(t, err)
		data, err := io.ReadAll(r.Body)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(path, data, 0o600))
		require.Contains(t, r.Header.Get("Content-Type"), `video/mp4; codecs="avc1.`)
		q, err := http.NewRequest(http.MethodGet, name, nil)
		require.NoError(t, err)
		q.Header.Set("Range", "bytes=100-199")
		part, err := http.DefaultClient.Do(q)
		require.NoError(t, err)
		require.Equal(t, http.StatusPartialContent, part.StatusCode)
		require.EqualValues(t, 100, part.ContentLength)
		p.mu.Lock()
		try := p.seats[0].try
		p.mu.Unlock()
		try.take(&message{Say: "event", Kind: "error", X: 3})
	})
	require.NoError(t, err)
	require.Equal(t, "the browser could not decode it", result.Failure)
	require.True(t, *result.Promise.Smooth)
	r, err := http.Get(name)
	require.NoError(t, err)
	require.Equal(t, http.StatusNotFound, r.StatusCode)
	film, err := registry.Open(path)
	require.NoError(t, err)
	defer film.Close()
	require.GreaterOrEqual(t, film.Tracks()[0].Duration, 5*time.Second)
	list, err := os.ReadDir(p.maker.Folder.Path)
	require.NoError(t, err)
	require.NotContains(t, jsonOf(list), ".mp4")
}

// A page that comes back is repeated; one that is loaded anew has crashed; others are sent away.
func TestPagesThatComeBack(t *testing.T) {
	for hello, says := range map[string]string{`{"say":"hello","page":"a","ready":true}`: "lost and came back", `{"say":"hello","page":"b"}`: "loaded anew 0.0 s into the rung"} {
		p := opened(t, Options{Clips: t.TempDir()})
		result, err := played(t, p, func(order) { joined(t, p, hello) })
		var unfit *route.UnfitError
		if strings.Contains(says, "anew") {
			require.NoError(t, err)
			require.Contains(t, result.Failure, says)
			require.True(t, p.there(), "it goes on without a press")
		} else {
			require.ErrorAs(t, err, &unfit)
			require.Equal(t, route.Away, unfit.Unfit)
			require.ErrorContains(t, err, says)
		}
	}
}

// A page that falls silent has failed, after half a minute; one that shows nothing sooner.
func TestSilence(t *testing.T) {
	for says, heard := range map[string]bool{"the page went silent 0.0 s into the rung": false, "there was no picture within 20s": true} {
		synctest.Test(t, func(t *testing.T) {
			p := &Page{hub: &hub{delivery: &delivery{}}}
			attempt := &try{number: 1, over: make(chan struct{}), began: time.Now(), heard: time.Now(), accounts: []*account{newAccount(time.Minute, 0, 25)}}
			if heard {
				go func() {
					for range 200 {
						time.Sleep(250 * time.Millisecond)
						attempt.take(&message{Say: "tick"})
					}
				}()
			}
			defer time.Sleep(time.Minute) // the page has said all
			require.NoError(t, p.follow(t.Context(), []*try{attempt}, route.Plan{Hold: time.Minute}, func(route.Live) {}))
			require.Equal(t, says, attempt.failure)
		})
	}
}

// What a browser calls itself is put in words.
func TestBrowsersNames(t *testing.T) {
	for agent, name := range map[string]string{
		"Mozilla/5.0 (X11; Linux x86_64) AppleWebKit/537.36 (KHTML, like Gecko) HeadlessChrome/156.0.0.0 Safari/537.36": "HeadlessChrome 156",
		"Mozilla/5.0 (Macintosh; Intel) AppleWebKit/605.1.15 (KHTML, like Gecko) Version/17.4 Safari/605.1.15":          "Safari 17",
		"Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0":                                        "Firefox 140",
		"Skerry/2": "Skerry 2", "((": "",
	} {
		facts := map[string]string{"browser": agent}
		nameBrowser(facts)
		require.Equal(t, name, facts["browser"], agent)
	}
}
