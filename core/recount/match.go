package recount

import (
	"context"
	"fmt"
	"time"

	"vividstrain/core/media"
	"vividstrain/core/tally"
)

// Shown is an attempt that a recording may show.
type Shown struct {
	Started, Ended time.Time // by the clock of the computer that played
	Marks          tally.Marks
	Rate           media.Rate
	Hold, Settle   time.Duration
}

// block is a part of a recording that shows a clip without a longer break.
type block struct {
	clip     int
	list     []reading
	from, to time.Duration
	last     bool // the recording ends in it
}

// Bounds on matching: the longest break in a block, its least number of readings, how much earlier than an
// attempt a picture may show by clocks that differ, and how much of an attempt must be seen.
const (
	longestBreak = 1500 * time.Millisecond
	leastRead    = 5
	clockError   = 2 * time.Second
	leastSeen    = time.Second
)

// Match accounts for the attempts that a recording shows, one after another: they are told by the number of
// their clip and by when they began. The account of what it does not show, or only in part, is nil.
func Match(ctx context.Context, path string, o Options, attempts []Shown) ([]*tally.Tally, error) {
	first, err := newReader(ctx, "")
	if err != nil {
		return nil, err
	}
	t := &recording{readers: []*reader{first}}
	if err := t.read(ctx, path, o.Progress); err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	list := blocks(t.readers[0].list)
	accounts := make([]*tally.Tally, len(attempts))
	for i, b := range assign(list, attempts) {
		if b != nil {
			accounts[i] = b.account(&attempts[i], o.Refresh)
		}
	}
	return accounts, nil
}

// blocks divides a recording by what clips it shows.
func blocks(list []reading) (found []*block) {
	var b *block
	for i, s := range list {
		if !s.ok || s.mark.Clip == 0 {
			continue
		}
		if b == nil || b.clip != s.mark.Clip || s.at-b.to > longestBreak {
			b = &block{clip: s.mark.Clip, from: s.at}
			found = append(found, b)
		}
		b.to, b.list = s.at, append(b.list, s)
		b.last = i == len(list)-1
	}
	kept := found[:0]
	for _, b := range found {
		if len(b.list) >= leastRead {
			kept = append(kept, b)
		}
	}
	return kept
}

// assign returns the block of each attempt, nil where there is none. How far the clocks of the recording and
// of the computer are apart is what makes most attempts match.
func assign(list []*block, attempts []Shown) []*block {
	var best []*block
	matches, nearest := -1, time.Duration(0)
	for _, a := range attempts {
		for _, b := range list {
			if b.clip != a.Marks.Clip {
				continue
			}
			zero := a.Started.Add(-b.from)
			n, off, found := 0, time.Duration(0), make([]*block, len(attempts))
			for i, a := range attempts {
				for _, b := range list {
					at := zero.Add(b.from)
					if b.clip == a.Marks.Clip && !at.Before(a.Started.Add(-clockError)) && at.Before(a.Ended) {
						found[i], n, off = b, n+1, off+at.Sub(a.Started).Abs()
						break
					}
				}
			}
			if n > matches || n == matches && off < nearest {
				best, matches, nearest = found, n, off
			}
		}
	}
	return best
}

// account returns the account of the attempt that a block shows, nil where it shows too little of it.
func (b *block) account(a *Shown, refresh float64) *tally.Tally {
	seen := b.to - b.from
	if b.last && seen < a.Hold || seen < a.Settle+leastSeen {
		return nil
	}
	w := tally.NewWatched(tally.WatchedConfig{Refresh: refresh, Rate: tally.Constant{Num: a.Rate.Num, Den: a.Rate.Den}, Round: a.Marks.Round})
	epoch := time.Unix(0, 0)
	for _, s := range b.list {
		w.Read(epoch.Add(s.at), s.mark.Frame, true)
	}
	end := min(a.Hold, seen)
	return &tally.Tally{Windows: w.Windows([]tally.Span{{Kind: tally.Settle, To: a.Settle}, {Kind: tally.Steady, From: a.Settle, To: end}})}
}
