// Package threads runs the tasks of decoders on threads of their own and measures the processor
// time that they use.
package threads

import (
	"context"
	"runtime"
	"sync"
	"sync/atomic"
	"time"

	"vividstrain/core/cputime"
)

// Pool runs tasks of one kind. Tasks are reused: one is acquired, filled, submitted, run on a
// thread, and released.
type Pool[T any] struct {
	queue chan T
	idle  chan T
	wait  sync.WaitGroup
	busy  atomic.Int64 // nanoseconds
}

// Start starts the given number of threads. tasks are all tasks that exist, which limits how
// many are in flight. newWorker is called once on each thread and returns the function that runs
// a task.
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

// work stays on one thread of the operating system, so that the processor time of a decoding
// thread can be measured from outside.
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

// Acquire returns an unused task, and waits while there is none.
func (p *Pool[T]) Acquire(ctx context.Context) (t T, err error) {
	select {
	case t := <-p.idle:
		return t, nil
	case <-ctx.Done():
		return t, ctx.Err()
	}
}

// Submit queues an acquired task to be run. It never waits.
func (p *Pool[T]) Submit(t T) { p.queue <- t }

// Release returns a finished task for reuse.
func (p *Pool[T]) Release(t T) { p.idle <- t }

// Busy returns the processor time that the threads used for finished tasks.
func (p *Pool[T]) Busy() time.Duration { return time.Duration(p.busy.Load()) }

// Close waits for the submitted tasks and stops the threads. Nothing may be submitted
// afterwards.
func (p *Pool[T]) Close() {
	close(p.queue)
	p.wait.Wait()
}

// Team counts how many threads are busy, so that the slices of a picture are shared among idle
// ones.
type Team struct {
	threads int32
	busy    atomic.Int32
}

// NewTeam returns a team of the given number of threads.
func NewTeam(threads int) *Team { return &Team{threads: int32(threads)} }

// Idle returns the number of idle threads.
func (t *Team) Idle() int { return int(t.threads - t.busy.Load()) }

// Add changes the number of busy threads by n.
func (t *Team) Add(n int) { t.busy.Add(int32(n)) }

// Each runs tasks 0 to tasks-1 on n goroutines, and counts those besides the caller's as busy.
// run is called on each goroutine and returns the function that runs a task there. Each returns
// when all are done.
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
