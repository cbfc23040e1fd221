package meter

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"vividstrain/core/sense"
)

// Metrics is a meter that reads a page in the OpenMetrics text format, or in the older text
// format.
type Metrics struct {
	pace
	patience
	lacks
	last   error
	client *http.Client
	url    string
	header http.Header
	picks  []Pick // if there are none, well-known names are mapped

	totals map[string]total // of counters, by metric and labels
	at     time.Time
	read   time.Time // when the readings were taken, according to the page

	state  sync.Mutex    // protects what follows: State may be called during Sample
	offset time.Duration // of the other clock from ours
	error  time.Duration // of the offset: half the duration of the shortest request
	known  bool
}

type total struct {
	value float64
	at    time.Time
}

// NewMetrics returns a meter for a page. A token is sent as a bearer token.
func NewMetrics(name, url, token string, every time.Duration, picks []Pick) (*Metrics, error) {
	header, err := headerFor(url, token)
	if err != nil {
		return nil, err
	}
	header.Set("Accept", "application/openmetrics-text; version=1.0.0, text/plain; version=0.0.4; q=0.5")
	return &Metrics{pace: pace{"metrics", name, every}, client: newClient(), url: url, header: header, picks: picks, totals: map[string]total{}}, nil
}

// Close closes idle connections.
func (m *Metrics) Close() error { m.client.CloseIdleConnections(); return nil }

// ReadAt returns when the page's values were measured, by our clock; zero where the page does
// not state it.
func (m *Metrics) ReadAt() time.Time { return m.read }

// State reports the offset of the other clock from ours.
func (m *Metrics) State() map[string]string {
	offset, known := m.difference()
	if !known {
		return nil
	}
	return map[string]string{"clock_difference_ms:" + m.name: strconv.FormatInt(offset.Milliseconds(), 10)}
}

// difference returns the offset of the other clock from ours, if it is known.
func (m *Metrics) difference() (offset time.Duration, known bool) {
	m.state.Lock()
	defer m.state.Unlock()
	return m.offset, m.known
}

// Sample fetches the page.
func (m *Metrics) Sample(ctx context.Context, now time.Time, list []sense.Reading) ([]sense.Reading, error) {
	err := m.do(ctx, now, &m.last, func() (err error) {
		sent := time.Now()
		body, header, err := get(ctx, m.client, m.url, m.header)
		if err != nil {
			return err
		}
		defer body.Close()
		back := time.Now()
		m.compare(header, sent, back)
		page := collect{meter: m, now: back, counted: map[string]float64{}, found: make([]bool, len(m.picks))}
		if err = parseMetrics(body, page.take); err != nil {
			return fmt.Errorf("%s: %w", Plain(m.url), err)
		}
		list = page.readings(list)
		m.begin()
		for i, found := range page.found {
			if !found {
				m.add(&m.picks[i], errors.New("the page has no such metric"))
			}
		}
		m.read = time.Time{}
		if offset, known := m.difference(); known && !page.newest.IsZero() {
			m.read = page.newest.Add(-offset)
		}
		m.at = back
		if len(list) == 0 && page.metrics > 0 && page.rates == 0 {
			return errors.New(Plain(m.url) + ": none of its metrics is known; name those wanted under \"read\"")
		}
		return nil
	})
	return list, err
}

// compare measures the offset of the other clock: the answer was made between sending and
// receiving, so the shortest exchange is the most exact.
func (m *Metrics) compare(header http.Header, sent, back time.Time) {
	text := header.Get(TimeHeader)
	at, err := time.Parse(time.RFC3339Nano, text)
	if err != nil {
		return
	}
	m.state.Lock()
	defer m.state.Unlock()
	if half := back.Sub(sent) / 2; !m.known || half < m.error {
		m.offset, m.error, m.known = at.Sub(sent.Add(half)), half, true
	}
}

// TimeHeader is the header in which Serve states the time of its clock; Date has a resolution of
// one second.
const TimeHeader = "Vividstrain-Time"

// Limits of a page.
const (
	maxBytes   = 8 << 20
	maxLine    = 64 << 10
	maxMetrics = 50000
)

// metric is one line of a page.
type metric struct {
	name   string
	labels []label
	value  float64
	at     float64 // seconds since 1970, 0 where not stated
}

type label struct{ name, value string }

func (m *metric) label(name string) string {
	for _, l := range m.labels {
		if l.name == name {
			return l.value
		}
	}
	return ""
}

// errPage means that a page is not in the format.
type errPage struct {
	line int
	what string
}

func (e *errPage) Error() string { return fmt.Sprintf("line %d: %s", e.line, e.what) }

// parseMetrics parses a page line by line (OpenMetrics 1.0, section 6, and the text format
// 0.0.4). Comments and exemplars are skipped.
func parseMetrics(r io.Reader, take func(*metric)) error {
	limited := &io.LimitedReader{R: r, N: maxBytes}
	lines := bufio.NewScanner(limited)
	lines.Buffer(make([]byte, 0, 4096), maxLine)
	for n := 1; lines.Scan(); n++ {
		text := strings.TrimSpace(lines.Text())
		if text == "" || text[0] == '#' {
			if text == "# EOF" {
				return nil
			}
			continue
		}
		if n > maxMetrics {
			return &errPage{n, fmt.Sprintf("there are more than %d", maxMetrics)}
		}
		m, err := parseMetric(text)
		if err != nil {
			return &errPage{n, err.Error()}
		}
		take(m)
	}
	if limited.N <= 0 {
		return fmt.Errorf("the page is longer than %d MB", maxBytes>>20)
	}
	return lines.Err()
}

var errNotAMetric = errors.New("it is not a metric and its value")

func parseMetric(text string) (*metric, error) {
	end := strings.IndexAny(text, "{ \t")
	if end <= 0 {
		return nil, errNotAMetric
	}
	m := &metric{name: text[:end]}
	rest := text[end:]
	if rest[0] == '{' {
		var err error
		if rest, err = m.parseLabels(rest[1:]); err != nil {
			return nil, err
		}
	}
	rest, _, _ = strings.Cut(rest, " # ") // an exemplar follows
	words := strings.Fields(rest)
	if len(words) < 1 || len(words) > 2 {
		return nil, errNotAMetric
	}
	var err error
	if m.value, err = strconv.ParseFloat(words[0], 64); err != nil {
		return nil, errNotAMetric
	}
	if len(words) == 2 {
		if m.at, err = strconv.ParseFloat(words[1], 64); err != nil {
			return nil, errNotAMetric
		}
		if m.at > 1e11 { // the older format has milliseconds
			m.at /= 1000
		}
	}
	return m, nil
}

// parseLabels parses the labels between braces.
func (m *metric) parseLabels(text string) (rest string, err error) {
	for {
		text = strings.TrimLeft(text, ", \t")
		if text == "" {
			return "", errNotAMetric
		}
		if text[0] == '}' {
			return text[1:], nil
		}
		name, after, found := strings.Cut(text, "=")
		after = strings.TrimLeft(after, " ")
		if !found || !strings.HasPrefix(after, `"`) || len(m.labels) >= 64 {
			return "", errNotAMetric
		}
		var value strings.Builder
		i := 1
		for ; i < len(after) && after[i] != '"'; i++ {
			c := after[i]
			if c == '\\' && i+1 < len(after) {
				i++
				if c = after[i]; c == 'n' {
					c = '\n'
				}
			}
			value.WriteByte(c)
		}
		if i >= len(after) {
			return "", errNotAMetric
		}
		m.labels = append(m.labels, label{strings.TrimSpace(name), value.String()})
		text = after[i+1:]
	}
}
