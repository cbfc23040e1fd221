package sense

import "sync"

// Trace keeps the last Length values of every reading; of several sources it uses the first. It
// is safe for several goroutines. The zero value keeps nothing.
type Trace struct {
	Length int

	mu     sync.Mutex
	values map[string][]float64
	ranks  map[string]int
}

// maxTraces is the largest number of readings that are followed.
const maxTraces = 2000

// Add adds a sample.
func (t *Trace) Add(s Sample) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.values == nil {
		t.values, t.ranks = map[string][]float64{}, map[string]int{}
	}
	for _, r := range s.Readings {
		key := r.Key()
		list := t.values[key]
		if rank, known := t.ranks[key]; known && rank < s.Rank {
			continue
		} else if rank > s.Rank {
			list = list[:0]
		}
		t.ranks[key] = s.Rank
		switch {
		case list == nil && len(t.values) >= maxTraces:
		case len(list) < t.Length:
			t.values[key] = append(list, r.Value)
		case len(list) > 0:
			copy(list, list[1:])
			list[len(list)-1] = r.Value
		}
	}
}

// Values returns the last values of a reading, oldest first.
func (t *Trace) Values(key string) []float64 {
	t.mu.Lock()
	defer t.mu.Unlock()
	return append([]float64(nil), t.values[key]...)
}
