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
	"vividstrain/core/media/stream"
	"vividstrain/core/media/stream/dash"
	"vividstrain/core/media/stream/hls"
	"vividstrain/core/transcode"
)

// routes returns the addresses that the server answers.
func (b *Server) routes() {
	b.mux = http.NewServeMux()
	b.mux.Handle("GET /metrics", b.Metrics())
	b.mux.HandleFunc("GET /{$}", b.index)
	b.mux.HandleFunc("GET /film/{film}/file", b.withFilm(b.file))
	b.mux.HandleFunc("GET /film/{film}/ts/{goal}", b.withSegments(b.transportStream))
	b.mux.HandleFunc("GET /film/{film}/hls/main.m3u8", b.withFilm(b.variants))
	b.mux.HandleFunc("GET /film/{film}/hls/{goal}/list.m3u8", b.withSegments(b.list("list.m3u8", b.hls)))
	b.mux.HandleFunc("GET /film/{film}/dash/{goal}/main.mpd", b.withSegments(b.list("main.mpd", b.dash)))
	b.mux.HandleFunc("GET /film/{film}/as-is/{segment}", b.withSegments(b.segment))
	b.mux.HandleFunc("GET /session/{id}/list.m3u8", b.withSession(func(w http.ResponseWriter, _ *http.Request, s *session) { b.hls(w, s) }))
	b.mux.HandleFunc("GET /session/{id}/main.mpd", b.withSession(func(w http.ResponseWriter, _ *http.Request, s *session) { b.dash(w, s) }))
	b.mux.HandleFunc("GET /session/{id}/{segment}", b.withSession(b.converted))
}

// ServeHTTP answers a request within the server's limits.
func (b *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if r.URL.Path != "/metrics" {
		if b.hold.gate(r.Context()) != nil {
			return
		}
		w = writer{w, r.Context(), b.hold}
	}
	b.mux.ServeHTTP(w, r)
}

// withFilm wraps a handler of requests for a film.
func (b *Server) withFilm(serve func(http.ResponseWriter, *http.Request, *film)) http.HandlerFunc {
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

func (b *Server) withSession(serve func(http.ResponseWriter, *http.Request, *session)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		s := b.session(r.PathValue("id"))
		if s == nil {
			http.Error(w, "this session has ended", http.StatusGone)
			return
		}
		serve(w, r, s)
	}
}

// file delivers a film as-is, whole or a range.
func (b *Server) file(w http.ResponseWriter, r *http.Request, f *film) { http.ServeFile(w, r, f.path) }

// goalOf parses a goal as addresses have it: "720p-4M".
func goalOf(word string) (media.Goal, error) {
	g, err := load.ParseGoal(strings.ReplaceAll(word, "-", " "))
	if err == nil {
		err = transcode.CheckGoal(g)
	}
	return g, err
}

// listed is something with a playlist: a film as-is, or a session.
type listed interface{ media() stream.Media }

// withSegments wraps a handler of requests for a film that is divided into segments.
func (b *Server) withSegments(serve func(http.ResponseWriter, *http.Request, *film)) http.HandlerFunc {
	return b.withFilm(func(w http.ResponseWriter, r *http.Request, f *film) {
		// Others wait for it, too: it continues when this viewer leaves.
		if err := f.divide(b.ctx, b.folder.Path, b.options.Segment.Seconds()); err != nil {
			b.fail(w, err)
			return
		}
		serve(w, r, f)
	})
}

// beginFor starts a session for the goal in the address. If it cannot, it answers with the
// reason and returns nil.
func (b *Server) beginFor(w http.ResponseWriter, f *film, word string) *session {
	g, err := goalOf(word)
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return nil
	}
	s, err := b.begin(f, g)
	if err != nil {
		b.fail(w, err)
		return nil
	}
	return s
}

// list answers with a playlist of a film as-is, or starts a session and redirects the viewer to
// it.
func (b *Server) list(name string, write func(http.ResponseWriter, listed)) func(http.ResponseWriter, *http.Request, *film) {
	return func(w http.ResponseWriter, r *http.Request, f *film) {
		if r.PathValue("goal") == media.AsIs {
			write(w, f)
			return
		}
		s := b.beginFor(w, f, r.PathValue("goal"))
		if s == nil {
			return
		}
		http.Redirect(w, r, "/session/"+s.id+"/"+name, http.StatusFound)
	}
}

