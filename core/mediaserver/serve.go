package mediaserver

import (
	"bytes"
	"context"
	_ "embed"
	"errors"
	"fmt"
	"html/template"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"vividstrain/core/load"
	"vividstrain/core/media"
	"vividstrain/core/media/registry"
	"vividstrain/core/transcode"
)

// routes are the addresses that the box answers.
func (b *Box) routes() {
	b.mux = http.NewServeMux()
	b.mux.Handle("GET /metrics", b.Metrics())
	b.mux.HandleFunc("GET /{$}", b.index)
	b.mux.HandleFunc("GET /film/{film}/file", b.withFilm(b.file))
	b.mux.HandleFunc("GET /film/{film}/ts/{goal}", b.withSegments(b.stream))
	b.mux.HandleFunc("GET /film/{film}/hls/main.m3u8", b.withFilm(b.variants))
	b.mux.HandleFunc("GET /film/{film}/hls/{goal}/list.m3u8", b.withSegments(b.list("list.m3u8", b.hls)))
	b.mux.HandleFunc("GET /film/{film}/dash/{goal}/main.mpd", b.withSegments(b.list("main.mpd", b.dash)))
	b.mux.HandleFunc("GET /film/{film}/as-is/{piece}", b.withSegments(b.piece))
	b.mux.HandleFunc("GET /session/{id}/list.m3u8", b.withSession(func(w http.ResponseWriter, _ *http.Request, s *session) { b.hls(w, s) }))
	b.mux.HandleFunc("GET /session/{id}/main.mpd", b.withSession(func(w http.ResponseWriter, _ *http.Request, s *session) { b.dash(w, s) }))
	b.mux.HandleFunc("GET /session/{id}/{piece}", b.withSession(b.converted))
}

// ServeHTTP answers a request within what the box is held to.
func (b *Box) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if r.URL.Path != "/metrics" {
		if b.hold.gate(r.Context()) != nil {
			return
		}
		w = writer{w, r.Context(), b.hold}
	}
	b.mux.ServeHTTP(w, r)
}

// withFilm finds the film that a request is about.
func (b *Box) withFilm(serve func(http.ResponseWriter, *http.Request, *film)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		f := b.film(r.PathValue("film"))
		if f == nil {
			http.Error(w, "there is no such film here", http.StatusNotFound)
			return
		}
		if why := b.refuses(f); why != "" {
			http.Error(w, why, http.StatusUnsupportedMediaType)
			return
		}
		serve(w, r, f)
	}
}

func (b *Box) withSession(serve func(http.ResponseWriter, *http.Request, *session)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		s := b.session(r.PathValue("id"))
		if s == nil {
			http.Error(w, "this session has ended", http.StatusGone)
			return
		}
		serve(w, r, s)
	}
}

// file hands out a film as it is, or a part of it.
func (b *Box) file(w http.ResponseWriter, r *http.Request, f *film) { http.ServeFile(w, r, f.path) }

// goalOf reads a goal as it stands in addresses: "720p-4M".
func goalOf(word string) (media.Goal, error) {
	g, err := load.ParseGoal(strings.ReplaceAll(word, "-", " "))
	if err == nil {
		err = transcode.CheckGoal(g)
	}
	return g, err
}

// pieces is what a playlist lists: a film as it is, or a session.
type pieces interface {
	base() string // of addresses
	durations() []float64
	format() media.Format
	codecs() string
	piece(n int) string
}

// withSegments finds the film that a request is about, divided into segments.
func (b *Box) withSegments(serve func(http.ResponseWriter, *http.Request, *film)) http.HandlerFunc {
	return b.withFilm(func(w http.ResponseWriter, r *http.Request, f *film) {
		// Others wait for it, too: it goes on when this viewer leaves.
		if err := f.divide(b.ctx, b.folder.Path, b.options.Segment.Seconds()); err != nil {
			b.fail(w, err)
			return
		}
		serve(w, r, f)
	})
}

// list answers with a playlist of a film as it is, or begins a session and sends
// the viewer there.
func (b *Box) list(name string, write func(http.ResponseWriter, pieces)) func(http.ResponseWriter, *http.Request, *film) {
	return func(w http.ResponseWriter, r *http.Request, f *film) {
		if r.PathValue("goal") == media.AsIs {
			write(w, f)
			return
		}
		g, err := goalOf(r.PathValue("goal"))
		if err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		s, err := b.begin(f, g)
		if err != nil {
			b.fail(w, err)
			return
		}
		http.Redirect(w, r, "/session/"+s.id+"/"+name, http.StatusFound)
	}
}

