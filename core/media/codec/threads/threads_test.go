package threads

import (
	"context"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Every task is run once, on no more threads than there are, and their time is known.
func TestPoolRunsEveryTask(t *testing.T) {
	tasks := []*int{new(int), new(int), new(int)}
	var workers, running, most atomic.Int32
	done := make(chan struct{}, len(tasks))
	p := Start(2, tasks, func() func(*int) {
		workers.Add(1)
		return func(n *int) {
			now := running.Add(1)
			for seen := most.Load(); now > seen && !most.CompareAndSwap(seen, now); seen = most.Load() {
			}
			for begun := time.Now(); time.Since(begun) < time.Millisecond; {
			}
			*n++
			running.Add(-1)
			done <- struct{}{}
		}
	})
	for range 5 {
		for range 3 {
			n, err := p.Acquire(t.Context())
			require.NoError(t, err)
			p.Submit(n)
		}
		_, err := p.Acquire(canceled(t))
		require.ErrorIs(t, err, context.Canceled, "all tasks are in use")
		for range tasks {
			<-done
		}
		for _, n := range tasks {
			p.Release(n)
		}
	}
	p.Close()
	require.Equal(t, []int{5, 5, 5}, []int{*tasks[0], *tasks[1], *tasks[2]})
	require.EqualValues(t, 2, workers.Load())
	require.LessOrEqual(t, most.Load(), int32(2))
	require.Positive(t, p.Busy())
}

func canceled(t *testing.T) context.Context {
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	return ctx
}

// Each shares tasks out, each to one goroutine, and counts the goroutines as busy.
func TestTeamSharesTasksOut(t *testing.T) {
	team := NewTeam(4)
	team.Add(1)
	require.Equal(t, 3, team.Idle())
	var done [50]atomic.Int32
	var workers atomic.Int32
	team.Each(3, len(done), func(int) func(int) {
		workers.Add(1)
		return func(task int) {
			if idle := team.Idle(); idle != 1 {
				t.Errorf("%d threads are idle", idle)
			}
			done[task].Add(1)
		}
	})
	for i := range done {
		require.EqualValues(t, 1, done[i].Load(), i)
	}
	require.EqualValues(t, 3, workers.Load())
	require.Equal(t, 3, team.Idle())
}
