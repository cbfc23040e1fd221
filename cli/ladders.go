package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"
	"go.yaml.in/yaml/v3"

	"vividstrain/core/load"
	"vividstrain/core/media"
	"vividstrain/core/media/clip"
	"vividstrain/core/media/inspect"
	"vividstrain/core/media/registry"
	"vividstrain/report/model"
)

func (a *app) laddersCommand() *cli.Command {
	return command(&cli.Command{
		Name:  "ladders",
		Usage: "list the built-in ladders, or print one",
		Flags: []cli.Flag{jsonFlag()},
		Commands: []*cli.Command{command(&cli.Command{
			Name: "show", Usage: "print a ladder as YAML, to be edited and given back with --ladder FILE",
			ArgsUsage: "NAME", Flags: []cli.Flag{jsonFlag()}, Action: a.showLadder,
		}, "vividstrain ladders show starter", "vividstrain ladders show lounge > mine.yaml")},
		Action: a.listLadders,
	}, "vividstrain ladders", "vividstrain ladders show starter > mine.yaml", "vividstrain climb --ladder mine.yaml --device skerry-s4")
}

func jsonFlag() cli.Flag { return &cli.BoolFlag{Name: "json", Usage: "print JSON alone"} }

func (a *app) listLadders(_ context.Context, c *cli.Command) error {
	if err := noArguments(c); err != nil {
		return err
	}
	ladders, err := load.BuiltIn()
	if err != nil {
		return err
	}
	list := model.LadderLines(ladders)
	if c.Bool("json") {
		return a.printJSON(list)
	}
	return a.print(a.style(c).Draw(model.Ladders(list)))
}

func (a *app) showLadder(_ context.Context, c *cli.Command) error {
	if c.Args().Len() != 1 {
		return usagef("which ladder? vividstrain ladders lists them")
	}
	l, err := load.Named(c.Args().First())
	if err != nil {
		return usage(err)
	}
	text, err := l.YAML()
	if err != nil {
		return err
	}
	return a.printYAML(c, text)
}

// printYAML prints a text in YAML, or the same as JSON if the flags ask for it.
func (a *app) printYAML(c *cli.Command, text []byte) error {
	if !c.Bool("json") {
		return a.print(string(text))
	}
	var v any
	if err := yaml.Unmarshal(text, &v); err != nil {
		return err
	}
	return a.printJSON(v)
}

// ladderFlag is the flag for a ladder.
func (a *app) ladderFlag() cli.Flag {
	return &cli.StringFlag{Name: "ladder", Aliases: []string{"l"}, Usage: "use the built-in ladder or YAML file `NAME`", Sources: a.settings.sources("ladder")}
}

// ladder returns what a command should play: load lines on the command line, the ladder that is
// named, or fallback.
func ladder(c *cli.Command, fallback string) (*load.Ladder, error) {
	if !c.Args().Present() {
		name := c.String("ladder")
		if name == "" {
			name = fallback
		}
		return ladderNamed(name)
	}
	if c.IsSet("ladder") {
		return nil, usagef("give load lines or --ladder, not both")
	}
	column := load.Column{Name: "given"}
	if err := unquoted(c.Args().Slice()); err != nil {
		return nil, err
	}
	for _, line := range split(c.Args().Slice()) {
		l, err := load.Parse(line)
		if err != nil {
			return nil, err
		}
		column.Rungs = append(column.Rungs, l)
	}
	return &load.Ladder{Name: "given", Columns: []load.Column{column}}, nil
}

// split splits loads that are written like printed mixes, with a plus between them.
func split(args []string) (list []string) {
	for _, arg := range args {
		for part := range strings.SplitSeq(" "+arg+" ", " + ") {
			if part = strings.TrimSpace(part); part != "" {
				list = append(list, part)
			}
		}
	}
	return list
}

// unquoted returns an error for a load line whose words are separate arguments.
func unquoted(args []string) error {
	codecs := registry.VideoCodecs()
	i := slices.IndexFunc(args, func(arg string) bool { return slices.Contains(codecs, strings.ToLower(arg)) })
	if i < 0 || i+1 == len(args) {
		return nil
	}
	words := args[i : i+1]
	for _, arg := range args[i+1:] {
		if strings.ContainsAny(arg, " ") || slices.Contains(codecs, strings.ToLower(arg)) {
			break
		}
		words = append(words, arg)
	}
	return usagef("a load line is one word for the shell; quote it: %q", strings.Join(words, " "))
}

