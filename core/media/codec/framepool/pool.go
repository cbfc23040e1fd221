package framepool

import "sync"

// Pool keeps frames of one size for reuse.
type Pool[F any] struct {
	mu    sync.Mutex
	free  []F
	total int32 // number of frames taken so far
}

// Take returns a free frame for which fits is true, and a number for its next use. Free frames
// that do not fit are dropped: the size has changed. If none fits, found is false.
func (p *Pool[F]) Take(fits func(F) bool) (f F, id int32, found bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	var none F
	for n := len(p.free); n > 0 && !found; n = len(p.free) {
		f = p.free[n-1]
		found = fits(f)
		p.free[n-1] = none
		p.free = p.free[:n-1]
	}
	if !found {
		f = none
	}
	p.total++
	return f, p.total & (1<<28 - 1), found
}

// Put returns a frame to the pool.
func (p *Pool[F]) Put(f F) {
	p.mu.Lock()
	p.free = append(p.free, f)
	p.mu.Unlock()
}
