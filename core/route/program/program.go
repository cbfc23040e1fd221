// Package program is the route to any player program of this computer, or of another one that a
// command reaches: it is started for each rung, and its frames are counted on the screen, by what
// it writes, or not at all.
package program

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"vividstrain/core/clock"
	"vividstrain/core/eye"
	"vividstrain/core/load"
	"vividstrain/core/route"
	"vividstrain/core/route/films"
	"vividstrain/core/sense"
	"vividstrain/core/sense/linux"
	"vividstrain/core/sense/local"
)

// Ways to count frames.
const (
	countMarks = "marks" // of the pictures on the screen
	countLines = "lines" // by what the player writes
	countNone  = "none"
)

// Options are the settings of the route.
type Options struct {
	Start  string // command
	Shell  bool   // the shell runs it
	Stop   string // command that ends what runs elsewhere
	Count  string // countMarks, countLines or countNone; "": by what there is
	Lines  string // pattern
	Eye    string // what watches the screen
	Listen string // address at which films are served
	Clips  string // folder of clips, missing ones are built there
	Jump   string // command with {position_s} that jumps there, or a key: key:Right+10
	Jumps  int    // after the steady part; 0 with Jump: usualJumps
}

// Program is the route.
type Program struct {
	options Options
	pattern *Pattern
	jumping jumping
	maker   *films.Maker
	server  *server // nil: nothing is served
	group   *linux.Group
	watcher eye.Eye // nil: nothing is watched
	sources []sense.Source
}

// New checks the options.
func New(o Options) (_ *Program, err error) {
	if o.Start == "" {
		return nil, errors.New("the route program needs --start 'COMMAND {file}'")
	}
	if !strings.Contains(o.Start, "{file}") && !strings.Contains(o.Start, "{url}") {
		return nil, errors.New("--start must say where the film goes: {file} for its path, {url} for its address")
	}
	p := &Program{options: o, group: &linux.Group{}}
	if o.Lines != "" {
		if p.pattern, err = ParsePattern(o.Lines); err != nil {
			return nil, err
		}
	}
	if p.options.Count == "" {
		p.options.Count = implied(o)
	}
	switch o := p.options; {
	case o.Count != countMarks && o.Count != countLines && o.Count != countNone:
		return nil, fmt.Errorf("frames are counted by marks, lines or none, not %q", o.Count)
	case o.Count == countLines && o.Lines == "":
		return nil, errors.New("--count lines needs a pattern: --lines 'PATTERN'")
	case o.Count == countMarks && o.Eye == "":
		return nil, errors.New("--count marks needs something that watches the screen: --eye x11")
	}
	if err := p.jumps(); err != nil {
		return nil, err
	}
	for _, command := range []string{o.Start, o.Stop, p.jumping.command} {
		if err := runnable(command, o.Shell); err != nil {
			return nil, err
		}
	}
	if o.Eye != "" && !p.later() {
		if p.watcher, err = eye.Open(o.Eye); err != nil {
			return nil, err
		}
	}
	seconds := 0.
	if p.options.Jumps > 0 {
		seconds = jumpClip
	}
	if p.maker, err = films.New(o.Clips, seconds); err != nil {
		return nil, err
	}
	if strings.Contains(o.Start, "{url}") {
		if p.server, err = serve(o.Listen); err != nil {
			p.maker.Close()
			return nil, err
		}
	}
	p.group.SetAside(os.Getpid())
	if !p.elsewhere() {
		p.sources = local.Local(p.group)
	}
	return p, nil
}

// jumps checks how to jump.
func (p *Program) jumps() (err error) {
	o := &p.options
	switch {
	case o.Jump == "" && o.Jumps == 0:
		return nil
	case o.Jump == "":
		return errors.New("--jumps needs to know how this player jumps: --jump 'COMMAND {position_s}', or a key and its seconds like key:Right+10")
	case o.Count != countMarks || p.later():
		return errors.New("--jump needs --eye x11 or a capture card: the picture after it must be seen")
	case o.Jumps < 0 || o.Jumps > maxJumps:
		return fmt.Errorf("the number of jumps is 0 to %d, not %d", maxJumps, o.Jumps)
	}
	o.Jumps = cmp.Or(o.Jumps, usualJumps)
	p.jumping, err = parseJumping(o.Jump)
	return err
}

