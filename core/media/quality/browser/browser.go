// Package browser lets an independent decoder and encoder, those of a web browser, check the
// program's own. It is for tests and benchmarks only and uses the browser through W3C WebCodecs
// and HTML.
package browser

import (
	"context"
	"crypto/sha1"
	_ "embed"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"

	"github.com/chromedp/chromedp"

	"vividstrain/core/chromium/headless"
	"vividstrain/core/media/picture"
)

//go:embed page.html
var page []byte

// Browser is a headless browser with the page of this package open.
type Browser struct {
	ctx    context.Context
	end    func()
	server *httptest.Server
}

// Start starts the browser. Files of folder can be played in it.
func Start(ctx context.Context, folder string) (*Browser, error) {
	tab, end, err := headless.Start(ctx)
	if err != nil {
		return nil, err
	}
	b := &Browser{ctx: tab, end: end}
	mux := http.NewServeMux()
	mux.HandleFunc("/", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		_, _ = w.Write(page) // a page that was closed needs no answer
	})
	mux.Handle("/files/", http.StripPrefix("/files/", http.FileServer(http.Dir(folder))))
	b.server = httptest.NewServer(mux)
	if err := chromedp.Do(b.ctx, chromedp.Navigate(b.server.URL)); err != nil {
		b.Close()
		return nil, fmt.Errorf("the browser does not open the page: %w", err)
	}
	return b, nil
}

// Close ends the browser.
func (b *Browser) Close() {
	b.end()
	b.server.Close()
}

// call calls a function of the page with an argument as JSON and returns its result.
func call[T any](b *Browser, function string, argument any) (result T, err error) {
	text, err := json.Marshal(argument)
	if err != nil {
		return result, err
	}
	return chromedp.Run(b.ctx, chromedp.Evaluate[T](fmt.Sprintf("%s(%s)", function, text), chromedp.EvalAwaitPromise))
}

// Film is what the browser's encoder should make: frames of a moving pattern.
type Film struct {
	Codec   string `json:"codec"` // of RFC 6381, "avc1.64001f"
	Width   int    `json:"width"`
	Height  int    `json:"height"`
	Rate    int    `json:"rate"` // frames a second
	Bitrate int    `json:"bitrate"`
	Frames  int    `json:"frames"`
	Mode    string `json:"mode"` // latency mode: "quality" or "realtime"
	// Noise is the amount of moving texture in the picture, 0 to 1.
	Noise float64 `json:"noise"`
	// File is a file of the folder with frames as consecutive 8-bit 4:2:0 planes, to be used
	// instead of the pattern.
	File string `json:"file,omitempty"`
}

// Encoded is the result of the browser's encoder.
type Encoded struct {
	Packets [][]byte `json:"packets"` // in byte stream form
	Seconds float64  `json:"seconds"` // from the first frame in to the last packet out; drawing counts where there is no File
}

// Encode lets the browser make a film.
func (b *Browser) Encode(f Film) (Encoded, error) { return call[Encoded](b, "encode", f) }

// Decoded is the result of the browser's decoder.
type Decoded struct {
	Sums    []string `json:"sums"`    // SHA-1 of the planes of every picture
	Seconds float64  `json:"seconds"` // from the first packet in to the last picture out
	Frames  int      `json:"frames"`
}

// Decode lets the browser decode packets in byte stream form. With sums it also computes the
// checksum of every picture, in 4:2:0 or 4:2:2 of 8 or 10 bits.
func (b *Browser) Decode(codec string, packets [][]byte, sums bool) (d Decoded, err error) {
	texts := make([]string, len(packets))
	for i, p := range packets {
		texts[i] = base64.StdEncoding.EncodeToString(p)
	}
	return call[Decoded](b, "decode", map[string]any{"codec": codec, "packets": texts, "sums": sums})
}

// Played is the result of playing a file in a video element.
type Played struct {
	Ended    bool    `json:"ended"`
	Duration float64 `json:"duration"`
	Frames   int     `json:"frames"`
	Error    string  `json:"error"`
}

// Play plays a file of the folder in a video element, to its end.
func (b *Browser) Play(file string) (p Played, err error) {
	return call[Played](b, "play", "/files/"+file)
}

// Sum returns the checksum of a picture as Decode computes it.
func Sum(p *picture.Picture) string {
	hash := sha1.New()
	var row []byte
	for i := range p.Planes {
		_, h := p.Chroma.PlaneSize(i, p.Width, p.Height)
		for y := range h {
			row = p.AppendRow(row[:0], i, y)
			hash.Write(row)
		}
	}
	return hex.EncodeToString(hash.Sum(nil))
}
