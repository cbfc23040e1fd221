// Package mediaserver is a practice media server. It delivers clips as-is and converts them on
// request, by progressive HTTP, HLS (RFC 8216) and DASH (ISO/IEC 23009-1), within a limited
// share of the computer. It is for tests, demos, and for learning how media servers are tested.
package mediaserver

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net/http"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"vividstrain/core/clock"
	"vividstrain/core/load"
	"vividstrain/core/media"
	"vividstrain/core/media/registry"
	"vividstrain/core/partial"
	"vividstrain/core/sense"
	"vividstrain/core/sense/meter"
)

// Options are the settings of a server.
type Options struct {
	Clips   string        // folder of the films
	Cores   float64       // limit of processor cores, 0: none
	Memory  int64         // limit of memory in bytes, 0: none
	Link    int64         // limit of the link in bits per second, 0: none
	Refuse  []string      // formats that it does not play, each like "hevc 10bit"
	Threads int           // threads of each conversion, 0: one
	Ahead   time.Duration // how far conversions run ahead of requests, 0: 30 s
	Segment time.Duration // 0: 4 s
	Idle    time.Duration // time without requests after which a session ends, 0: 12 s
	Log     *slog.Logger  // may be nil
}

// Server is a practice media server.
type Server struct {
	options Options
	hold    *hold
	films   []*film
	folder  *partial.Folder // for copies of films
	sampler *sense.Sampler
	ctx     context.Context
	cancel  context.CancelFunc
	mux     *http.ServeMux

	mu       sync.Mutex
	sessions map[string]*session
}

// maxSessions is the largest number of simultaneous conversions.
const maxSessions = 1000

// New reads the clips and starts the server.
func New(ctx context.Context, o Options) (*Server, error) {
	o.Threads, o.Segment, o.Ahead, o.Idle = max(o.Threads, 1), or(o.Segment, 4*time.Second), or(o.Ahead, 30*time.Second), or(o.Idle, 12*time.Second)
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	if err := o.check(); err != nil {
		return nil, err
	}
	b := &Server{options: o, sessions: map[string]*session{}}
	paths, err := registry.Find(o.Clips)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	for _, path := range paths {
		f, err := openFilm(ctx, path)
		if err != nil {
			o.Log.Warn("left out", "file", path, "because", err)
			continue
		}
		b.films = append(b.films, f)
	}
	if len(b.films) == 0 {
		return nil, fmt.Errorf("%s: there are no films; \"vividstrain clips build --out %s\" makes some", o.Clips, o.Clips)
	}
	if b.folder, err = partial.NewFolder("vividstrain-box-"); err != nil {
		return nil, err
	}
	b.ctx, b.cancel = context.WithCancel(ctx)
	b.hold = newHold(o)
	b.sampler = sense.Start(b.ctx, clock.Real{}, 250*time.Millisecond, []sense.Source{b.hold}, func(sense.Sample) {})
	b.routes()
	go b.sweep()
	return b, nil
}

func or(d, otherwise time.Duration) time.Duration {
	if d == 0 {
		return otherwise
	}
	return d
}

func (o Options) check() error {
	switch {
	case o.Cores < 0 || o.Cores > 1024:
		return fmt.Errorf("a box has up to 1024 cores, not %g", o.Cores)
	case o.Memory < 0 || o.Memory > 0 && o.Memory < 2*own:
		return fmt.Errorf("a box needs %d MB of memory at least", 2*own>>20)
	case o.Link < 0 || o.Link > 0 && o.Link < 100_000:
		return errors.New("a link carries 100k at least")
	case o.Segment < time.Second || o.Segment > time.Minute || o.Segment%time.Second != 0:
		return fmt.Errorf("segments last whole seconds from 1 to 60, not %s", o.Segment)
	case o.Threads > 64:
		return fmt.Errorf("a conversion has 1 to 64 threads, not %d", o.Threads)
	}
	return nil
}

// Close ends all sessions.
func (b *Server) Close() error {
	b.cancel()
	b.mu.Lock()
	sessions := b.sessions
	b.sessions = map[string]*session{}
	b.mu.Unlock()
	for _, s := range sessions {
		s.close()
	}
	b.sampler.Stop()
	for _, f := range b.films {
		if f.copy != nil {
			f.copy.Close()
		}
	}
	return b.folder.Close()
}

// Metrics serves the server's use of its share as an OpenMetrics page.
func (b *Server) Metrics() http.Handler { return meter.Page(b.sampler.Latest) }

// film returns the film with a name, or whose name begins with it.
func (b *Server) film(name string) *film {
	for _, f := range b.films {
		if f.file == name || strings.TrimSuffix(f.file, filepath.Ext(f.file)) == name {
			return f
		}
	}
	for _, f := range b.films {
		if rest, found := strings.CutPrefix(f.file, name); found && name != "" && (rest[0] == '-' || rest[0] == '.') {
			return f
		}
	}
	return nil
}

// refuses returns why the server does not play a film, "" if it does.
func (b *Server) refuses(f *film) string {
	for _, rule := range b.options.Refuse {
		words := strings.Fields(rule)
		line := strings.Fields(strings.ToLower(load.Load{Format: f.track.Format, Streams: 1}.String()))
		line = append(line, f.track.Format.Size(), "8bit")
		if f.track.Format.Depth > 8 {
			line = line[:len(line)-1]
		}
		if len(words) > 0 && !slices.ContainsFunc(words, func(w string) bool { return !slices.Contains(line, strings.ToLower(w)) }) {
			return "this box does not play " + rule
		}
	}
	return ""
}

func newID() string {
	var id [8]byte
	rand.Read(id[:]) // never fails
	return hex.EncodeToString(id[:])
}

// begin starts a session.
func (b *Server) begin(f *film, g media.Goal) (*session, error) {
	b.mu.Lock()
	full := len(b.sessions) >= maxSessions
	b.mu.Unlock()
	if full {
		return nil, errors.New("the box has too many sessions")
	}
	s, err := b.newSession(f, g)
	if err != nil {
		return nil, err
	}
	b.mu.Lock()
	b.sessions[s.id] = s
	n := len(b.sessions)
	b.mu.Unlock()
	b.options.Log.Info("session begins", "id", s.id, "film", f.file, "goal", g.String(), "sessions", n)
	return s, nil
}

// end ends a session.
func (b *Server) end(s *session, why string) {
	b.mu.Lock()
	there := b.sessions[s.id] == s
	delete(b.sessions, s.id)
	n := len(b.sessions)
	b.mu.Unlock()
	if there {
		s.close()
		b.options.Log.Info("session ends", "id", s.id, "because", why, "sessions", n)
	}
}

func (b *Server) session(id string) *session {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.sessions[id]
}

// sweep ends sessions without recent requests.
func (b *Server) sweep() {
	for (clock.Real{}).Sleep(b.ctx, min(b.options.Idle/4, time.Second)) == nil {
		b.mu.Lock()
		var idle []*session
		for _, s := range b.sessions {
			s.mu.Lock()
			if s.waiting == 0 && time.Since(s.used) > b.options.Idle {
				idle = append(idle, s)
			}
			s.mu.Unlock()
		}
		b.mu.Unlock()
		for _, s := range idle {
			b.end(s, "no request for too long")
		}
	}
}
