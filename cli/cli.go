// Package cli is the command line: it parses, calls the core and prints. It is
// the only place that knows the command-line library or a terminal.
package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/signal"
	"strings"
	"syscall"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"vividstrain/core/cputime"
	"vividstrain/core/load"
	"vividstrain/core/media/clip"
	"vividstrain/report/model"
	"vividstrain/report/text"
)

// Exit statuses.
const (
	exitDone        = 0
	exitFailed      = 1
	exitUsage       = 2
	exitNeed        = 3
	exitInterrupted = 130
)

// usageError is an error in what the user typed or supplied.
type usageError struct{ error }

func (e usageError) Unwrap() error { return e.error }

func usagef(format string, args ...any) error { return usageError{fmt.Errorf(format, args...)} }

// usage marks err as the user's, unless it is nil.
func usage(err error) error {
	if err == nil {
		return nil
	}
	return usageError{err}
}

// app is what all commands share.
type app struct {
	in       io.Reader
	out      io.Writer
	err      io.Writer
	settings *settings
	args     []string // as they were typed
	// interrupt ends the work as Ctrl-C does.
	interrupt func()
}

// Main runs the program and returns its exit status. The first interrupt ends
// the work cleanly, a second one at once.
func Main(args []string, in io.Reader, out, errOut io.Writer) int {
	cputime.ShareCores()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	context.AfterFunc(ctx, func() {
		stop() // the next interrupt ends the program at once
	})
	ctx, interrupt := context.WithCancel(ctx)
	defer interrupt()
	a := &app{interrupt: interrupt, in: in, out: out, err: errOut, args: modern(args)[min(1, len(args)):]}
	err := a.run(ctx, modern(args))
	if err == nil {
		return exitDone
	}
	return a.fail(ctx, err)
}

// run reads the settings file and calls the command.
func (a *app) run(ctx context.Context, args []string) (err error) {
	if a.settings, err = readSettings(); err != nil {
		return err
	}
	root := a.root()
	if err := a.settings.check(root); err != nil {
		return err
	}
	if a.settings.here {
		fmt.Fprintf(a.err, "settings from %s in this folder\n", settingsFile)
	}
	return root.Run(ctx, args)
}

// fail prints in one line what went wrong.
func (a *app) fail(ctx context.Context, err error) int {
	if ctx.Err() != nil && errors.Is(err, context.Canceled) {
		fmt.Fprintln(a.err, "vividstrain: interrupted; everything so far is kept")
		return exitInterrupted
	}
	if errors.Is(err, errNeed) {
		return exitNeed // the result already says so
	}
	var (
		wrong *load.Error
		rate  *clip.RateError
		typed usageError
	)
	if badSetting.MatchString(err.Error()) {
		err = flagError(err)
	}
	for _, e := range lines(err) {
		fmt.Fprintln(a.err, "vividstrain:", oneLine(e))
	}
	switch {
	case errors.As(err, &typed), errors.As(err, &wrong), errors.As(err, &rate):
		return exitUsage
	}
	return exitFailed
}

// oneLine puts an error on one line and adds what to do about common ones.
func oneLine(err error) string {
	text := strings.Join(strings.Fields(model.Printable(err.Error())), " ")
	var path *fs.PathError
	switch {
	case errors.Is(err, syscall.ENOSPC):
		text += "; make room, or choose another folder"
	case errors.Is(err, fs.ErrPermission) && errors.As(err, &path):
		text += "; choose a folder you may write to"
	}
	return text
}

// root is the command tree.
func (a *app) root() *cli.Command {
	return &cli.Command{
		Name:    "vividstrain",
		Usage:   "find the highest load of video streams that a device plays smoothly",
		Version: built().String(),
		Description: "Begin with \"vividstrain demo\": it makes a few small clips, climbs on this computer, in its browser,\n" +
			"on two simulated devices and on a media box, shows the results side by side and writes a report.",
		Writer: a.out, ErrWriter: a.err,
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "no-color", Usage: "print without colours (also: NO_COLOR in the environment)"},
			&cli.StringFlag{Name: "logbook", Usage: "keep runs in `FILE`", Value: defaultLogbook(), DefaultText: "vividstrain.db in your data folder", Sources: a.settings.sources("logbook")},
		},
		Commands: []*cli.Command{
			a.demoCommand(), a.climbCommand(), a.crowdCommand(), a.runsCommand(), a.showCommand(), a.reportCommand(), a.compareCommand(), a.needCommand(), a.capacityCommand(), a.noteCommand(),
			a.sensorsCommand(), a.watchCommand(), a.exportCommand(), a.importCommand(), a.laddersCommand(),
			a.clipsCommand(), a.inspectCommand(), a.recountCommand(), a.rewrapCommand(), a.convertCommand(), a.devicesCommand(), a.serveCommand(), a.oldServeCommand(), a.trustCommand(), a.schemaCommand(),
			a.completionCommand(), a.versionCommand(), a.helpCommand(),
		},
		Action: func(_ context.Context, c *cli.Command) error {
			if c.Args().Present() {
				return unknownCommand(c)
			}
			return cli.ShowRootCommandHelp(c)
		},
		OnUsageError:    usageFailed,
		ExitErrHandler:  func(context.Context, *cli.Command, error) {},
		HideHelpCommand: true,
		Suggest:         false,
	}
}

// makeClips is a command that makes the clips that other examples use.
const makeClips = "vividstrain clips build --ladder quick --out clips --seconds 2"

// command sets what all commands have in common.
func command(c *cli.Command, examples ...string) *cli.Command {
	c.OnUsageError = usageFailed
	c.HideHelpCommand, c.DisableSliceFlagSeparator = true, true // numbers may have commas
	text := "Examples:"
	for _, e := range examples {
		text += "\n  " + e
	}
	if c.Description != "" {
		text = c.Description + "\n\n" + text
	}
	c.Description = text
	return c
}

// style returns how results are drawn on standard output.
func (a *app) style(c *cli.Command) text.Style {
	s := text.Style{Width: terminalWidth(a.out)}
	s.Color = s.Width > 0 && os.Getenv("NO_COLOR") == "" && !dumb() && !c.Root().Bool("no-color")
	return s
}

// dumb reports whether the terminal can neither show colours nor redraw a line.
func dumb() bool { return os.Getenv("TERM") == "dumb" }

// terminalWidth returns the width in columns if w is a terminal, else 0.
func terminalWidth(w io.Writer) int {
	f, ok := w.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return 0
	}
	width, _, err := term.GetSize(int(f.Fd()))
	if err != nil || width <= 0 {
		return 80
	}
	return width
}

// printJSON prints only v on standard output.
func (a *app) printJSON(v any) error {
	text, err := encodeJSON(v)
	if err != nil {
		return err
	}
	return a.print(string(text))
}

// encodeJSON encodes v with indentation.
func encodeJSON(v any) ([]byte, error) {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	err := e.Encode(v)
	return b.Bytes(), err
}

// print writes text to standard output.
func (a *app) print(text string) error {
	_, err := io.WriteString(a.out, text)
	return err
}

// noArguments is the check of commands without arguments.
func noArguments(c *cli.Command) error {
	if c.Args().Present() {
		return usagef("%s takes no argument, but there is %q", c.FullName(), c.Args().First())
	}
	return nil
}
