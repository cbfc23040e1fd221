package sense

import "sync"

// Trace keeps the last values of every reading. It is safe for several
// goroutines. The zero value keeps nothing; Length says how many.
type Trace struct {
	Length int

	mu     sync.Mutex
	values map[string][]float64
}

// mostTraces bounds how many readings are followed.
const mostTraces = 2000

// Add takes a sample.
func (t *Trace) Add(s Sample) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.values == nil {
		t.values = map[string][]float64{}
	}
	for _, r := range s.Readings {
		key := r.Key()
		list := t.values[key]
		switch {
		case list == nil && len(t.values) >= mostTraces:
		case len(list) < t.Length:
			t.values[key] = append(list, r.Value)
		case len(list) > 0:
			copy(list, list[1:])
			list[len(list)-1] = r.Value
		}
	}
}

// Last is the newest value of a reading.
func (t *Trace) Last(key string) (v float64, known bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	list := t.values[key]
	if len(list) == 0 {
		return 0, false
	}
	return list[len(list)-1], true
}

// Values are the last values of a reading, the oldest first.
func (t *Trace) Values(key string) []float64 {
	t.mu.Lock()
	defer t.mu.Unlock()
	return append([]float64(nil), t.values[key]...)
}

// Keys lists the readings of a quantity, and of those with a label, in no order.
func (t *Trace) Keys(quantity string) (list []string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for key := range t.values {
		if key == quantity || len(key) > len(quantity) && key[:len(quantity)+1] == quantity+":" {
			list = append(list, key)
		}
	}
	return list
}
