package cli

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"vividstrain/core/route"
	"vividstrain/core/route/routes"
)

// routeFlags returns the options of all routes as flags, and the flag that chooses a route.
func (a *app) routeFlags() (flags []cli.Flag) {
	words := routes.All.Words()
	flags = append(flags, &cli.StringFlag{Name: "route", Usage: "put the load on by `WAY`: " + strings.Join(words[:len(words)-1], ", ") + " or " + words[len(words)-1],
		DefaultText: impliedText()})
	for _, o := range routes.All.Options() {
		flags = append(flags, a.optionFlag(o))
	}
	return flags
}

// impliedText states which route is chosen by default.
func impliedText() string {
	var list []string
	for _, d := range routes.All {
		if len(d.Implied) > 0 {
			list = append(list, d.Word+" with --"+strings.Join(d.Implied, " or --"))
		}
	}
	return strings.Join(append(list, "else "+routes.All[0].Word), ", ")
}

// optionFlag returns the flag of a route's option.
func (a *app) optionFlag(o route.Option) cli.Flag {
	var sources cli.ValueSourceChain
	if !o.Typed {
		var earlier []string
		if o.Old != "" {
			earlier = []string{o.Old}
		}
		sources = a.settings.sources(o.Name, earlier...)
	}
	var aliases []string
	if o.Alias != "" {
		aliases = []string{o.Alias}
	}
	switch value := o.Default.(type) {
	case bool:
		return &cli.BoolFlag{Name: o.Name, Aliases: aliases, Usage: o.Usage, Value: value, DefaultText: o.DefaultText, Sources: sources}
	case int:
		return &cli.IntFlag{Name: o.Name, Aliases: aliases, Usage: o.Usage, Value: value, DefaultText: o.DefaultText, Sources: sources}
	case uint64:
		return &cli.Uint64Flag{Name: o.Name, Aliases: aliases, Usage: o.Usage, Value: value, DefaultText: o.DefaultText, Sources: sources}
	case float64:
		return &cli.FloatFlag{Name: o.Name, Aliases: aliases, Usage: o.Usage, Value: value, DefaultText: o.DefaultText, Sources: sources}
	case time.Duration:
		return &secondsFlag{Name: o.Name, Aliases: aliases, Usage: o.Usage, Value: value, DefaultText: o.DefaultText, Sources: sources}
	}
	value := fmt.Sprint(o.Default)
	if o.Name == "clips" && value == "" {
		value = defaultClips()
	}
	return &cli.StringFlag{Name: o.Name, Aliases: aliases, Usage: o.Usage, Value: value, DefaultText: o.DefaultText, Sources: sources}
}

// typed returns the flags that were typed, by their full names: not those from the environment
// or from settings.
func (a *app) typed(c *cli.Command) (names []string) {
	known := map[string]string{}
	for _, command := range []*cli.Command{c, c.Root()} {
		for _, f := range command.Flags {
			for _, name := range f.Names() {
				known[name] = f.Names()[0]
			}
		}
	}
	for _, arg := range a.args {
		if arg == "--" {
			break
		}
		name, _, _ := strings.Cut(strings.TrimLeft(arg, "-"), "=")
		if full, is := known[name]; is && strings.HasPrefix(arg, "-") && !slices.Contains(names, full) {
			names = append(names, full)
		}
	}
	return names
}

// route opens the route that the flags choose. Flags that it does not use are refused.
func (a *app) route(c *cli.Command) (route.Route, error) {
	d, err := routes.All.Choose(c.String("route"), c, a.typed(c))
	if err != nil {
		return nil, usage(err)
	}
	if slices.ContainsFunc(d.Options, func(o route.Option) bool { return o.Secret }) {
		if err := a.settings.mayHaveCredentials(c); err != nil {
			return nil, err
		}
	}
	r, err := d.Open(namedValues{c, a.settings.lists, d.Options})
	return r, usage(err)
}

// named are the lists of the settings whose names stand for values of options.
var named = func() map[string]bool {
	list := map[string]bool{}
	for _, o := range routes.All.Options() {
		if o.Named != "" {
			list[o.Named] = true
		}
	}
	return list
}()

// namedValues are the values of flags, with those that the settings have a name for.
type namedValues struct {
	*cli.Command
	lists   map[string]map[string]string
	options []route.Option
}

// String implements [route.Values].
func (v namedValues) String(name string) string {
	text := v.Command.String(name)
	for _, o := range v.options {
		if value, has := v.lists[o.Named][text]; has && o.Name == name {
			return value
		}
	}
	return text
}

// rest returns how long to wait between attempts for the device to be quiet.
func rest(c *cli.Command, r route.Route) time.Duration {
	if quiet := r.Traits().QuietAfter; quiet > 0 && !c.IsSet("rest") {
		return quiet
	}
	return c.Duration("rest")
}
