package program

import (
	"bytes"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode"

	"vividstrain/core/sense/meter"
	"vividstrain/core/tally"
)

// The groups of a pattern.
const (
	groupShown    = "shown"      // frames shown so far
	groupDropped  = "dropped"    // frames dropped so far
	groupRate     = "shown_rate" // frames shown a second
	groupPosition = "position_s" // in the film
	groupLead     = "lead_s"     // media in hand
)

var groups = []string{groupShown, groupDropped, groupRate, groupPosition, groupLead}

// Bounds of what is kept of a player's lines.
const (
	maxPattern = 4096
	maxLine    = 4096    // bytes; what is longer is cut
	maxStates  = 1 << 16 // more than an hour, ten times a second
)

// Pattern reads the state of a player in its lines.
type Pattern struct{ regexp *regexp.Regexp }

// ParsePattern parses a regular expression that has at least one of the named groups.
func ParsePattern(text string) (*Pattern, error) {
	if len(text) > maxPattern {
		return nil, fmt.Errorf("a pattern of lines has at most %d letters", maxPattern)
	}
	r, err := regexp.Compile(text)
	if err != nil {
		return nil, fmt.Errorf("the pattern of lines %q: %w", text, err)
	}
	any := false
	for _, name := range r.SubexpNames() {
		if name == "" {
			continue
		}
		if !slices.Contains(groups, name) {
			return nil, fmt.Errorf("the pattern of lines has a group %q; there are %s", name, strings.Join(groups, ", "))
		}
		any = true
	}
	if !any {
		return nil, fmt.Errorf("the pattern of lines %q needs at least one named group, like (?P<dropped>[0-9]+); there are %s. A name stands for a pattern only if vividstrain.yaml has it under patterns", text, strings.Join(groups, ", "))
	}
	return &Pattern{r}, nil
}

// state is what a player said of itself. What it did not say is negative.
type state struct {
	at                                   time.Time
	shown, dropped, rate, position, lead float64
}

// read reads a line; false: it says nothing.
func (p *Pattern) read(line string, at time.Time) (s state, ok bool) {
	found := p.regexp.FindStringSubmatch(line)
	s = state{at, -1, -1, -1, -1, -1}
	for i, name := range p.regexp.SubexpNames() {
		if i >= len(found) || found[i] == "" || name == "" {
			continue
		}
		v, err := meter.ParseNumber(found[i])
		if err != nil || !(v >= 0 && v < 1e12) {
			continue
		}
		*map[string]*float64{groupShown: &s.shown, groupDropped: &s.dropped, groupRate: &s.rate, groupPosition: &s.position, groupLead: &s.lead}[name] = v
		ok = true
	}
	return s, ok
}

// listener takes what a player writes, line by line: lines end with a line feed or a carriage
// return. It is safe for several goroutines.
type listener struct {
	pattern *Pattern // nil: lines are not read

	mu     sync.Mutex
	line   []byte
	last   string // line that is not empty
	states []state
	moved  time.Time // when a count or the position last grew
}

// Write implements io.Writer.
func (l *listener) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	now := time.Now()
	for rest := p; len(rest) > 0; {
		end := bytes.IndexAny(rest, "\r\n")
		part := rest
		if end >= 0 {
			part = rest[:end]
		}
		l.line = append(l.line, part[:min(len(part), maxLine-len(l.line))]...)
		if end < 0 {
			break
		}
		l.take(now)
		rest = rest[end+1:]
	}
	return len(p), nil
}

// take takes a whole line. The lock is held.
func (l *listener) take(now time.Time) {
	line := strings.ToValidUTF8(string(l.line), "?")
	l.line = l.line[:0]
	if printable := legible(line); printable != "" {
		l.last = printable
	}
	if l.pattern == nil || len(l.states) >= maxStates {
		return
	}
	s, ok := l.pattern.read(line, now)
	if !ok {
		return
	}
	if n := len(l.states); n == 0 || s.position > l.states[n-1].position || s.shown > l.states[n-1].shown {
		l.moved = now
	}
	l.states = append(l.states, s)
}

