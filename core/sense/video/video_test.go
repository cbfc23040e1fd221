package video

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/coder/websocket"
	"github.com/robertkrimen/otto/parser"
	"github.com/stretchr/testify/require"

	"vividstrain/core/sense"
)

func TestCountsBecomeReadings(t *testing.T) {
	at := time.UnixMilli(1e12)
	a := Count{At: at, Total: 100, Dropped: 2, Ahead: 9}
	require.Equal(t, []sense.Reading{{Quantity: sense.VideoShown, Value: 24}, {Quantity: sense.VideoDropped, Value: 1}, {Quantity: sense.VideoLead, Value: 8}},
		Readings(a, Count{At: at.Add(2 * time.Second), Total: 150, Dropped: 4, Ahead: 8}))
	require.Nil(t, Readings(a, Count{At: at.Add(time.Second), Total: 10}), "another video")
	require.Nil(t, Readings(a, Count{At: at.Add(time.Hour), Total: 110}))
}

func TestFilesOfCounts(t *testing.T) {
	list, err := ReadFile(strings.NewReader(`{"schema":"vividstrain.page/1","samples":[[1000,0,2,25,0,1080],[2000,1,2,50,1,1080]]}`))
	require.NoError(t, err)
	require.Len(t, list, 2)
	require.Equal(t, 1, list[1].Dropped)
	for says, text := range map[string]string{"no file of counts": "{", "schema": `{"schema":"x"}`, "six numbers": `{"schema":"vividstrain.page/1","samples":[[1]]}`,
		"earlier than": `{"schema":"vividstrain.page/1","samples":[[2000,0,0,0,0,0],[1000,0,0,0,0,0]]}`, "negative": `{"schema":"vividstrain.page/1","samples":[[2000,0,0,-1,0,0]]}`} {
		_, err := ReadFile(strings.NewReader(text))
		require.ErrorContains(t, err, says)
	}
}

func FuzzCounts(f *testing.F) {
	f.Add([]byte(`{"schema":"vividstrain.page/1","samples":[[1000,0,2,25,0,1080],[2000,1,2,50,1,1080]]}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		list, err := ReadFile(strings.NewReader(string(data)))
		for i := 1; err == nil && i < len(list); i++ {
			Readings(list[i-1], list[i])
		}
	})
}

// The script connects to where it was offered, and what it sends becomes readings.
func TestFollower(t *testing.T) {
	f := NewFollower()
	server := httptest.NewServer(f)
	defer server.Close()
	r, err := http.Get(server.URL + f.Path())
	require.NoError(t, err)
	defer r.Body.Close()
	require.Contains(t, r.Header.Get("Content-Security-Policy"), "default-src 'none'")
	for _, path := range []string{"/", "/wrong/count", f.Path() + "x"} {
		r, err := http.Get(server.URL + path)
		require.NoError(t, err)
		r.Body.Close()
		require.Equal(t, http.StatusNotFound, r.StatusCode, path)
	}
	address := strings.Replace(server.URL, "http", "ws", 1) + f.Path() + "count"
	script, err := Script(address)
	require.NoError(t, err)
	require.Contains(t, script, address)
	_, err = parser.ParseFile(nil, "follow.js", script, 0)
	require.NoError(t, err, "it parses as ES5")
	_, err = Script("ws://a'b")
	require.Error(t, err)
	c, _, err := websocket.Dial(t.Context(), address, &websocket.DialOptions{HTTPHeader: http.Header{"Origin": {"http://other.test"}}})
	require.NoError(t, err, "from any page")
	send := func(list ...float64) {
		data, err := json.Marshal(list)
		require.NoError(t, err)
		require.NoError(t, c.Write(t.Context(), websocket.MessageText, data))
	}
	var got []sense.Reading
	for i := range 100 {
		send(float64(1000+250*i), float64(i)/4, 3, float64(6*i), 0, 720)
		time.Sleep(60 * time.Millisecond)
		if got, err = f.Sample(t.Context(), time.Now(), nil); len(got) > 0 {
			break
		}
	}
	require.NoError(t, err)
	require.InDelta(t, 24, got[0].Value, 0.1)
	require.Equal(t, 3.0, got[2].Value)
	require.NoError(t, c.Write(t.Context(), websocket.MessageText, []byte(`"hello"`)))
	_, _, err = c.Read(t.Context())
	require.ErrorContains(t, err, "no count")
}