// fail answers with an error of ours.
func (b *Box) fail(w http.ResponseWriter, err error) {
	b.options.Log.Warn("refused", "because", err)
	status := http.StatusInternalServerError
	switch {
	case errors.Is(err, errMemory):
		status = http.StatusServiceUnavailable
	case errors.Is(err, errEnded):
		status = http.StatusGone
	}
	http.Error(w, err.Error(), status)
}

// variants is a multivariant playlist (RFC 8216, 4.3.4): as it is, and a few goals
// below that.
func (b *Box) variants(w http.ResponseWriter, _ *http.Request, f *film) {
	var out bytes.Buffer
	out.WriteString("#EXTM3U\n#EXT-X-VERSION:7\n")
	entry := func(format media.Format, bits int64, word string) {
		fmt.Fprintf(&out, "#EXT-X-STREAM-INF:BANDWIDTH=%d,RESOLUTION=%dx%d,FRAME-RATE=%.3f\n/film/%s/hls/%s/list.m3u8\n",
			bits, format.Width, format.Height, format.Rate.Hz(), url.PathEscape(f.file), word)
	}
	entry(f.track.Format, f.track.Format.Bitrate, media.AsIs)
	for _, line := range []string{"720p 4M", "480p 1.5M", "240p 0.5M"} {
		g, err := load.ParseGoal(line)
		if err != nil || g.Height >= f.track.Format.Height {
			continue
		}
		entry(media.Format{Width: g.Width, Height: g.Height, Rate: f.track.Format.Rate}, g.Bitrate, g.Word())
	}
	w.Header().Set("Content-Type", "application/vnd.apple.mpegurl")
	w.Write(out.Bytes())
}

// hls writes a media playlist (RFC 8216, 4.3.3).
func (b *Box) hls(w http.ResponseWriter, p pieces) {
	var out bytes.Buffer
	longest := 0.0
	for _, d := range p.durations() {
		longest = max(longest, d)
	}
	fmt.Fprintf(&out, "#EXTM3U\n#EXT-X-VERSION:7\n#EXT-X-TARGETDURATION:%d\n#EXT-X-PLAYLIST-TYPE:VOD\n#EXT-X-MAP:URI=\"%s/head.mp4\"\n", int(longest+0.5), p.base())
	for i, d := range p.durations() {
		fmt.Fprintf(&out, "#EXTINF:%.5f,\n%s/%s\n", d, p.base(), p.piece(i))
	}
	out.WriteString("#EXT-X-ENDLIST\n")
	w.Header().Set("Content-Type", "application/vnd.apple.mpegurl")
	w.Write(out.Bytes())
}

// dash writes a manifest (ISO/IEC 23009-1, 5.2) with a timeline.
func (b *Box) dash(w http.ResponseWriter, p pieces) {
	var out bytes.Buffer
	f, total := p.format(), 0.0
	var line strings.Builder
	for _, d := range p.durations() {
		total += d
		fmt.Fprintf(&line, "<S d=\"%d\"/>", int64(d*90000+0.5))
	}
	fmt.Fprintf(&out, `<?xml version="1.0" encoding="UTF-8"?>
<MPD xmlns="urn:mpeg:dash:schema:mpd:2011" type="static" profiles="urn:mpeg:dash:profile:isoff-live:2011" minBufferTime="PT2S" mediaPresentationDuration="PT%.3fS">
<Period id="film"><AdaptationSet contentType="video" mimeType="video/mp4" segmentAlignment="true" startWithSAP="1">
<SegmentTemplate timescale="90000" startNumber="0" initialization="%[2]s/head.mp4" media="%[2]s/$Number$.m4s"><SegmentTimeline>%[3]s</SegmentTimeline></SegmentTemplate>
<Representation id="video" bandwidth="%[4]d" width="%[5]d" height="%[6]d" frameRate="%[7]d/%[8]d"%[9]s/>
</AdaptationSet></Period></MPD>
`, total, p.base(), line.String(), f.Bitrate, f.Width, f.Height, f.Rate.Num, f.Rate.Den, codecsAttribute(p.codecs()))
	w.Header().Set("Content-Type", "application/dash+xml")
	w.Write(out.Bytes())
}

func codecsAttribute(codecs string) string {
	if codecs == "" {
		return ""
	}
	return fmt.Sprintf(` codecs="%s"`, codecs)
}

func (f *film) base() string         { return "/film/" + url.PathEscape(f.file) + "/" + media.AsIs }
func (f *film) format() media.Format { return f.track.Format }
func (f *film) piece(n int) string   { return strconv.Itoa(n) + ".m4s" }

func (f *film) durations() []float64 {
	list := make([]float64, len(f.segments))
	for i, s := range f.segments {
		list[i] = s.lasts
	}
	return list
}

// codecs is the codecs parameter (RFC 6381), "" where it is not known.
func (f *film) codecs() string { return registry.CodecString(f.tracks[0]) }