// later reports whether a recording will show what the screen showed.
func (p *Program) later() bool { return p.options.Eye == eye.Later }

// implied returns how frames are counted if nothing is said.
func implied(o Options) string {
	switch {
	case o.Eye != "":
		return countMarks
	case o.Lines != "":
		return countLines
	}
	return countNone
}

// runnable returns an error if a command cannot be run.
func runnable(command string, shell bool) error {
	if command == "" || shell {
		return nil
	}
	list, err := words(command)
	if err != nil {
		return err
	}
	if _, err := exec.LookPath(list[0]); err != nil {
		return fmt.Errorf("the command %q cannot be run: %w", list[0], errors.Unwrap(err))
	}
	return nil
}

// Close removes what was made.
func (p *Program) Close() error {
	if p.server != nil {
		p.server.close()
	}
	if p.watcher != nil {
		p.watcher.Close()
	}
	return p.maker.Close()
}

// Kind returns "program".
func (*Program) Kind() string { return Descriptor.Word }

// Traits returns that the device decodes, and whether frames are counted.
func (p *Program) Traits() route.Traits {
	return route.Traits{Decodes: true, Counts: p.options.Count != countNone, Jumps: p.options.Jumps > 0}
}

// Options returns the settings, for the record.
func (p *Program) Options() map[string]string {
	o := p.options
	m := map[string]string{"start": o.Start, "count": o.Count, "clips": o.Clips}
	if o.Shell {
		m["shell"] = "true"
	}
	if o.Jumps > 0 {
		m["jump"], m["jumps"] = o.Jump, strconv.Itoa(o.Jumps)
	}
	for name, value := range map[string]string{"stop": o.Stop, "lines": o.Lines, "eye": o.Eye} {
		if value != "" {
			m[name] = value
		}
	}
	if p.server != nil {
		m["listen"] = o.Listen
	}
	return m
}

// elsewhere reports whether the player runs on another machine, of which this computer's sensors say nothing:
// it needs a command that ends it there.
func (p *Program) elsewhere() bool { return p.options.Stop != "" }

// Device describes this computer, with the player, or says that it is another one.
func (p *Program) Device() route.Device {
	name, _, _ := strings.Cut(strings.TrimSpace(p.options.Start), " ")
	if p.elsewhere() {
		return route.Device{Name: "a machine by " + filepath.Base(name), Identity: "elsewhere " + p.options.Start}
	}
	identity, spec := local.Machine()
	return route.Device{Name: filepath.Base(name) + " on this computer", Identity: identity + " " + p.options.Start, Spec: spec}
}

// Clock returns the computer's clock.
func (*Program) Clock() clock.Clock { return clock.Real{} }

// Sources returns the sensors of this computer, with the player's processes watched; none where it plays
// elsewhere.
func (p *Program) Sources() []sense.Source { return p.sources }

// Check returns an error unless films of this load can be made.
func (*Program) Check(l load.Load) error {
	switch {
	case l.Goal != nil:
		return fmt.Errorf("load line %q: a player program plays, it does not convert", l)
	case l.Streams > 1:
		return fmt.Errorf("load line %q: a player program plays one film", l)
	}
	return films.Check(l)
}

// Cost returns about how long making the clip of a load takes, and how large it is.
func (p *Program) Cost(ctx context.Context, l load.Load) (takes time.Duration, bytes int64) {
	return p.maker.Cost(ctx, l)
}

// Prepare makes the load's clip unless it is there.
func (p *Program) Prepare(ctx context.Context, l load.Load, progress func(done, total int)) error {
	return p.maker.Prepare(ctx, l, progress)
}
