package server

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"strings"
	"sync"
	"time"
)

// Limits on the heads of answers.
const (
	maxAnswerHead = 64 << 10 // bytes
	maxInterim    = 10       // answers of status 1xx before the one that counts
)

// leanTransport fetches by HTTP/1.1 (RFC 9112) over one connection that it keeps, in the goroutine that
// asks. http.Transport has two more for each connection: with thousands of viewers they take more memory than all
// else, and as long as that is cleared up, viewers are woken late. What is not plain GET goes to other.
type leanTransport struct {
	dial    func(ctx context.Context, network, address string) (net.Conn, error)
	timeout time.Duration // until the head of an answer has arrived
	other   *http.Transport

	mu   sync.Mutex
	idle *leanConn
}

// leanConn is a connection with what was read too far ahead.
type leanConn struct {
	net.Conn
	address string
	in      *bufio.Reader // of the connection, by way of receiver
	left    int64         // bytes that may still be read
	failed  error         // of the last reading, which parsers do not tell
	used    bool          // an answer came on it before
}

// receiver reads from the connection of a leanConn.
type receiver struct{ *leanConn }

func (c receiver) Read(p []byte) (n int, err error) {
	if c.left <= 0 {
		return 0, errLongHead
	}
	n, c.failed = c.Conn.Read(p[:min(int64(len(p)), c.left)])
	c.left -= int64(n)
	return n, c.failed
}

var errLongHead = errors.New("the head of its answer is too long")

// RoundTrip does what http.RoundTripper says.
func (t *leanTransport) RoundTrip(r *http.Request) (*http.Response, error) {
	if !t.takes(r) {
		return t.other.RoundTrip(r)
	}
	for {
		c, err := t.connection(r)
		if err != nil {
			return nil, err
		}
		answer, err := t.ask(c, r)
		if err == nil {
			return answer, nil
		}
		c.Close()
		// A connection that was kept may have been closed at the other end meanwhile.
		gone := c.used && c.left == maxAnswerHead && !errors.Is(err, os.ErrDeadlineExceeded)
		if !gone || r.Context().Err() != nil {
			return nil, err
		}
	}
}

// takes tells whether a request is of the kind that is done here.
func (t *leanTransport) takes(r *http.Request) bool {
	foreign := strings.ContainsFunc(r.URL.Host, func(c rune) bool { return c > '~' }) // a name that has to be converted
	if r.Method != http.MethodGet || r.URL.Scheme != "http" || r.Body != nil && r.Body != http.NoBody || foreign {
		return false
	}
	proxy, err := http.ProxyFromEnvironment(r)
	return err == nil && proxy == nil
}

// kept takes the connection that was kept, nil if there is none.
func (t *leanTransport) kept() *leanConn {
	t.mu.Lock()
	defer t.mu.Unlock()
	c := t.idle
	t.idle = nil
	return c
}

// connection returns the one that was kept, if it goes to the same server, or a new one.
func (t *leanTransport) connection(r *http.Request) (*leanConn, error) {
	address := r.URL.Host
	if r.URL.Port() == "" {
		address = net.JoinHostPort(r.URL.Hostname(), "80")
	}
	if c := t.kept(); c != nil {
		if c.address == address {
			return c, nil
		}
		c.Close()
	}
	conn, err := t.dial(r.Context(), "tcp", address)
	if err != nil {
		return nil, err
	}
	c := &leanConn{Conn: conn, address: address}
	c.in = bufio.NewReaderSize(receiver{c}, headBuffer)
	return c, nil
}

// writers are what requests are put together in.
var writers = sync.Pool{New: func() any { return bufio.NewWriterSize(nil, headBuffer) }}

// ask sends a request and reads the head of the answer.
func (t *leanTransport) ask(c *leanConn, r *http.Request) (*http.Response, error) {
	ctx := r.Context()
	forget := context.AfterFunc(ctx, func() { c.Close() })
	c.left = maxAnswerHead
	c.SetDeadline(time.Now().Add(t.timeout))
	out := writers.Get().(*bufio.Writer)
	out.Reset(c)
	err := r.Write(out)
	if err == nil {
		err = out.Flush()
	}
	out.Reset(nil)
	writers.Put(out)
	var answer *http.Response
	for interim := 0; err == nil; interim++ {
		if answer, err = http.ReadResponse(c.in, r); err != nil || answer.StatusCode >= 200 {
			break
		}
		if answer.StatusCode == http.StatusSwitchingProtocols || interim == maxInterim {
			err = fmt.Errorf("the server answered with %s", answer.Status)
		}
	}
	switch {
	case err != nil && c.left <= 0:
		err = errLongHead
	case err != nil && c.failed != nil:
		err = c.failed
	case err == nil:
		err = c.SetDeadline(time.Time{})
	}
	if err != nil {
		forget()
		return nil, err
	}
	c.left = 1 << 62
	c.used = true
	b := &leanBody{from: answer.Body, keep: t, conn: c, forget: forget, last: answer.Close || r.Close}
	if answer.Body == http.NoBody {
		b.end(true)
	}
	answer.Body = b
	return answer, nil
}

// CloseIdleConnections closes the connection that is kept.
func (t *leanTransport) CloseIdleConnections() {
	if c := t.kept(); c != nil {
		c.Close()
	}
	t.other.CloseIdleConnections()
}

// leanBody is the body of an answer. When all of it was read, the connection is kept for the next request.
type leanBody struct {
	from   io.Reader
	keep   *leanTransport
	conn   *leanConn
	forget func() bool // no longer closes the connection when the request is given up
	last   bool        // the connection serves no other request
	once   sync.Once
}

func (b *leanBody) Read(p []byte) (n int, err error) {
	if n, err = b.from.Read(p); err != nil {
		b.end(err == io.EOF)
	}
	return n, err
}

// Close may be called while Read waits, which then fails.
func (b *leanBody) Close() error {
	b.end(false)
	return nil
}

// end gives up the connection, or keeps it after a whole answer.
func (b *leanBody) end(whole bool) {
	b.once.Do(func() {
		live := b.forget()
		t := b.keep
		t.mu.Lock()
		defer t.mu.Unlock()
		if whole && live && !b.last && t.idle == nil && b.conn.in.Buffered() == 0 {
			t.idle = b.conn
		} else {
			b.conn.Close()
		}
	})
}
