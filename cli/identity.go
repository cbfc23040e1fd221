package cli

import (
	"maps"
	"regexp"
	"strings"

	"github.com/urfave/cli/v3"

	"vividstrain/core/logbook"
	"vividstrain/core/route"
	"vividstrain/core/run"
)

// identityFlags returns the flags that say whose run it is.
func (a *app) identityFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "name", Usage: "call the device `NAME`, in this run and in later ones on it", Sources: a.settings.sources("name")},
		&cli.StringSliceFlag{Name: "fact", Usage: "state a fact about the device, `NAME=VALUE`, for example price=189EUR; without a value it is forgotten"},
	}
}

// factName is what a fact may be called.
var factName = regexp.MustCompile(`^[a-z][a-z0-9_-]{0,31}$`)

// maxFact is the longest value of a fact, in bytes.
const maxFact = 200

// identify sets the name and the facts of the device that is measured: those of the newest run
// on it, changed by the settings file, then by the flags.
func (a *app) identify(c *cli.Command, book *logbook.Book, config *run.Config, device route.Device) error {
	before, _, err := book.Described(device.Identity)
	if err != nil {
		return err
	}
	facts := map[string]string{}
	maps.Copy(facts, before.Facts)
	maps.Copy(facts, a.settings.facts)
	for _, fact := range c.StringSlice("fact") {
		name, value, found := strings.Cut(fact, "=")
		if !found || !factName.MatchString(name) || len(value) > maxFact {
			return usagef("--fact %q: write it like price=189EUR: a word, =, and a value of at most %d letters", fact, maxFact)
		}
		facts[name] = strings.TrimSpace(value)
	}
	maps.DeleteFunc(facts, func(_, value string) bool { return value == "" })
	config.Name, config.Facts = c.String("name"), facts
	if config.Name == "" && !c.IsSet("name") {
		config.Name = before.Name
	}
	if len(config.Name) > maxFact {
		return usagef("--name has at most %d letters", maxFact)
	}
	return nil
}
