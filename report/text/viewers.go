package text

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"vividstrain/core/tally"
)

// maxViewers is the largest number of viewers that are drawn.
const maxViewers = 8

// Viewers draws how far each viewer has fetched and played, those with the least lead first.
func (s Style) Viewers(list []tally.Standing) (lines []string) {
	if len(list) == 0 {
		return nil
	}
	type numbered struct {
		tally.Standing
		n int
	}
	all := make([]numbered, len(list))
	film := 30 * time.Second
	for i, v := range list {
		all[i] = numbered{v, i + 1}
		film = max(film, v.Film, v.Fetched)
	}
	slices.SortStableFunc(all, func(a, b numbered) int { return cmp.Compare(a.Lead(), b.Lead()) })
	shown := all[:min(len(all), maxViewers)]
	slices.SortFunc(shown, func(a, b numbered) int { return cmp.Compare(a.n, b.n) })
	for _, v := range shown {
		state := "plays"
		if v.Waits {
			state = "waits"
		}
		lines = append(lines, fmt.Sprintf("  viewer %-4d fetched %s  played %s  %5.1f s buffered, %s", v.n, bar(v.Fetched, film), bar(v.Played, film), v.Lead().Seconds(), state))
	}
	if more := len(all) - len(shown); more > 0 {
		lines = append(lines, fmt.Sprintf("  and %d with more buffered", more))
	}
	return lines
}

// bar draws a part of a whole.
func bar(part, whole time.Duration) string {
	const width = 12
	n := int(max(0, min(part, whole)) * width / whole)
	return strings.Repeat("━", n) + strings.Repeat("─", width-n)
}
