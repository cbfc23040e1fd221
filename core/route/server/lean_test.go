package server

import (
	"bufio"
	"context"
	"io"
	"net"
	"net/http"
	"os"
	"runtime"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// wire answers the requests of each connection with what answers says, by the number of the connection and of the
// request on it, and closes it after an empty answer.
func wire(t *testing.T, answers func(conn, request int) string) (address string, conns *atomic.Int32) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	conns = new(atomic.Int32)
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			n := int(conns.Add(1))
			go func() {
				defer c.Close()
				in := bufio.NewReader(c)
				for i := 1; ; i++ {
					if _, err := http.ReadRequest(in); err != nil {
						return
					}
					text := answers(n, i)
					if io.WriteString(c, text); text == "" || strings.HasSuffix(text, "CUT") {
						return
					}
				}
			}()
		}
	}()
	return "http://" + l.Addr().String() + "/film", conns
}

func lean(t *testing.T) *leanTransport {
	l := &leanTransport{dial: (&net.Dialer{}).DialContext, timeout: 300 * time.Millisecond, other: &http.Transport{}}
	t.Cleanup(l.CloseIdleConnections)
	return l
}

func fetchOnce(l *leanTransport, ctx context.Context, address string) (string, error) {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return "", err
	}
	answer, err := (&http.Client{Transport: l}).Do(r)
	if err != nil {
		return "", err
	}
	defer answer.Body.Close()
	data, err := io.ReadAll(answer.Body)
	return string(data), err
}

const sized = "HTTP/1.1 200 OK\r\nContent-Length: 5\r\n\r\nhello"

// One connection serves one request after another, in whatever form the answers come.
func TestConnectionsAreKept(t *testing.T) {
	forms := []string{sized, "HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n3\r\nhel\r\n2\r\nlo\r\n0\r\n\r\n",
		"HTTP/1.1 103 Early Hints\r\nLink: </x>\r\n\r\n" + sized, "HTTP/1.1 204 No Content\r\n\r\n", sized}
	address, conns := wire(t, func(_, request int) string { return forms[request-1] })
	l := lean(t)
	before := runtime.NumGoroutine()
	for i := range forms {
		text, err := fetchOnce(l, t.Context(), address)
		require.NoError(t, err)
		require.Equal(t, map[bool]string{true: "", false: "hello"}[i == 3], text)
	}
	require.EqualValues(t, 1, conns.Load())
	require.LessOrEqual(t, runtime.NumGoroutine(), before+1, "one more, of the server in this test")
}

// What ends a connection makes a new one for the next request, and no failure.
func TestConnectionsAreReplaced(t *testing.T) {
	for name, first := range map[string]string{
		"closed by the server":     sized,
		"closed as it says":        "HTTP/1.1 200 OK\r\nConnection: close\r\nContent-Length: 5\r\n\r\nhello",
		"of HTTP/1.0":              "HTTP/1.0 200 OK\r\n\r\nhelloCUT",
		"with more than was asked": sized + "more",
	} {
		t.Run(name, func(t *testing.T) {
			address, conns := wire(t, func(conn, request int) string {
				if conn == 1 && request == 2 {
					return "" // it is kept, but the server closes it at the second request
				}
				return first
			})
			l := lean(t)
			for range 2 {
				text, err := fetchOnce(l, t.Context(), address)
				require.NoError(t, err)
				require.Equal(t, "hello", text[:5])
			}
			require.EqualValues(t, 2, conns.Load())
		})
	}
}

// A body that was not read to its end is not taken for the next answer.
func TestLeftBodiesEndTheConnection(t *testing.T) {
	address, conns := wire(t, func(int, int) string { return sized })
	l := lean(t)
	r, _ := http.NewRequestWithContext(t.Context(), http.MethodGet, address, nil)
	answer, err := l.RoundTrip(r)
	require.NoError(t, err)
	answer.Body.Close()
	text, err := fetchOnce(l, t.Context(), address)
	require.NoError(t, err)
	require.Equal(t, "hello", text)
	require.EqualValues(t, 2, conns.Load())
}

func TestBadAnswers(t *testing.T) {
	for name, c := range map[string]struct {
		answer string
		is     error
		says   string
	}{
		"a body that is cut":     {"HTTP/1.1 200 OK\r\nContent-Length: 50\r\n\r\nhelloCUT", io.ErrUnexpectedEOF, ""},
		"a head that is cut":     {"HTTP/1.1 200 OK\r\nContent-LCUT", io.EOF, ""},
		"a head without end":     {"HTTP/1.1 200 OK\r\nX: " + strings.Repeat("x", 2*maxAnswerHead), nil, "too long"},
		"no HTTP":                {"SSH-2.0-server\r\nCUT", nil, "malformed"},
		"nothing for too long":   {"HTTP/1.1 ", os.ErrDeadlineExceeded, ""},
		"another protocol":       {"HTTP/1.1 101 Switching Protocols\r\n\r\n", nil, "101"},
		"interim without end":    {strings.Repeat("HTTP/1.1 102 Processing\r\n\r\n", 20), nil, "102"},
		"closed without answer":  {"", io.EOF, ""},
		"a length that is wrong": {"HTTP/1.1 200 OK\r\nContent-Length: -1\r\n\r\n", nil, "Content-Length"},
	} {
		t.Run(name, func(t *testing.T) {
			address, _ := wire(t, func(int, int) string { return c.answer })
			_, err := fetchOnce(lean(t), t.Context(), address)
			require.Error(t, err)
			if c.is != nil {
				require.ErrorIs(t, err, c.is)
			}
			require.ErrorContains(t, err, c.says)
		})
	}
}

// A request that is given up ends at once, while its answer is waited for and while its body arrives.
func TestRequestsAreGivenUp(t *testing.T) {
	for name, answer := range map[string]string{"waiting": "HTTP/1.1", "reading": "HTTP/1.1 200 OK\r\nContent-Length: 50\r\n\r\nhello"} {
		t.Run(name, func(t *testing.T) {
			address, _ := wire(t, func(int, int) string { return answer })
			l := lean(t)
			l.timeout = time.Hour
			ctx, cancel := context.WithCancel(t.Context())
			time.AfterFunc(50*time.Millisecond, cancel)
			_, err := fetchOnce(l, ctx, address)
			require.Error(t, err)
			require.ErrorIs(t, ctx.Err(), context.Canceled)
		})
	}
}