func (s *session) base() string       { return "/session/" + s.id }
func (s *session) codecs() string     { return "" }
func (s *session) piece(n int) string { return strconv.Itoa(n) + ".m4s" }

func (s *session) format() media.Format {
	f := media.Format{Codec: registry.DefaultEncoder().Name, Width: s.goal.Width, Height: s.goal.Height, Rate: s.goal.Rate, Bitrate: s.goal.Bitrate}
	if f.Rate.Num == 0 {
		f.Rate = s.film.track.Format.Rate
	}
	return f
}

func (s *session) durations() []float64 {
	list := make([]float64, s.count())
	for i := range list {
		list[i] = s.lasts(i)
	}
	return list
}

// number reads the name of a segment; -1 is what stands before the first.
func number(piece string) (int, bool) {
	if piece == "head.mp4" {
		return -1, true
	}
	n, err := strconv.Atoi(strings.TrimSuffix(piece, ".m4s"))
	return n, err == nil && n >= 0 && n < 1<<20
}

// piece hands out a segment of a film as it is.
func (b *Box) piece(w http.ResponseWriter, r *http.Request, f *film) {
	n, ok := number(r.PathValue("piece"))
	if !ok || n >= len(f.segments) {
		http.NotFound(w, r)
		return
	}
	section := io.NewSectionReader(f.copy, 0, f.first)
	if n >= 0 {
		section = io.NewSectionReader(f.copy, f.segments[n].offset, f.segments[n].size)
	}
	w.Header().Set("Content-Type", "video/mp4")
	http.ServeContent(w, r, "", time.Time{}, section)
}

// converted hands out a segment of a conversion when it is made.
func (b *Box) converted(w http.ResponseWriter, r *http.Request, s *session) {
	n, ok := number(r.PathValue("piece"))
	if !ok || n >= s.count() {
		http.NotFound(w, r)
		return
	}
	data, err := s.get(r.Context(), n)
	if err != nil {
		if r.Context().Err() == nil {
			b.fail(w, err)
		}
		return
	}
	w.Header().Set("Content-Type", "video/mp4")
	http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(data))
}

// stream hands out a conversion as one transport stream, as long as the viewer
// takes it.
func (b *Box) stream(w http.ResponseWriter, r *http.Request, f *film) {
	g, err := goalOf(strings.TrimSuffix(r.PathValue("goal"), ".ts"))
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	s, err := b.begin(f, g)
	if err != nil {
		b.fail(w, err)
		return
	}
	defer b.end(s, "the stream is over")
	s.mu.Lock()
	s.waiting++ // it is in use as long as it is open
	s.mu.Unlock()
	if err := b.pour(r.Context(), w, f, g); err != nil && r.Context().Err() == nil {
		b.options.Log.Warn("stream broke off", "because", err)
	}
}

// converter prepares to convert a source from a time in it on, in seconds of its
// times, within what the box is held to.
func (b *Box) converter(source transcode.Source, f *film, g media.Goal, from float64) (*transcode.Converter, error) {
	return transcode.New(source, f.track, transcode.Order{Goal: g, From: from, Decoders: b.options.Threads, Encoders: b.options.Threads, Gate: b.hold.gate})
}

// pour converts a film into w.
func (b *Box) pour(ctx context.Context, w http.ResponseWriter, f *film, g media.Goal) error {
	source, err := f.from(0)
	if err != nil {
		return err
	}
	c, err := b.converter(source, f, g, 0)
	if err != nil {
		return err
	}
	w.Header().Set("Content-Type", "video/mp2t")
	muxer, err := registry.Write(registry.TS, onward{w}, c.Tracks(), 0)
	if err != nil {
		return err
	}
	if err := c.Run(ctx, muxer.WritePacket); err != nil {
		return err
	}
	return muxer.Close()
}

// onward is a writer that only goes on.
type onward struct{ io.Writer }

func (onward) Seek(int64, int) (int64, error) { return 0, errors.New("a stream only goes on") }

//go:embed index.html
var indexText string

var indexPage = template.Must(template.New("index").Funcs(template.FuncMap{"path": url.PathEscape}).Parse(indexText))

// index is a page that lists the films and their addresses.
func (b *Box) index(w http.ResponseWriter, _ *http.Request) {
	type row struct{ Name, Format, Refused string }
	var rows []row
	for _, f := range b.films {
		format := f.track.Format
		format.Bitrate = format.Bitrate / 10000 * 10000
		rows = append(rows, row{f.file, load.Load{Format: format, Streams: 1}.String(), b.refuses(f)})
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	if err := indexPage.Execute(w, rows); err != nil {
		b.options.Log.Warn("the index page broke off", "because", err)
	}
}
