package cli

import (
	"context"
	"errors"
	"fmt"
	"math"
	"net"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/urfave/cli/v3"

	"vividstrain/core/media"
)

// secondsFlag is a flag for a time. A number without a unit counts as seconds.
type secondsFlag = cli.FlagBase[time.Duration, cli.NoConfig, secondsValue]

// secondsValue parses the value of a secondsFlag.
type secondsValue struct{ to *time.Duration }

func (secondsValue) Create(value time.Duration, to *time.Duration, _ cli.NoConfig) cli.Value {
	*to = value
	return &secondsValue{to}
}

func (secondsValue) ToString(d time.Duration) string { return shortDuration(d) }

// Set parses "10", "10s" or "1m30s".
func (v *secondsValue) Set(text string) error {
	if s, err := strconv.ParseFloat(text, 64); err == nil && math.Abs(s) < 1e8 {
		*v.to = time.Duration(s * float64(time.Second))
		return nil
	}
	d, err := time.ParseDuration(text)
	if err != nil {
		return fmt.Errorf("%q is not a time; write 10s, 1m30s, or 10 for ten seconds", text)
	}
	*v.to = d
	return nil
}

func (v *secondsValue) Get() any       { return *v.to }
func (v *secondsValue) String() string { return shortDuration(*v.to) }

// shortDuration formats a duration without its zero parts: "1m", not "1m0s".
func shortDuration(d time.Duration) string {
	text := d.String()
	if strings.HasSuffix(text, "m0s") {
		text = strings.TrimSuffix(text, "0s")
	}
	if strings.HasSuffix(text, "h0m") {
		text = strings.TrimSuffix(text, "0m")
	}
	return text
}

// renamed are the names that flags had in earlier versions, by command and old name. They are
// still understood, but not shown.
var renamed = map[string]map[string]string{
	"climb": {"look": "verify", "patience": "timeout"},
	"crowd": {"look": "verify", "patience": "timeout", "every": "hold"},
	"watch": {"every": "sample", "serve": "listen"},
}

// modern returns a command line with today's names of flags.
func modern(args []string) []string {
	args = slices.Clone(args)
	var names map[string]string
	for i, arg := range args[min(1, len(args)):] {
		if arg == "--" {
			break
		}
		if names == nil {
			names = renamed[arg]
			continue
		}
		name, value, given := strings.Cut(strings.TrimLeft(arg, "-"), "=")
		if today := names[name]; today != "" && strings.HasPrefix(arg, "--") {
			args[i+1] = "--" + today
			if given {
				args[i+1] += "=" + value
			}
		}
	}
	return args
}

// unknownFlag and badValue match the library's messages about flags, which have no type.
var (
	unknownFlag = regexp.MustCompile(`^flag provided but not defined: -+(.*)$`)
	badValue    = regexp.MustCompile(`^invalid value (".*") for flag -+([^:]*): (.*)$`)
	noValue     = regexp.MustCompile(`^flag needs an argument: -+(.*)$`)
	badSetting  = regexp.MustCompile(`^could not parse (".*") as [^ ]+ value from (.*) for flag ([^:]*): (.*)$`)
)

// usageFailed says in the program's own words what is wrong with a flag.
func usageFailed(_ context.Context, c *cli.Command, err error, _ bool) error {
	text := err.Error()
	if m := unknownFlag.FindStringSubmatch(text); m != nil {
		name, _, _ := strings.Cut(m[1], "=")
		return usagef("there is no flag %s%s", dashed(name), orList(near(c, name), c, "flags"))
	}
	if m := noValue.FindStringSubmatch(text); m != nil {
		return usagef("%s needs a value; %s --help shows which", dashed(m[1]), c.FullName())
	}
	return flagError(err)
}

// flagError says in the program's own words that a flag has a wrong value; other errors it
// returns unchanged. It is a usageError in either case.
func flagError(err error) error {
	text := err.Error()
	if m := badValue.FindStringSubmatch(text); m != nil {
		return usagef("%s: %s", dashed(m[2]), inWords(m[1], m[3]))
	}
	if m := badSetting.FindStringSubmatch(text); m != nil {
		return usagef("--%s (from %s): %s", m[3], m[2], inWords(m[1], m[4]))
	}
	return usage(err)
}

// inWords replaces what Go's number parsers say.
func inWords(value, what string) string {
	if strings.Contains(what, "invalid syntax") || strings.Contains(what, "parse error") {
		return value + " is not a number"
	}
	if strings.Contains(what, "out of range") {
		return value + " is too large"
	}
	return what
}

func dashed(name string) string {
	if len(name) > 1 {
		return "--" + name
	}
	return "-" + name
}

// orList ends a message about an unknown name: with the name that was probably meant, or else
// with where to find the names.
func orList(near string, c *cli.Command, what string) string {
	if near != "" {
		return media.DidYouMean(near)
	}
	return "; " + c.FullName() + " --help lists the " + what
}

// listen listens at the address of a flag.
func listen(flag, address string) (net.Listener, error) {
	l, err := net.Listen("tcp", address)
	var wrong *net.AddrError
	switch {
	case errors.As(err, &wrong):
		return nil, usagef("--%s: %q is not an address; write :9600, or 127.0.0.1:9600 for this computer only", flag, address)
	case errors.Is(err, syscall.EADDRINUSE):
		return nil, usagef("--%s: another program listens at %s; choose another port", flag, address)
	case err != nil:
		return nil, usagef("--%s: cannot listen at %s: %w", flag, address, err)
	}
	return l, nil
}

// near returns the flag that was probably meant, with its dashes, "" if none is similar.
func near(c *cli.Command, name string) string {
	var names []string
	for _, f := range slices.Concat(c.Flags, c.Root().Flags) {
		names = append(names, f.Names()...)
	}
	if found := media.Near(name, names); found != "" {
		return dashed(found)
	}
	return ""
}

// unknownCommand is the error for a word that is no command of c.
func unknownCommand(c *cli.Command) error {
	word := c.Args().First()
	return usagef("there is no command %q%s", word, orList(media.Near(word, commandNames(c)), c, "commands"))
}

// lines splits an error into the errors that were joined in it.
func lines(err error) []error {
	list := []error{err}
	if marked, is := err.(usageError); is {
		list = lines(marked.error)
	} else if joined, is := err.(interface{ Unwrap() []error }); is && strings.Contains(err.Error(), "\n") {
		list = nil
		for _, e := range joined.Unwrap() {
			list = append(list, lines(e)...)
		}
	}
	return list
}
