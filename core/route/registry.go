package route

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Descriptor is everything needed to offer, open and restore a route. A new route is a folder
// with a descriptor, and one line in the list of routes.
type Descriptor struct {
	Word string   // "engine"
	Old  []string // its words in earlier versions, still read
	// Options are its settings. An option of several routes is the same in all of them.
	Options []Option
	// Uses are settings of the command that apply to this route.
	Uses []string
	// Implied are the options that choose this route when no word does.
	Implied []string
	Open    func(v Values) (Route, error)
	// Restore opens the route of an earlier run from its document.
	Restore func(r Record, v Values) (Route, error)
}

// Option is one setting. The type of Default is that of its values: string, bool, int, float64,
// uint64 or time.Duration.
type Option struct {
	Name        string
	Alias       string
	Old         string // its name in earlier versions, still read
	Usage       string // the name of its value is in backquotes
	Default     any
	DefaultText string // shown in the help instead of Default
	Typed       bool   // can only be typed, not set in the environment or the settings
	Secret      bool   // it is never recorded
	// Named is the list of the settings whose names may stand for its values; "": none.
	Named string
}

// Values returns the values of options, as *cli.Command does.
type Values interface {
	String(name string) string
	Bool(name string) bool
	Int(name string) int
	Uint64(name string) uint64
	Float(name string) float64
	Duration(name string) time.Duration
	IsSet(name string) bool
}

// Record is what a document says about a run's route, and what was typed to resume it.
type Record struct {
	Options map[string]string
	Device  string
	Ladder  string
	Typed   func(name string) bool // whether an option was typed
}

// GiveAgainError means that something that was not recorded, or has changed, must be given
// again.
type GiveAgainError struct{ Err error }

func (e *GiveAgainError) Error() string { return e.Err.Error() }
func (e *GiveAgainError) Unwrap() error { return e.Err }

// Options that several routes take.
var (
	Refresh = Option{Name: "refresh", Usage: "refresh the display at `HZ`", Default: 60.}
	Late    = Option{Name: "late", Usage: "`drop` late frames, or wait for them in slow motion", Default: "drop"}
	Ahead   = Option{Name: "ahead", Usage: "convert or fetch at most `TIME` ahead of a viewer", Default: 30 * time.Second}
	Jumps   = Option{Name: "jumps", Usage: "jump `N` times after the steady part, forwards and back, and time the picture", Default: 0}
	Link    = Option{Name: "link", Usage: "viewers share a link of `RATE`: 20M; each has its own: 20M/viewer; it changes with time: 2M,20M@20s", Default: "", DefaultText: "no limit"}
	Delay   = Option{Name: "delay", Usage: "answers take `TIME` longer, the round trip of the network between", Default: time.Duration(0), DefaultText: "none"}
	Loss    = Option{Name: "loss", Usage: "the network between loses `SHARE` of the packets", Default: "", DefaultText: "none"}
	Listen  = Option{Name: "listen", Usage: "serve the page, or films for players that take {url}, at `ADDRESS`", Default: ":8600"}
	Clips   = Option{Name: "clips", Usage: "keep clips in `DIR`", Default: "", DefaultText: "clips in your cache folder"}
	Screen  = Option{Name: "screen", Usage: "play on the `full` screen, or in a window", Default: "full", DefaultText: "full on a page; the engine shows nothing without it"}
	Fit     = Option{Name: "fit", Usage: "make the picture `fit` the screen, or show it in its native size", Default: "fit"}
	Seed    = Option{Name: "seed", Usage: "seed of the random parts", Default: uint64(1)}
)

// Registry is the list of routes; the first one is the default.
type Registry []Descriptor

// Words returns the words of all routes.
func (r Registry) Words() (list []string) {
	for _, d := range r {
		list = append(list, d.Word)
	}
	return list
}

// Named returns the route with a word, also one of an earlier version.
func (r Registry) Named(word string) (Descriptor, error) {
	for _, d := range r {
		if d.Word == word || slices.Contains(d.Old, word) {
			return d, nil
		}
	}
	return Descriptor{}, fmt.Errorf("there is no route %q; there are %s", word, strings.Join(r.Words(), ", "))
}

// Options returns the options of all routes, each once.
func (r Registry) Options() (list []Option) {
	for _, d := range r {
		for _, o := range d.Options {
			if !slices.ContainsFunc(list, func(p Option) bool { return p.Name == o.Name }) {
				list = append(list, o)
			}
		}
	}
	return list
}

// Choose returns the route with a word; without a word, the route implied by the options that
// are set, where typed options take precedence. typed are the names of the typed settings; one
// that the route does not use is an error.
func (r Registry) Choose(word string, v Values, typed []string) (d Descriptor, err error) {
	if word != "" {
		d, err = r.Named(word)
	} else {
		d = r.implied(v, typed)
	}
	if err != nil {
		return d, err
	}
	for _, name := range typed {
		if users := r.users(name); len(users) > 0 && !slices.Contains(users, d.Word) {
			return d, fmt.Errorf("--%s does nothing on the route %s; it is for %s", name, d.Word, strings.Join(users, " and "))
		}
	}
	return d, nil
}

func (r Registry) implied(v Values, typed []string) Descriptor {
	var set []Descriptor
	for _, d := range r {
		if slices.ContainsFunc(d.Implied, func(name string) bool { return v.String(name) != "" }) {
			set = append(set, d)
		}
	}
	for _, d := range set {
		if slices.ContainsFunc(d.Implied, func(name string) bool { return slices.Contains(typed, name) }) {
			return d
		}
	}
	return append(set, r[0])[0]
}

// users returns the words of the routes to which a setting applies, none where it is not a
// route's.
func (r Registry) users(name string) (words []string) {
	for _, d := range r {
		if slices.Contains(d.Uses, name) || slices.ContainsFunc(d.Options, func(o Option) bool { return o.Name == name }) {
			words = append(words, d.Word)
		}
	}
	return words
}
