package server

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"vividstrain/core/clock"
	"vividstrain/core/media/stream"
)

// Limits on what a server may send.
const (
	maxPlaylist  = 8 << 20 // bytes
	maxRedirects = 10
	maxAnswer    = 200 // characters of an error's answer that are shown
)

// headBuffer holds the head of a request or an answer, in bytes, for each connection as long as it
// is open; bodies are read past it.
const headBuffer = 1 << 10

// client fetches for one viewer, with connections and cookies of its own.
type client struct {
	http   *http.Client
	server *Server
	conn   atomic.Pointer[net.TCPConn] // the newest one
}

func (s *Server) newClient() *client {
	c := &client{server: s}
	jar, _ := cookiejar.New(nil) // it cannot fail without options
	dial := func(ctx context.Context, network, address string) (net.Conn, error) {
		conn, err := s.options.Dial(ctx, network, address)
		if tcp, ok := conn.(*net.TCPConn); ok {
			c.conn.Store(tcp)
		}
		if err != nil {
			return nil, err
		}
		if err := (clock.Real{}).Sleep(ctx, s.options.Link.Delay); err != nil { // the handshake
			conn.Close()
			return nil, err
		}
		return s.shaper.Wrap(conn), nil
	}
	c.http = &http.Client{Jar: jar, Transport: &leanTransport{dial: dial, timeout: s.options.Timeout, other: &http.Transport{
		Proxy: http.ProxyFromEnvironment, DialContext: dial,
		TLSClientConfig: s.tls.Clone(), TLSHandshakeTimeout: 10 * time.Second, ForceAttemptHTTP2: true,
		ResponseHeaderTimeout: s.options.Timeout, MaxIdleConnsPerHost: 1, MaxResponseHeaderBytes: maxAnswerHead,
		DisableCompression: true, ReadBufferSize: headBuffer, WriteBufferSize: headBuffer,
	}}, CheckRedirect: func(next *http.Request, via []*http.Request) error {
		if len(via) >= maxRedirects {
			return fmt.Errorf("it was redirected %d times", maxRedirects)
		}
		if !s.origins[originOf(next.URL)] {
			next.Header.Del("Authorization")
		}
		return nil
	}}
	return c
}

func (c *client) close() { c.http.CloseIdleConnections() }

// FetchError is an error with an address.
type FetchError struct {
	URL string
	Err error
}

func (e *FetchError) Error() string { return fmt.Sprintf("%s: %s", redact(e.URL), plain(e.Err)) }
func (e *FetchError) Unwrap() error { return e.Err }

// plain describes a network error in a few words.
func plain(err error) string {
	var wrapped *url.Error
	if errors.As(err, &wrapped) {
		err = wrapped.Err
	}
	var timeout net.Error
	var content *contentError
	var unknown x509.UnknownAuthorityError
	switch {
	case errors.As(err, &unknown):
		return "its certificate is not signed by a known authority; give the authority's certificate with --ca FILE"
	case errors.As(err, &content):
		return content.Error()
	case errors.Is(err, syscall.ECONNREFUSED):
		return "nothing answers there (connection refused)"
	case errors.Is(err, syscall.ECONNRESET), errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, io.EOF):
		return "the server closed the connection"
	case errors.As(err, &timeout) && timeout.Timeout():
		return "the server did not answer in time"
	}
	return redact(err.Error())
}

// contentError means that what arrived cannot be read.
type contentError struct{ err error }

func (e *contentError) Unwrap() error { return e.err }

func (e *contentError) Error() string {
	if errors.Is(e.err, io.EOF) || errors.Is(e.err, io.ErrUnexpectedEOF) {
		return "what arrives is truncated, or not a video"
	}
	return e.err.Error()
}

// StatusError is an unexpected HTTP status.
type StatusError struct {
	Status int
	Said   string // the beginning of the answer
}

func (e *StatusError) Error() string {
	text := fmt.Sprintf("%d %s", e.Status, http.StatusText(e.Status))
	if e.Said != "" {
		text += ": " + e.Said
	}
	return text
}

// forbids reports whether the answer is about the viewer or the address, not about the server's
// ability.
func (e *StatusError) forbids() bool {
	return e.Status == http.StatusUnauthorized || e.Status == http.StatusForbidden || e.Status == http.StatusNotFound || e.Status == http.StatusBadRequest
}

// refuses reports whether the server would not even try.
func (e *StatusError) refuses() bool {
	return e.Status == http.StatusUnsupportedMediaType || e.Status == http.StatusNotAcceptable || e.Status == http.StatusNotImplemented
}

// checkRange returns an error unless an answer's Content-Range (RFC 9110, 14.4) is the requested
// range, or starts where it does.
func checkRange(s stream.Span, header string) error {
	var first, last int64
	if n, _ := fmt.Sscanf(header, "bytes %d-%d/", &first, &last); n < 2 {
		return errors.New("the server sent a part of a file without saying which")
	}
	if first != s.Offset || last < first || s.Size > 0 && last >= s.Offset+s.Size {
		return fmt.Errorf("the server sent other bytes (%d to %d) than were asked for (from %d on)", first, last, s.Offset)
	}
	return nil
}

