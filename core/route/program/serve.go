package program

import (
	"crypto/rand"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"strconv"
	"sync"
	"time"

	"vividstrain/core/route/films"
)

// server serves the film that is being played, below a random name.
type server struct {
	listen net.Listener
	http   *http.Server

	mu   sync.Mutex
	name string
	film *films.Film
}

func serve(address string) (*server, error) {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, fmt.Errorf("films cannot be served at %s: %w; --listen takes another address", address, err)
	}
	s := &server{listen: l}
	s.http = &http.Server{Handler: s, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: time.Minute, MaxHeaderBytes: 16 << 10, ErrorLog: log.New(io.Discard, "", 0)}
	go s.http.Serve(l) // until close
	return s, nil
}

func (s *server) close() { s.http.Close() }

// offer makes a film available, and returns its address. A nil film withdraws the one before.
func (s *server) offer(f *films.Film) string {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.name, s.film = rand.Text(), f
	return fmt.Sprintf("http://%s/%s.mp4", s.host(), s.name)
}

// host returns the address at which others reach this computer.
func (s *server) host() string {
	bound := s.listen.Addr().(*net.TCPAddr)
	host := bound.IP.String()
	if bound.IP.IsUnspecified() {
		host = "localhost"
		found, _ := net.InterfaceAddrs()
		for _, a := range found {
			if n, is := a.(*net.IPNet); is && n.IP.To4() != nil && !n.IP.IsLoopback() && !n.IP.IsLinkLocalUnicast() {
				host = n.IP.String()
				break
			}
		}
	}
	return net.JoinHostPort(host, strconv.Itoa(bound.Port))
}

// ServeHTTP delivers the film, whole or in ranges.
func (s *server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	name, f := s.name, s.film
	s.mu.Unlock()
	if f == nil || r.URL.Path != "/"+name+".mp4" {
		http.NotFound(w, r)
		return
	}
	w.Header().Set("Content-Type", f.ContentType())
	http.ServeFile(w, r, f.Path)
}