// nearFile returns the file or folder beside a missing one that was probably meant.
func nearFile(path string) string {
	path = filepath.Clean(path)
	entries, err := os.ReadDir(filepath.Dir(path))
	if err != nil {
		return ""
	}
	var names []string
	for _, e := range entries {
		names = append(names, e.Name())
	}
	name := media.Near(filepath.Base(path), names)
	if name == "" {
		return ""
	}
	return filepath.Join(filepath.Dir(path), name)
}

// given returns what a command should play where files and folders may be among the load lines.
// skipped is called for files of a folder that cannot be played.
func given(ctx context.Context, c *cli.Command, fallback string, skipped func(error)) (*load.Ladder, error) {
	var loads []load.Load
	files := false
	if err := unquoted(c.Args().Slice()); err != nil {
		return nil, err
	}
	for _, arg := range split(c.Args().Slice()) {
		info, err := os.Stat(arg)
		if err != nil {
			if l, parseErr := load.Parse(arg); parseErr == nil {
				loads = append(loads, l)
				continue
			} else if !strings.ContainsAny(arg, "/\\") && filepath.Ext(arg) == "" {
				return nil, parseErr
			}
			if errors.Is(err, fs.ErrNotExist) {
				return nil, usagef("%s: there is no such file or folder%s", arg, media.DidYouMean(nearFile(arg)))
			}
			return nil, usage(err)
		}
		files = true
		found := []string{arg}
		if info.IsDir() {
			if found, err = registry.Find(arg); err != nil {
				return nil, err
			}
			if len(found) == 0 {
				return nil, usagef("%s: there is no video file in this folder", arg)
			}
		}
		for _, path := range found {
			l, err := loadOf(ctx, path)
			if err != nil && info.IsDir() && ctx.Err() == nil {
				skipped(err)
				continue
			}
			if err != nil {
				return nil, usage(err)
			}
			loads = append(loads, l)
		}
	}
	if !files {
		return ladder(c, fallback)
	}
	if c.IsSet("ladder") {
		return nil, usagef("give load lines and files or --ladder, not both")
	}
	return load.Arrange("given", loads)
}

// loadOf returns the load of playing a file.
func loadOf(ctx context.Context, path string) (load.Load, error) {
	r, err := inspect.File(ctx, path)
	if err != nil {
		return load.Load{}, err
	}
	if _, err := registry.Codec(r.Codec); err != nil {
		return load.Load{}, fmt.Errorf("%s: %w", path, err)
	}
	if r.Load == "" {
		return load.Load{}, fmt.Errorf("%s: its format (%dx%d, %.3f frames/s) cannot be written as a load line", path, r.Width, r.Height, r.FrameRate)
	}
	line := r.Load
	if e := clip.At(path); e != nil {
		line = e.Load // as it was ordered, by which a server that has it names it
	}
	l, err := load.Parse(line)
	if err != nil {
		return l, fmt.Errorf("%s: %w", path, err)
	}
	l.File, err = filepath.Abs(path)
	return l, err
}

// ladderNamed returns the ladder in a file, or the built-in one with that name.
func ladderNamed(name string) (*load.Ladder, error) {
	if info, err := os.Stat(name); err == nil && !info.IsDir() {
		data, err := readFile(name, 1<<20)
		if err != nil {
			return nil, usage(err)
		}
		l, err := load.ParseLadder(data)
		if err != nil {
			return nil, usagef("%s: %w", name, err)
		}
		return l, nil
	}
	l, err := load.Named(name)
	if err != nil {
		return nil, usagef("%w; and there is no file of that name%s", err, media.DidYouMean(media.Near(name, builtInLadders())))
	}
	return l, nil
}

// builtInLadders returns the names of the built-in ladders.
func builtInLadders() (names []string) {
	ladders, _ := load.BuiltIn() // they are tested
	for _, l := range ladders {
		names = append(names, l.Name)
	}
	return names
}

// readFile reads a file of limited size.
func readFile(path string, most int64) ([]byte, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() || info.Size() > most {
		return nil, fmt.Errorf("%s: it is not a file of at most %d bytes", path, most)
	}
	return os.ReadFile(path)
}
