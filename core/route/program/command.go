package program

import (
	"errors"
	"fmt"
	"os/exec"
	"strings"

	shellwords "github.com/mattn/go-shellwords"
)

// places are what the placeholders of a command stand for.
type places map[string]string

// fill puts values in the place of placeholders. With quote, for a shell.
func (p places) fill(text string, quote bool) string {
	for name, value := range p {
		if quote {
			value = "'" + strings.ReplaceAll(value, "'", `'\''`) + "'"
		}
		text = strings.ReplaceAll(text, "{"+name+"}", value)
	}
	return text
}

// words splits a command, with quotes as in a shell; nothing else of a shell has a meaning.
func words(command string) ([]string, error) {
	parser := shellwords.NewParser()
	list, err := parser.Parse(command)
	switch {
	case err != nil:
		return nil, fmt.Errorf("the command %q: %w", command, err)
	case parser.Position >= 0:
		return nil, fmt.Errorf("the command %q has %q, which only a shell understands: give --shell too", command, command[parser.Position:])
	case len(list) == 0:
		return nil, errors.New("the command is empty")
	}
	return list, nil
}

// build makes a command of its text. Without a shell the values of placeholders are never split.
func build(command string, shell bool, p places) (*exec.Cmd, error) {
	if shell {
		return exec.Command("/bin/sh", "-c", p.fill(command, true)), nil
	}
	list, err := words(command)
	if err != nil {
		return nil, err
	}
	for i := range list {
		list[i] = p.fill(list[i], false)
	}
	return exec.Command(list[0], list[1:]...), nil
}