// legible returns what can be printed of a line, at most 200 letters.
func legible(line string) string {
	text := strings.TrimSpace(strings.Map(func(r rune) rune {
		if !unicode.IsPrint(r) {
			return -1
		}
		return r
	}, line))
	if list := []rune(text); len(list) > 200 {
		return string(list[:200]) + "..."
	}
	return text
}

// said returns the player's last line, quoted.
func (l *listener) said() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	if rest := legible(strings.ToValidUTF8(string(l.line), "?")); rest != "" {
		return fmt.Sprintf("; it last said %q", rest)
	}
	if l.last == "" {
		return ""
	}
	return fmt.Sprintf("; it last said %q", l.last)
}

// first returns when the player first said that it plays; zero: not yet.
func (l *listener) first() time.Time {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, s := range l.states {
		if s.shown > 0 || s.position > 0 || s.shown < 0 && s.position < 0 {
			return s.at
		}
	}
	return time.Time{}
}

// stands returns for how long neither a count nor the position has grown.
func (l *listener) stands(now time.Time) time.Duration {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.moved.IsZero() {
		return 0
	}
	return now.Sub(l.moved)
}

// errNoLines means that a player wrote nothing that the pattern reads.
var errNoLines = errors.New("none of the player's lines fit the pattern of --lines")

// between returns what the player says of a window: its counts between the last states before its
// ends. rate is that of the film. It is nil where there are fewer than two.
func (l *listener) between(from, to time.Time, rate float64) *tally.Frames {
	l.mu.Lock()
	defer l.mu.Unlock()
	at := func(t time.Time) int {
		i, _ := slices.BinarySearchFunc(l.states, t, func(s state, t time.Time) int { return s.at.Compare(t) })
		return max(0, min(i, len(l.states)-1))
	}
	i, k := at(from), at(to)
	if len(l.states) < 2 || i >= k {
		return nil
	}
	a, b := l.states[i], l.states[k]
	elapsed := b.at.Sub(a.at).Seconds()
	f := &tally.Frames{Speed: 1}
	due := int(rate*elapsed + 0.5)
	dropped, shown := int(b.dropped-a.dropped), int(b.shown-a.shown)
	switch {
	case a.shown >= 0 && b.shown >= a.shown && a.dropped >= 0 && b.dropped >= a.dropped:
		f.Due, f.Shown, f.Dropped = shown+dropped, shown, dropped
	case a.dropped >= 0 && b.dropped >= a.dropped:
		f.Due, f.Dropped = max(due, dropped), dropped
		f.Shown = f.Due - dropped
	case a.shown >= 0 && b.shown >= a.shown:
		f.Due, f.Shown = max(due, shown), shown
		f.Dropped = f.Due - shown
		if f.Dropped <= 1 { // a line may be a frame late
			f.Due, f.Dropped = shown, 0
		}
	default:
		mean, n := 0.0, 0
		for _, s := range l.states[i+1 : k+1] {
			if s.rate >= 0 {
				mean, n = mean+s.rate, n+1
			}
		}
		if n == 0 {
			return nil
		}
		f.Due, f.Shown = due, min(due, int(mean/float64(n)*elapsed+0.5))
		f.Dropped = due - f.Shown
	}
	if a.position >= 0 && b.position >= 0 {
		f.Speed = max(0, (b.position-a.position)/elapsed)
	}
	f.ShownRate = float64(f.Shown) / elapsed
	f.Told = &tally.Told{Due: f.Due, Dropped: f.Dropped}
	return f
}

// speed returns media seconds per second of a window by the player's position, nil where it does not
// tell it.
func (l *listener) speed(from, to time.Time) *float64 {
	l.mu.Lock()
	defer l.mu.Unlock()
	var first, last *state
	for i := range l.states {
		if s := &l.states[i]; s.position >= 0 && !s.at.Before(from) && !s.at.After(to) {
			if first == nil {
				first = s
			}
			last = s
		}
	}
	if first == nil || last.at.Sub(first.at) < time.Second {
		return nil
	}
	v := (last.position - first.position) / last.at.Sub(first.at).Seconds()
	return &v
}