// fail answers with an error.
func (b *Server) fail(w http.ResponseWriter, err error) {
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

// variants answers with a multivariant playlist: as-is, and a few smaller goals.
func (b *Server) variants(w http.ResponseWriter, _ *http.Request, f *film) {
	var list []stream.Variant
	add := func(format media.Format, word string) {
		list = append(list, stream.Variant{URL: fmt.Sprintf("/film/%s/hls/%s/list.m3u8", url.PathEscape(f.file), word), Format: format, Bitrate: format.Bitrate})
	}
	add(f.track.Format, media.AsIs)
	for _, line := range []string{"720p 4M", "480p 1.5M", "240p 0.5M"} {
		g, err := load.ParseGoal(line)
		if err != nil || g.Height >= f.track.Format.Height {
			continue
		}
		add(media.Format{Width: g.Width, Height: g.Height, Rate: f.track.Format.Rate, Bitrate: g.Bitrate}, g.Word())
	}
	w.Header().Set("Content-Type", typeHLS)
	b.sent(hls.WriteVariants(w, list))
}

// The media types of playlists (RFC 8216, 10) and manifests (ISO/IEC 23009-1, annex C).
const (
	typeHLS  = "application/vnd.apple.mpegurl"
	typeDASH = "application/dash+xml"
)

// hls answers with a media playlist.
func (b *Server) hls(w http.ResponseWriter, l listed) {
	m := l.media()
	w.Header().Set("Content-Type", typeHLS)
	b.sent(hls.WriteMedia(w, &m))
}

// dash answers with a manifest.
func (b *Server) dash(w http.ResponseWriter, l listed) {
	m := l.media()
	w.Header().Set("Content-Type", typeDASH)
	b.sent(dash.Write(w, &m))
}

// sent logs that a viewer left before it had the whole answer.
func (b *Server) sent(err error) {
	if err != nil {
		b.options.Log.Debug("a playlist broke off", "because", err)
	}
}

func (f *film) media() stream.Media {
	m := segmentsBelow("/film/" + url.PathEscape(f.file) + "/" + media.AsIs)
	m.Format, m.Codecs = f.track.Format, registry.CodecString(f.tracks[0])
	for _, s := range f.segments {
		m.Durations = append(m.Durations, s.lasts)
	}
	return m
}

func (s *session) media() stream.Media {
	m := segmentsBelow("/session/" + s.id)
	m.Format = media.Format{Codec: registry.DefaultEncoder().Name, Width: s.goal.Width, Height: s.goal.Height, Rate: s.goal.Rate, Bitrate: s.goal.Bitrate}
	if m.Format.Rate.Num == 0 {
		m.Format.Rate = s.film.track.Format.Rate
	}
	for i := range s.count() {
		m.Durations = append(m.Durations, s.lasts(i))
	}
	return m
}

// initName is the name of the initialisation segment.
const initName = "init.mp4"

// segmentsBelow returns a film whose segments are below an address.
func segmentsBelow(base string) stream.Media {
	return stream.Media{Init: base + "/" + initName, Segment: base + "/$Number$.m4s"}
}

// number parses the name of a segment; -1 is the initialisation segment.
func number(name string) (int, bool) {
	if name == initName {
		return -1, true
	}
	n, err := strconv.Atoi(strings.TrimSuffix(name, ".m4s"))
	return n, err == nil && n >= 0 && n < 1<<20
}

// segment delivers a segment of a film as-is.
func (b *Server) segment(w http.ResponseWriter, r *http.Request, f *film) {
	n, ok := number(r.PathValue("segment"))
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

// converted delivers a segment of a conversion as soon as it is made.
func (b *Server) converted(w http.ResponseWriter, r *http.Request, s *session) {
	n, ok := number(r.PathValue("segment"))
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

// transportStream delivers a conversion as one transport stream, as fast as the viewer takes it.
func (b *Server) transportStream(w http.ResponseWriter, r *http.Request, f *film) {
	s := b.beginFor(w, f, strings.TrimSuffix(r.PathValue("goal"), ".ts"))
	if s == nil {
		return
	}
	defer b.end(s, "the stream has ended")
	s.mu.Lock()
	s.waiting++ // it is in use as long as it is open
	s.mu.Unlock()
	if err := b.pour(r.Context(), w, f, s.goal); err != nil && r.Context().Err() == nil {
		b.options.Log.Warn("stream broke off", "because", err)
	}
}

// converter returns a converter of a source from a time on, in seconds of its times, within the
// server's limits.
func (b *Server) converter(source transcode.Source, f *film, g media.Goal, from float64) (*transcode.Converter, error) {
	b.hold.conversions.Add(1)
	return transcode.New(source, f.track, transcode.Order{Goal: g, From: from, Decoders: b.options.Threads, Encoders: b.options.Threads, Gate: b.hold.gate})
}

// pour writes a conversion of a film to w.
func (b *Server) pour(ctx context.Context, w http.ResponseWriter, f *film, g media.Goal) error {
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

// onward hides that a writer can seek.
type onward struct{ io.Writer }

func (onward) Seek(int64, int) (int64, error) { return 0, errors.New("a stream only goes on") }

//go:embed index.html
var indexText string

var indexPage = template.Must(template.New("index").Funcs(template.FuncMap{"path": url.PathEscape}).Parse(indexText))

// index answers with a page of the films and their addresses.
func (b *Server) index(w http.ResponseWriter, _ *http.Request) {
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
