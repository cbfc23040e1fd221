package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"vividstrain/core/logbook"
	"vividstrain/core/media"
	"vividstrain/core/media/scene"
	"vividstrain/core/route/routes"
	"vividstrain/core/route/simulated"
	"vividstrain/report/model"
)

// completionScripts make a shell ask "vividstrain completion words" for what may come next. Load
// lines have spaces, so that each line is one word.
var completionScripts = map[string]string{
	"bash": `_vividstrain() {
	local word words=("${COMP_WORDS[@]:1:COMP_CWORD}")
	COMPREPLY=()
	while IFS= read -r word; do
		case ${COMP_WORDS[COMP_CWORD]} in
		[\"\']*) COMPREPLY+=("$word") ;;
		*) COMPREPLY+=("$(printf %q "$word")") ;;
		esac
	done < <("${COMP_WORDS[0]}" completion words -- "${words[@]}" 2>/dev/null)
}
complete -o default -F _vividstrain vividstrain
`,
	"zsh": `#compdef vividstrain
_vividstrain() {
	local -a found
	found=(${(f)"$(${words[1]} completion words -- "${(@)words[2,CURRENT]}" 2>/dev/null)"})
	if (( $#found )); then
		compadd -- $found
	else
		_files
	fi
}
compdef _vividstrain vividstrain
`,
	"fish": `function __vividstrain
	set -l typed (commandline -opc) (commandline -ct)
	set -l found ($typed[1] completion words -- $typed[2..-1] 2>/dev/null)
	if test (count $found) -gt 0
		printf '%s\n' $found
	else
		__fish_complete_path (commandline -ct)
	end
end
complete -c vividstrain -f -a '(__vividstrain)'
`,
}

func (a *app) completionCommand() *cli.Command {
	return command(&cli.Command{
		Name: "completion", Usage: "print what makes a shell complete commands, flags, loads, ladders, devices and runs", ArgsUsage: "bash | zsh | fish",
		Commands: []*cli.Command{{Name: "words", Hidden: true, SkipFlagParsing: true, HideHelp: true, Action: a.completeWords}},
		Action: func(_ context.Context, c *cli.Command) error {
			script, known := completionScripts[c.Args().First()]
			if !known || c.Args().Len() != 1 {
				return usagef("for which shell? bash, zsh or fish; for example: source <(vividstrain completion bash)")
			}
			return a.print(script)
		},
	}, "source <(vividstrain completion bash)", "vividstrain completion fish > ~/.config/fish/completions/vividstrain.fish")
}

// completeWords prints what the last of the words typed so far may become, one on a line.
func (a *app) completeWords(_ context.Context, c *cli.Command) error {
	words := c.Args().Slice()
	if len(words) > 0 && words[0] == "--" {
		words = words[1:]
	}
	if len(words) == 0 {
		words = []string{""}
	}
	at, typed := c.Root(), words[:len(words)-1]
	var path []string
	before := ""
	for _, w := range typed {
		if sub := at.Command(w); sub != nil && !strings.HasPrefix(w, "-") {
			at, path = sub, append(path, sub.Name)
		}
		before = w
	}
	last := strings.TrimLeft(words[len(words)-1], `"'`)
	out := ""
	for _, word := range a.candidates(c, at, strings.Join(path, " "), before, last) {
		if strings.HasPrefix(word, last) {
			out += word + "\n"
		}
	}
	return a.print(out)
}

// candidates returns what may stand after the word before, in a command of a path.
func (a *app) candidates(c, at *cli.Command, path, before, last string) []string {
	if strings.HasPrefix(before, "-") {
		name := strings.TrimLeft(before, "-")
		for _, f := range slices.Concat(at.Flags, c.Root().Flags) {
			_, isBool := f.(*cli.BoolFlag)
			if slices.Contains(f.Names(), name) && !isBool {
				return a.flagValues(c, f.Names()[0])
			}
		}
	}
	if strings.HasPrefix(last, "-") {
		var names []string
		for _, f := range slices.Concat(at.Flags, c.Root().Flags, []cli.Flag{cli.HelpFlag}) {
			names = append(names, dashed(f.Names()[0]))
		}
		return names
	}
	if len(at.VisibleCommands()) > 0 {
		return commandNames(at)
	}
	switch path {
	case "climb", "crowd", "clips build":
		return loadLines()
	case "show":
		return a.runNames(c)
	case "ladders show":
		return builtInLadders()
	case "devices show":
		return deviceNames()
	case "help":
		return commandNames(c.Root())
	case "completion":
		return []string{"bash", "fish", "zsh"}
	}
	return nil
}

// flagValues returns what the value of a flag may be, nil where it may be anything.
func (a *app) flagValues(c *cli.Command, flag string) []string {
	switch flag {
	case "ladder":
		return builtInLadders()
	case "device":
		return deviceNames()
	case "route":
		return routes.All.Words()
	case "run":
		return a.runNames(c)
	case "fields":
		return model.FieldNames()
	case "late":
		return []string{"drop", "wait"}
	case "scene":
		return scene.Names()
	case "container":
		return []string{"mkv", "mp4", "ts"}
	case "effort":
		return media.PresetNames()
	}
	return nil
}

// commandNames returns the commands of a command that are shown.
func commandNames(c *cli.Command) (names []string) {
	for _, command := range c.VisibleCommands() {
		names = append(names, command.Name)
	}
	return names
}

// loadLines returns the loads of the built-in ladders, each once.
func loadLines() (lines []string) {
	for _, name := range builtInLadders() {
		l, err := ladderNamed(name)
		if err != nil {
			continue
		}
		for _, rung := range loads(l) {
			lines = append(lines, rung.String())
		}
	}
	slices.Sort(lines)
	return slices.Compact(lines)
}

func deviceNames() (names []string) {
	profiles, _ := simulated.BuiltIn() // they are tested
	for _, p := range profiles {
		names = append(names, p.Slug())
	}
	return names
}

// runNames returns the runs in the logbook, newest first; none where there is no logbook.
func (a *app) runNames(c *cli.Command) (names []string) {
	book, err := logbook.OpenExisting(c.Root().String("logbook"))
	if err != nil {
		return nil
	}
	defer book.Close()
	entries, _ := book.Runs(logbook.Filter{})
	for _, e := range entries {
		names = append(names, e.ID)
	}
	return names
}

func (a *app) versionCommand() *cli.Command {
	return command(&cli.Command{
		Name: "version", Usage: "print version, commit and date of this program",
		Action: func(_ context.Context, c *cli.Command) error {
			if err := noArguments(c); err != nil {
				return err
			}
			return a.print(fmt.Sprintf("vividstrain %s\n", built()))
		},
	}, "vividstrain version")
}

func (a *app) helpCommand() *cli.Command {
	return command(&cli.Command{
		Name: "help", Usage: "explain a command", ArgsUsage: "[COMMAND]...",
		Action: func(_ context.Context, c *cli.Command) error {
			at := c.Root()
			for _, word := range c.Args().Slice() {
				sub := at.Command(word)
				if sub == nil {
					return usagef("there is no command %q%s", word, orList(media.Near(word, commandNames(at)), at, "commands"))
				}
				at = sub
			}
			return a.root().Run(context.Background(), slices.Concat([]string{c.Root().Name}, c.Args().Slice(), []string{"--help"}))
		},
	}, "vividstrain help", "vividstrain help clips build")
}
