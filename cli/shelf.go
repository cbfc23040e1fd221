package cli

import (
	"bufio"
	"context"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"vividstrain/core/logbook"
	"vividstrain/report/model"
)

// maxTitle is the largest length of a name, a tag or a set.
const maxTitle = 80

// tagForm is what tags and sets look like: they are typed on command lines.
var tagForm = regexp.MustCompile(`^[\p{L}\p{N}][\p{L}\p{N}._+-]*$`)

func checkTag(what, name string) error {
	if !tagForm.MatchString(name) || len(name) > maxTitle {
		return usagef("a %s is letters, digits and .-_+, at most %d of them, not %q", what, maxTitle, name)
	}
	return nil
}

func (a *app) nameCommand() *cli.Command {
	return command(&cli.Command{
		Name: "name", Usage: "give a run a name, by which it is found; an empty one takes it away", ArgsUsage: "RUN NAME",
		Action: func(_ context.Context, c *cli.Command) error {
			if c.Args().Len() != 2 {
				return usagef("which run, and which name?")
			}
			name := strings.TrimSpace(model.Printable(c.Args().Get(1)))
			if len(name) > maxTitle {
				return usagef("a name has at most %d letters", maxTitle)
			}
			return a.changeRuns(c, c.Args().Slice()[:1], func(d *logbook.Document) { d.Name = name })
		},
	}, `vividstrain runs name lounge "lounge, new firmware"`)
}

func (a *app) tagCommand() *cli.Command {
	return command(&cli.Command{
		Name: "tag", Usage: "add tags to runs, or take them away", ArgsUsage: "RUN...",
		Flags: []cli.Flag{
			&cli.StringSliceFlag{Name: "add", Usage: "add `TAG`"},
			&cli.StringSliceFlag{Name: "remove", Usage: "take `TAG` away"},
		},
		Action: func(_ context.Context, c *cli.Command) error {
			add, remove := c.StringSlice("add"), c.StringSlice("remove")
			if !c.Args().Present() || len(add)+len(remove) == 0 {
				return usagef("which runs, and --add or --remove which tag?")
			}
			for _, tag := range add {
				if err := checkTag("tag", tag); err != nil {
					return err
				}
			}
			return a.changeRuns(c, c.Args().Slice(), func(d *logbook.Document) { d.Tags = changed(d.Tags, add, remove) })
		},
	}, "vividstrain runs tag lounge bridge --add warm")
}

func (a *app) setCommand() *cli.Command {
	return command(&cli.Command{
		Name: "set", Usage: "put runs that belong together into a set, which report, compare and need take", ArgsUsage: "NAME RUN...",
		Flags: []cli.Flag{&cli.BoolFlag{Name: "remove", Usage: "take them out of it"}},
		Action: func(_ context.Context, c *cli.Command) error {
			if c.Args().Len() < 2 {
				return usagef("which set, and which runs?")
			}
			name := c.Args().First()
			if err := checkTag("set", name); err != nil {
				return err
			}
			add, remove := []string{name}, []string(nil)
			if c.Bool("remove") {
				add, remove = remove, add
			}
			return a.changeRuns(c, c.Args().Tail(), func(d *logbook.Document) { d.Sets = changed(d.Sets, add, remove) })
		},
	}, "vividstrain runs set boat-review lounge bridge")
}

// changed returns a list with some texts added and others taken away, each once and in order.
func changed(list, add, remove []string) []string {
	list = append(slices.Clone(list), add...)
	slices.Sort(list)
	list = slices.DeleteFunc(slices.Compact(list), func(s string) bool { return slices.Contains(remove, s) })
	if len(list) == 0 {
		return nil
	}
	return list
}

// changeRuns changes the documents of the runs that are named.
func (a *app) changeRuns(c *cli.Command, names []string, change func(d *logbook.Document)) error {
	book, err := a.existingBook(c)
	if err != nil {
		return err
	}
	defer book.Close()
	ids, err := found(book, names)
	if err != nil {
		return err
	}
	for _, id := range ids {
		if err := book.Change(id, change); err != nil {
			return err
		}
	}
	return nil
}

// found returns the ids of the runs that are named; all of them must be there.
func found(book *logbook.Book, names []string) (ids []string, err error) {
	for _, name := range names {
		if name == "" {
			return nil, usagef("a run has an empty name here; vividstrain runs lists them")
		}
		id, err := book.Find(name)
		if err != nil {
			return nil, usage(err)
		}
		ids = append(ids, id)
	}
	return ids, nil
}

func (a *app) deleteCommand() *cli.Command {
	return command(&cli.Command{
		Name: "delete", Usage: "delete runs with all their readings, after a question", ArgsUsage: "RUN...",
		Flags:  []cli.Flag{&cli.BoolFlag{Name: "yes", Usage: "do not ask"}},
		Action: a.deleteRuns,
	}, "vividstrain runs delete lounge --yes")
}

func (a *app) deleteRuns(_ context.Context, c *cli.Command) error {
	if !c.Args().Present() {
		return usagef("which runs? vividstrain runs lists them")
	}
	book, err := a.existingBook(c)
	if err != nil {
		return err
	}
	defer book.Close()
	ids, err := found(book, c.Args().Slice())
	if err != nil {
		return err
	}
	if !c.Bool("yes") {
		fmt.Fprintf(a.err, "Delete %s (%s) with all readings? It cannot be undone. Type yes: ", model.Plural(len(ids), "run"), strings.Join(ids, ", "))
		answer, _ := bufio.NewReader(a.in).ReadString('\n') // no answer is no
		if strings.TrimSpace(strings.ToLower(answer)) != "yes" {
			return a.print("Nothing was deleted.\n")
		}
	}
	for _, id := range ids {
		if err := book.Delete(id); err != nil {
			return err
		}
	}
	return a.print(model.Plural(len(ids), "run") + " deleted.\n")
}
