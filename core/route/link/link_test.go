package link

import (
	"io"
	"net"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"
)

func TestLinksAreParsed(t *testing.T) {
	for _, text := range []string{"", "20M", "20M/viewer", "2M,20M@20s", "2M,500k@1m30s,20M@2m0s/viewer"} {
		l, err := Parse(text)
		require.NoError(t, err, text)
		require.Equal(t, text, l.String())
	}
	for text, says := range map[string]string{"fast": "write it like 20M", "1": "write it like 20M", "20M/box": "only \"viewer\"", "20M@5s": "the first rate has no time", "2M,20M": "a later time", "2M,3M@9s,4M@8s": "a later time", "2M,3M@soon": "is not a time"} {
		_, err := Parse(text)
		require.ErrorContains(t, err, says, text)
	}
	for says, l := range map[string]Link{"--delay is": {Delay: -1}, "--loss is": {Loss: 0.9, Delay: 1}, "--loss needs --delay": {Loss: 0.01}} {
		require.ErrorContains(t, l.Check(), says)
	}
}

// arrival sends n bytes over a link and returns when the first and the last of them arrived, and
// how much had arrived after a time.
func arrival(t *testing.T, s *Shaper, n int, after time.Duration) (first, last time.Duration, got int) {
	server, conn := net.Pipe()
	viewer := s.Wrap(conn)
	began := time.Now()
	go func() {
		server.Write(make([]byte, n))
		server.Close()
	}()
	buffer, total := make([]byte, 4096), 0
	for {
		m, err := viewer.Read(buffer)
		if total == 0 {
			first = time.Since(began)
		}
		total += m
		if time.Since(began) <= after {
			got = total
		}
		if err != nil {
			require.ErrorIs(t, err, io.EOF)
			break
		}
	}
	require.Equal(t, n, total)
	require.NoError(t, viewer.Close())
	return first, time.Since(began), got
}

// A link has its rate, its rates over time, its round trip, and what loss leaves of it.
func TestLinksAreAsSlowAsTheySay(t *testing.T) {
	shaped := func(l Link) *Shaper {
		s := New(l)
		s.Start()
		return s
	}
	parse := func(text string) Link {
		l, err := Parse(text)
		require.NoError(t, err)
		return l
	}
	synctest.Test(t, func(t *testing.T) {
		_, last, _ := arrival(t, shaped(parse("8M")), 2_000_000, 0)
		require.InDelta(t, 2, last.Seconds(), 0.05)
	})
	synctest.Test(t, func(t *testing.T) {
		_, last, got := arrival(t, shaped(parse("1M,8M@2s")), 2_250_000, 2*time.Second)
		require.InDelta(t, 4, last.Seconds(), 0.2)
		require.InDelta(t, 250_000, got, 30_000)
	})
	synctest.Test(t, func(t *testing.T) {
		s := shaped(Link{Delay: 300 * time.Millisecond})
		first, last, _ := arrival(t, s, 100_000, 0)
		require.Equal(t, 300*time.Millisecond, first)
		require.Equal(t, 300*time.Millisecond, last)
	})
	synctest.Test(t, func(t *testing.T) {
		s := shaped(Link{Delay: 100 * time.Millisecond, Loss: 0.015})
		require.InDelta(t, 1.168e6, s.link.LossRate(), 1e3, "1460 bytes each 100 ms, ten times")
		_, last, _ := arrival(t, s, 292_000, 0)
		require.InDelta(t, 2.1, last.Seconds(), 0.15)
	})
	synctest.Test(t, func(t *testing.T) { // two viewers share a link, or have one each
		for text, seconds := range map[string]float64{"8M": 2, "8M/viewer": 1} {
			s := shaped(parse(text))
			times := make(chan time.Duration)
			for range 2 {
				go func() {
					_, last, _ := arrival(t, s, 1_000_000, 0)
					times <- last
				}()
			}
			require.InDelta(t, seconds, max(<-times, <-times).Seconds(), 0.1, text)
			pct, known := s.Used(time.Duration(seconds*float64(time.Second)), time.Now())
			require.Equal(t, text == "8M", known)
			require.InDelta(t, map[bool]float64{true: 100, false: 0}[known], pct, 5)
		}
	})
	server, _ := net.Pipe()
	require.Equal(t, server, New(Link{}).Wrap(server), "without settings nothing is between")
}

// A read ends when the connection is closed, and at its deadline.
func TestReadsOverALinkEnd(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		_, conn := net.Pipe()
		c := New(Link{Delay: time.Second}).Wrap(conn)
		require.NoError(t, c.SetReadDeadline(time.Now().Add(time.Minute)))
		began := time.Now()
		_, err := c.Read(make([]byte, 1))
		require.ErrorContains(t, err, "timeout")
		require.Equal(t, time.Minute, time.Since(began))
		require.NoError(t, c.SetDeadline(time.Time{}))
		time.AfterFunc(time.Second, func() { c.Close() })
		_, err = c.Read(make([]byte, 1))
		require.ErrorIs(t, err, net.ErrClosed)
	})
}
