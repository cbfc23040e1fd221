package program

import (
	"context"
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"time"

	"vividstrain/core/child"
	"vividstrain/core/route"
	"vividstrain/core/route/films"
	"vividstrain/core/tally"
	"vividstrain/core/x11"
)

// Bounds on jumping.
const (
	usualJumps  = 4
	maxJumps    = 100
	jumpTimeout = 15 * time.Second // the right picture must show
	afterJump   = time.Second      // it plays before the next one
	jumpClip    = 7.               // seconds of clips: usual jumps are no multiples of it, so that numbers differ after them
	leastFilm   = 20 * time.Second
	nearFrames  = 3 // that the first picture seen after a jump may be beyond its target
)

// keyPattern is how a key is given that jumps: key:Right+10.
var keyPattern = regexp.MustCompile(`^key:(\w+)([+-]\d+(?:\.\d+)?)$`)

// jumping is how to jump.
type jumping struct {
	command string
	key     string
	step    float64 // seconds that the key jumps
}

// parseJumping parses --jump.
func parseJumping(text string) (j jumping, err error) {
	if m := keyPattern.FindStringSubmatch(text); m != nil {
		j.key = m[1]
		j.step, err = strconv.ParseFloat(m[2], 64)
		if math.Abs(j.step) < 1 || math.Abs(j.step) > 600 {
			err = fmt.Errorf("a key jumps 1 to 600 s, not %g", j.step)
		}
		return j, err
	}
	if !strings.Contains(text, "{position_s}") {
		return j, fmt.Errorf("--jump is a command with {position_s}, or a key with the seconds that it jumps like key:Right+10, not %q", text)
	}
	return jumping{command: text}, nil
}

// relay passes what is read on the screen to the account, and during jumps to who waits for a picture.
type relay struct {
	screen *tally.Watched

	mu    sync.Mutex
	jumps chan sighting // nil: playing
}

// sighting is a number that was read.
type sighting struct {
	at     time.Time
	number int
}

// Read implements eye.Reader.
func (r *relay) Read(at time.Time, number int, ok bool) {
	r.mu.Lock()
	jumps := r.jumps
	r.mu.Unlock()
	if jumps == nil {
		r.screen.Read(at, number, ok)
		return
	}
	if ok {
		select {
		case jumps <- sighting{at, number}:
		default: // nobody waits
		}
	}
}

// jump jumps in the film as often as is asked for, and returns when the right picture was seen, with what
// there is to say about the others.
func (a *attempt) jump(ctx context.Context) (list []tally.Seek, notes []string, err error) {
	o, rate := a.route.options, a.film.Track.Format.Rate.Hz()
	if o.Jumps == 0 {
		return nil, nil, nil
	}
	seen := make(chan sighting, 256)
	a.relay.mu.Lock()
	a.relay.jumps = seen
	a.relay.mu.Unlock()
	at := a.plan.Hold.Seconds() // in the film
	for i := range o.Jumps {
		before, err := newest(ctx, seen)
		if err != nil {
			return list, notes, err
		}
		seek := tally.Seek{Kind: tally.Forward, AtS: time.Since(a.first()).Seconds()}
		target := a.place(i, float64(before.number))
		began := time.Now()
		frame := target * rate
		if a.route.jumping.key != "" {
			target = at + a.route.jumping.step
			frame = float64(before.number) + (began.Sub(before.at).Seconds()+a.route.jumping.step)*rate
		}
		if target < at {
			seek.Kind = tally.Back
		}
		if err := a.makeJump(target); err != nil {
			return list, append(notes, err.Error()), nil
		}
		delay, found, err := a.arrive(ctx, seen, before, began, frame)
		if err != nil {
			return list, notes, err
		}
		if !found {
			return list, append(notes, fmt.Sprintf("after a jump to %.0f s its picture was not seen within %s", target, jumpTimeout)), nil
		}
		seek.DelayS, at = delay.Seconds(), target+afterJump.Seconds()
		list = append(list, seek)
		select {
		case <-time.After(afterJump):
		case <-ctx.Done():
			return list, notes, ctx.Err()
		}
	}
	return list, notes, nil
}

// place returns where jump i goes, in whole seconds. If it can be, its number shows that the jump has arrived there.
func (a *attempt) place(i int, number float64) (target float64) {
	last := math.Floor(a.film.Seconds - 2*films.Margin.Seconds())
	target = math.Floor(route.JumpPart(i) * last)
	for range int(last) {
		if a.apart(target*a.film.Track.Format.Rate.Hz(), number) {
			break
		}
		target = math.Mod(target+1, last)
	}
	return target
}

// newest returns the newest sighting.
func newest(ctx context.Context, seen <-chan sighting) (s sighting, err error) {
	timeout := time.After(jumpTimeout)
	for len(seen) > 0 {
		s = <-seen
	}
	select {
	case s = <-seen:
		return s, nil
	case <-timeout:
		return s, nil // nothing is seen: the jump will show it
	case <-ctx.Done():
		return s, ctx.Err()
	}
}

// makeJump runs the command for a position, or presses the key.
func (a *attempt) makeJump(target float64) error {
	j := a.route.jumping
	if j.key != "" {
		if err := x11.Press(j.key); err != nil {
			return fmt.Errorf("--jump: %w", err)
		}
		return nil
	}
	cmd, err := build(j.command, a.route.options.Shell, places{"position_s": strconv.FormatFloat(target, 'f', -1, 64)})
	if err != nil {
		return err
	}
	c, err := child.Start(cmd)
	if err != nil {
		return fmt.Errorf("--jump could not be run: %w", err)
	}
	go func() {
		select {
		case <-c.Ended:
		case <-time.After(jumpTimeout):
		}
		c.End(0)
	}()
	return nil
}

// round returns after how many frames numbers begin again.
func (a *attempt) round() float64 {
	if a.film.Marks > 0 {
		return float64(a.film.Marks)
	}
	return math.Round(a.film.Seconds * a.film.Track.Format.Rate.Hz()) // a user's file
}

// beyond returns by how many frames a number is beyond another one, from 0 on to where numbers begin again.
func (a *attempt) beyond(number, from float64) float64 {
	round := a.round()
	return math.Mod(math.Mod(number-from, round)+round, round)
}

// apart reports whether playing on from a number reaches another one only after half of the clip or more, so
// that the jump has long arrived there.
func (a *attempt) apart(target, number float64) bool {
	round := a.round()
	d := a.beyond(target, number)
	return d >= round/2 && d <= round*5/6
}

// arrive waits for the picture of a frame, which is neither the one that showed before nor one that playing
// on would show.
func (a *attempt) arrive(ctx context.Context, seen <-chan sighting, before sighting, began time.Time, frame float64) (delay time.Duration, found bool, err error) {
	round, rate := a.round(), a.film.Track.Format.Rate.Hz()
	timeout, old := time.After(jumpTimeout), before.number
	for {
		select {
		case s := <-seen:
			n := float64(s.number)
			if on := a.beyond(n, float64(before.number)+s.at.Sub(before.at).Seconds()*rate); min(on, round-on) <= nearFrames+1 {
				old = s.number // it plays on
			} else if s.number != old && !s.at.Before(began) && a.beyond(n, frame-1) <= nearFrames+1 {
				return s.at.Sub(began), true, nil
			}
		case <-timeout:
			return 0, false, nil
		case <-ctx.Done():
			return 0, false, ctx.Err()
		}
	}
}
