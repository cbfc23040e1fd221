package load

import (
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"time"
)

// Ladder is rungs in rising order, grouped in columns.
type Ladder struct {
	Name    string   `yaml:"name"`
	About   string   `yaml:"about,omitempty"` // one sentence
	Hold    Duration `yaml:"hold,omitempty"`  // how long each rung is held, 0: not stated
	Columns []Column `yaml:"columns"`
}

// Column is one family of rungs, easiest first.
type Column struct {
	Name  string `yaml:"name" json:"name"`
	Rungs []Load `yaml:"rungs" json:"rungs"`
}

// Duration is a time.Duration that is written as text, like "20s".
type Duration time.Duration

// MarshalText formats the duration like "1m30s".
func (d Duration) MarshalText() ([]byte, error) { return []byte(time.Duration(d).String()), nil }

// UnmarshalText parses a duration as time.ParseDuration does.
func (d *Duration) UnmarshalText(text []byte) error {
	v, err := time.ParseDuration(string(text))
	if err != nil {
		return fmt.Errorf("%q is not a duration; write it like 20s or 1m30s", clip(string(text)))
	}
	*d = Duration(v)
	return nil
}

// Limits of a ladder file.
const (
	maxFile  = 1 << 20
	maxRungs = 1000
	MaxHold  = 24 * time.Hour
)

// ParseLadder parses a ladder in YAML. Errors are one line and name the line of the file that is
// wrong.
func ParseLadder(data []byte) (*Ladder, error) {
	if len(data) > maxFile {
		return nil, fmt.Errorf("it is larger than %d bytes, too large for a ladder", maxFile)
	}
	var l Ladder
	if err := DecodeYAML(data, &l); err != nil {
		return nil, err
	}
	if l.Name == "" {
		return nil, errors.New("the ladder has no name; add a line like \"name: lounge\"")
	}
	if h := time.Duration(l.Hold); h < 0 || h > MaxHold {
		return nil, fmt.Errorf("hold must be from 0s to %s, not %s", MaxHold, h)
	}
	return &l, l.check()
}

func (l *Ladder) check() error {
	rungs, names := 0, map[string]bool{}
	for i, c := range l.Columns {
		switch {
		case c.Name == "":
			return fmt.Errorf("column %d has no name", i+1)
		case names[c.Name]:
			return fmt.Errorf("two columns are named %q", c.Name)
		case len(c.Rungs) == 0:
			return fmt.Errorf("column %q has no rungs", c.Name)
		}
		names[c.Name] = true
		rungs += len(c.Rungs)
	}
	if rungs == 0 || rungs > maxRungs {
		return fmt.Errorf("a ladder has 1 to %d rungs, not %d", maxRungs, rungs)
	}
	return nil
}

// YAML returns the ladder as a file for ParseLadder.
func (l *Ladder) YAML() ([]byte, error) { return EncodeYAML(l) }

//go:embed ladders/*.yaml
var builtin embed.FS

// BuiltIn returns the ladders that come with the program, by name.
func BuiltIn() ([]*Ladder, error) {
	files, err := fs.Glob(builtin, "ladders/*.yaml")
	if err != nil {
		return nil, err
	}
	var ladders []*Ladder
	for _, file := range files {
		data, err := builtin.ReadFile(file)
		if err != nil {
			return nil, err
		}
		l, err := ParseLadder(data)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", file, err)
		}
		ladders = append(ladders, l)
	}
	return ladders, nil
}

// Named returns the built-in ladder with the given name.
func Named(name string) (*Ladder, error) {
	ladders, err := BuiltIn()
	if err != nil {
		return nil, err
	}
	var names []string
	for _, l := range ladders {
		if l.Name == name {
			return l, nil
		}
		names = append(names, l.Name)
	}
	return nil, fmt.Errorf("there is no built-in ladder %q; there are %s", clip(name), strings.Join(names, ", "))
}
