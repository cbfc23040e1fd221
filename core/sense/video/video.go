// Package video reads the counts of a video on a page that is not ours: a script follows the video
// wherever it is run, and sends what the browser counts.
package video

import (
	"context"
	"crypto/rand"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"io"
	"math"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/coder/websocket"

	"vividstrain/core/sense"
)

//go:embed static
var static embed.FS

var index = template.Must(template.ParseFS(static, "static/index.html"))

// Count is what a browser counts at a time.
type Count struct {
	At             time.Time
	Position       float64 // in the film, seconds
	Ahead          float64 // what was fetched beyond it, seconds
	Total, Dropped int     // pictures, since the video began
	Height         int     // of the picture, in lines
}

// UnmarshalJSON parses the array that the script sends, and checks it.
func (c *Count) UnmarshalJSON(data []byte) error {
	var list []float64
	if err := json.Unmarshal(data, &list); err != nil {
		return err
	}
	if len(list) != 6 {
		return errors.New("a count has six numbers")
	}
	for _, x := range list {
		if math.IsNaN(x) || math.Abs(x) > 1e14 {
			return errors.New("a count has a number that makes no sense")
		}
	}
	if list[3] < 0 || list[4] < 0 || list[3] > 1e9 || list[4] > 1e9 {
		return errors.New("a count is negative or too large")
	}
	*c = Count{time.UnixMilli(int64(list[0])), list[1], list[2], int(list[3]), int(list[4]), int(list[5])}
	return nil
}

// Readings returns what happened from one count to another; nothing where the video is another
// one, or began anew.
func Readings(from, to Count) []sense.Reading {
	seconds := to.At.Sub(from.At).Seconds()
	if seconds <= 0 || seconds > 60 || to.Total < from.Total || to.Dropped < from.Dropped {
		return nil
	}
	dropped := float64(to.Dropped-from.Dropped) / seconds
	return []sense.Reading{
		{Quantity: sense.VideoShown, Value: float64(to.Total-from.Total)/seconds - dropped},
		{Quantity: sense.VideoDropped, Value: dropped},
		{Quantity: sense.VideoLead, Value: max(0, to.Ahead)},
	}
}

// Follower receives the counts of a video and is a source of readings. It is an HTTP handler for
// everything below its code.
type Follower struct {
	code string

	mu      sync.Mutex
	last    Count // of the last sample
	newest  Count
	present bool
	heard   time.Time
}

// NewFollower returns a follower with a random code.
func NewFollower() *Follower { return &Follower{code: strings.ToLower(rand.Text()[:10])} }

// Path returns the path below which the follower answers.
func (f *Follower) Path() string { return "/" + f.code + "/" }

// Kind returns "page".
func (*Follower) Kind() string { return "page" }

// Name returns "video".
func (*Follower) Name() string { return "video" }

// Sample reads what happened since the last sample.
func (f *Follower) Sample(_ context.Context, _ time.Time, list []sense.Reading) ([]sense.Reading, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	const silent = 2 * time.Second
	if !f.present || time.Since(f.heard) > silent {
		f.present = false
		return list, nil
	}
	list = append(list, Readings(f.last, f.newest)...)
	f.last = f.newest
	return list, nil
}

// take notes a count.
func (f *Follower) take(c Count) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if !f.present {
		f.last = c
	}
	f.newest, f.present, f.heard = c, true, time.Now()
}

// ServeHTTP answers with the script, or receives counts.
func (f *Follower) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	switch strings.TrimPrefix(r.URL.Path, f.Path()) {
	case "":
		f.offer(w, r)
	case "count":
		f.receive(w, r)
	default:
		http.NotFound(w, r)
	}
}

// offer answers with a page that has the script as a bookmark and as text.
func (f *Follower) offer(w http.ResponseWriter, r *http.Request) {
	script, err := Script("ws://" + r.Host + f.Path() + "count")
	if err != nil {
		http.Error(w, "the script is missing", http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'")
	w.Header().Set("Referrer-Policy", "no-referrer")
	_ = index.Execute(w, map[string]any{"Script": script, "Bookmark": template.URL("javascript:" + url.PathEscape(script))}) // it left
}

// Script returns the script for an address of counts.
func Script(address string) (string, error) {
	if strings.ContainsAny(address, "'\\\n<") {
		return "", fmt.Errorf("%q is no address for a script", address)
	}
	data, err := static.ReadFile("static/follow.js")
	return strings.Replace(string(data), "ADDRESS", address, 1), err
}

// maxCount is the largest size of a count, in bytes.
const maxCount = 1 << 10

// receive receives counts, from whatever page the script is run in.
func (f *Follower) receive(w http.ResponseWriter, r *http.Request) {
	c, err := websocket.Accept(w, r, &websocket.AcceptOptions{InsecureSkipVerify: true}) // any page; the code is the key
	if err != nil {
		return // it was answered
	}
	defer c.CloseNow()
	c.SetReadLimit(maxCount)
	var last time.Time
	for {
		_, data, err := c.Read(r.Context())
		if err != nil {
			return
		}
		var count Count
		if json.Unmarshal(data, &count) != nil {
			c.Close(websocket.StatusPolicyViolation, "that is no count")
			return
		}
		if now := time.Now(); now.Sub(last) >= 50*time.Millisecond { // more often nothing is new
			last = now
			f.take(count)
		}
	}
}

// maxFile is the largest size of a file of counts, in bytes.
const maxFile = 16 << 20

// schema identifies a file of counts.
const schema = "vividstrain.page/1"

// ReadFile parses a file of counts that a page handed over, in order of time.
func ReadFile(r io.Reader) ([]Count, error) {
	data, err := io.ReadAll(io.LimitReader(r, maxFile+1))
	if err != nil {
		return nil, err
	}
	if len(data) > maxFile {
		return nil, fmt.Errorf("it is larger than %d MB", maxFile>>20)
	}
	var file struct {
		Schema  string  `json:"schema"`
		Samples []Count `json:"samples"`
	}
	if err := json.Unmarshal(data, &file); err != nil {
		return nil, fmt.Errorf("it is no file of counts: %w", err)
	}
	if file.Schema != schema {
		return nil, fmt.Errorf("it is no file of counts of a page (schema %q)", schema)
	}
	for i := 1; i < len(file.Samples); i++ {
		if file.Samples[i].At.Before(file.Samples[i-1].At) {
			return nil, fmt.Errorf("count %d is earlier than the one before it", i+1)
		}
	}
	return file.Samples, nil
}