// open requests an address, or a range of it. Errors have type *FetchError.
func (c *client) open(ctx context.Context, address string, s stream.Span) (*http.Response, error) {
	fail := func(err error) (*http.Response, error) {
		if ctx.Err() != nil {
			return nil, context.Cause(ctx)
		}
		return nil, &FetchError{address, err}
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return fail(err)
	}
	ranged := s.Offset > 0 || s.Size > 0
	if s.Size > 0 {
		r.Header.Set("Range", fmt.Sprintf("bytes=%d-%d", s.Offset, s.Offset+s.Size-1))
	} else if ranged {
		r.Header.Set("Range", fmt.Sprintf("bytes=%d-", s.Offset))
	}
	c.identify(r)
	answer, err := c.http.Do(r)
	if err != nil {
		return fail(err)
	}
	switch {
	case answer.StatusCode == http.StatusOK && ranged && s.Offset > 0:
		answer.Body.Close()
		return fail(errors.New("the server does not hand out parts of files"))
	case answer.StatusCode == http.StatusPartialContent && ranged:
		if err := checkRange(s, answer.Header.Get("Content-Range")); err != nil {
			answer.Body.Close()
			return fail(err)
		}
		return answer, nil
	case answer.StatusCode == http.StatusOK:
		return answer, nil
	}
	defer answer.Body.Close()
	head, _ := io.ReadAll(io.LimitReader(answer.Body, 4*maxAnswer)) // what there is
	said := strings.Join(strings.Fields(printable(string(head))), " ")
	if strings.HasPrefix(said, "<") {
		said = "" // a page
	}
	if runes := []rune(said); len(runes) > maxAnswer {
		said = string(runes[:maxAnswer]) + "..."
	}
	return fail(&StatusError{answer.StatusCode, redact(said)})
}

// identify adds the credentials, but only for the addresses that were given.
func (c *client) identify(r *http.Request) {
	o := &c.server.options
	if !c.server.origins[originOf(r.URL)] {
		return
	}
	switch {
	case o.Token != "":
		r.Header.Set("Authorization", "Bearer "+o.Token)
	case o.Login != "":
		name, password, _ := strings.Cut(o.Login, ":")
		r.SetBasicAuth(name, password)
	}
}

// errSilent means that nothing has arrived for too long.
var errSilent = errors.New("the server stopped sending")

// buffers are what answers are read into, shared by all viewers: most of them rest most of the time.
// An answer of which much has arrived is read in large pieces, which takes fewer calls of the system;
// one that is waited for occupies a small buffer.
type buffers struct{ small, large sync.Pool }

const smallBuffer = 8 << 10

func newBuffers() *buffers {
	sized := func(n int) sync.Pool {
		return sync.Pool{New: func() any { b := make([]byte, n); return &b }}
	}
	return &buffers{small: sized(smallBuffer), large: sized(64 << 10)}
}

// body reads an answer in pieces and passes each to take. It ends when a limit is exceeded, or
// when nothing arrives within the timeout.
func (c *client) body(ctx context.Context, answer *http.Response, most int64, take func(p []byte) error) (n int64, err error) {
	defer answer.Body.Close()
	pool := &c.server.buffers.small
	buffer := pool.Get().(*[]byte)
	defer func() { pool.Put(buffer) }()
	watchdog := time.AfterFunc(c.server.options.Timeout, func() { answer.Body.Close() })
	defer watchdog.Stop()
	address := answer.Request.URL.String()
	for {
		got, err := answer.Body.Read(*buffer)
		n += int64(got)
		if got > 0 {
			watchdog.Reset(c.server.options.Timeout)
			if n > most {
				return n, &FetchError{address, fmt.Errorf("it is larger than %d MB", most>>20)}
			}
			if err := take((*buffer)[:got]); err != nil {
				return n, err
			}
			next := &c.server.buffers.small
			if got == len(*buffer) || got > smallBuffer {
				next = &c.server.buffers.large
			}
			if next != pool {
				pool.Put(buffer)
				pool, buffer = next, next.Get().(*[]byte)
			}
		}
		switch {
		case errors.Is(err, io.EOF):
			return n, nil
		case err != nil && ctx.Err() != nil:
			return n, context.Cause(ctx)
		case err != nil && !watchdog.Stop():
			return n, &FetchError{address, fmt.Errorf("%w: nothing for %s, after %d bytes", errSilent, c.server.options.Timeout, n)}
		case err != nil:
			return n, &FetchError{address, err}
		}
	}
}

// whole reads a complete answer and returns the address from which it came.
func (c *client) whole(ctx context.Context, address string, s stream.Span, most int64) (data []byte, from *url.URL, err error) {
	answer, err := c.open(ctx, address, s)
	if err != nil {
		return nil, nil, err
	}
	if answer.ContentLength > most {
		answer.Body.Close()
		return nil, nil, &FetchError{address, fmt.Errorf("it is larger than %d MB", most>>20)}
	}
	_, err = c.body(ctx, answer, most, func(p []byte) error {
		data = append(data, p...)
		return nil
	})
	return data, answer.Request.URL, err
}
