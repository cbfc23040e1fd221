// Package threads runs the work of decoders on threads of their own, and knows how much processor
// time they used.
package threads

import (
	"context"
	"runtime"
	"sync"
	"sync/atomic"
	"time"

	"vividstrain/core/cputime"
)

// Pool works through tasks of one kind. Tasks are used again: one is acquired, filled, submitted,
// run on a thread, and released.
type Pool[T any] struct {
	queue chan T
	idle  chan T
	wait  sync.WaitGroup
	busy  atomic.Int64 // nanoseconds
}

// Start starts so many threads. tasks are all tasks there are, which bounds what is in flight.
// newWorker is called once on each thread and returns what runs a task.
func Start[T any](threads int, tasks []T, newWorker func() (run func(T))) *Pool[T] {
	p := &Pool[T]{queue: make(chan T, len(tasks)), idle: make(chan T, len(tasks))}
	for _, t := range tasks {
		p.idle <- t
	}
	for range threads {
		p.wait.Go(func() { p.work(newWorker()) })
	}
	return p
}

// work keeps to one thread of the operating system, so that what a decoding thread uses can be
// read from outside.
func (p *Pool[T]) work(run func(T)) {
	runtime.LockOSThread()
	before := cputime.Thread()
	for t := range p.queue {
		run(t)
		now := cputime.Thread()
		p.busy.Add(int64(now - before))
		before = now
	}
}

// Acquire returns a task that nobody uses, and waits while there is none.
func (p *Pool[T]) Acquire(ctx context.Context) (t T, err error) {
	select {
	case t := <-p.idle:
		return t, nil
	case <-ctx.Done():
		return t, ctx.Err()
	}
}

// Submit has an acquired task run. It never waits.
func (p *Pool[T]) Submit(t T) { p.queue <- t }

// Release takes a task back that was run.
func (p *Pool[T]) Release(t T) { p.idle <- t }

// Busy is the processor time that the threads used for tasks that are done.
func (p *Pool[T]) Busy() time.Duration { return time.Duration(p.busy.Load()) }

// Close waits for the tasks that were submitted, and ends the threads. Nothing may be submitted
// afterwards.
func (p *Pool[T]) Close() {
	close(p.queue)
	p.wait.Wait()
}

// Team counts how many of the threads that there are have work, so that a picture's slices are
// shared out where others are idle.
type Team struct {
	threads int32
	busy    atomic.Int32
}

// NewTeam returns a team of so many threads.
func NewTeam(threads int) *Team { return &Team{threads: int32(threads)} }

// Idle is how many threads have no work.
func (t *Team) Idle() int { return int(t.threads - t.busy.Load()) }

// Add says that n more threads have work, or with a negative n fewer.
func (t *Team) Add(n int) { t.busy.Add(int32(n)) }

// Each runs tasks 0 to tasks-1 on n goroutines, and counts those beyond the caller's. run is
// called on each and returns what runs a task there. It returns when all are done.
func (t *Team) Each(n, tasks int, run func(i int) func(task int)) {
	t.Add(n - 1)
	defer t.Add(1 - n)
	var next atomic.Int32
	var wait sync.WaitGroup
	for i := range n {
		wait.Go(func() {
			do := run(i)
			for task := int(next.Add(1)) - 1; task < tasks; task = int(next.Add(1)) - 1 {
				do(task)
			}
		})
	}
	wait.Wait()
}
