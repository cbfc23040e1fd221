package cli

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"runtime"
	"time"

	"github.com/urfave/cli/v3"

	"vividstrain/core/media"
	"vividstrain/core/mediaserver"
)

// oldServeCommand is "serve" under its earlier name.
func (a *app) oldServeCommand() *cli.Command {
	return &cli.Command{Name: "standin", Hidden: true, HideHelpCommand: true, Commands: []*cli.Command{a.serveCommand()},
		Action: func(context.Context, *cli.Command) error {
			return usagef("the practice media server is vividstrain serve")
		}}
}

func (a *app) serveCommand() *cli.Command {
	s := a.settings
	return command(&cli.Command{
		Name: "serve", Usage: "be a media server, to learn how one is tested",
		Description: "Serves a folder of clips by progressive HTTP, HLS and DASH, and converts them on request, each for\n" +
			"one viewer: a conversion runs ahead, then waits for its viewer; a jump restarts it; one without\n" +
			"requests ends. --cores, --memory and --link limit it to less than this computer has,\n" +
			"and /metrics shows how much of that is used.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "clips", Usage: "serve the films in `DIR`", Value: defaultClips(), DefaultText: clipsDefault, Sources: s.sources("clips")},
			&cli.StringFlag{Name: "listen", Usage: "answer at `ADDR`; :8080 is for other computers, too", Value: "127.0.0.1:8080"},
			&cli.FloatFlag{Name: "cores", Usage: "use at most `N` cores, for example 1.5", DefaultText: "all"},
			&cli.StringFlag{Name: "memory", Usage: "use at most `BYTES` for conversions, for example 600M", DefaultText: "all"},
			&cli.StringFlag{Name: "link", Usage: "send at most `RATE` bits a second, for example 100M", DefaultText: "no limit"},
			&cli.StringSliceFlag{Name: "refuse", Usage: "do not play films of `FORMAT`, for example \"hevc 10bit\""},
			&secondsFlag{Name: "ahead", Usage: "let conversions run `TIME` ahead of requests", Value: 30 * time.Second},
			&secondsFlag{Name: "idle", Usage: "end conversions without requests for `TIME`", Value: 12 * time.Second},
			&secondsFlag{Name: "segment", Usage: "cut films into segments of `TIME`", Value: 4 * time.Second},
			&cli.IntFlag{Name: "threads", Usage: "decode and code on `N` threads in each conversion", DefaultText: "one for each core, 4 at most"},
		},
		Action: a.serve,
	}, makeClips, "vividstrain serve --clips clips", "vividstrain serve --clips clips --cores 1.5 --memory 600M --link 100M --refuse \"h264 10bit\"")
}

// amount parses a number with an SI letter; an empty string is 0.
func amount(c *cli.Command, name string) (int64, error) {
	text := c.String(name)
	if text == "" {
		return 0, nil
	}
	n, err := media.ParseBitrate(text)
	if err != nil {
		return 0, usagef("--%s is a number like 600M, not %q", name, text)
	}
	return n, nil
}

func (a *app) serve(ctx context.Context, c *cli.Command) error {
	if err := noArguments(c); err != nil {
		return err
	}
	o := mediaserver.Options{Clips: c.String("clips"), Cores: c.Float("cores"), Refuse: c.StringSlice("refuse"), Threads: c.Int("threads"),
		Ahead: c.Duration("ahead"), Idle: c.Duration("idle"), Segment: c.Duration("segment"),
		Log: slog.New(slog.NewTextHandler(a.err, &slog.HandlerOptions{ReplaceAttr: plain}))}
	if o.Threads == 0 {
		o.Threads = min(runtime.NumCPU(), 4)
	}
	var err error
	if o.Memory, err = amount(c, "memory"); err != nil {
		return err
	}
	if o.Link, err = amount(c, "link"); err != nil {
		return err
	}
	listener, err := listen("listen", c.String("listen"))
	if err != nil {
		return err
	}
	defer listener.Close()
	b, err := mediaserver.New(ctx, o)
	if err != nil {
		return usage(err)
	}
	defer b.Close()
	fmt.Fprintf(a.err, "serving %s at http://%s/%s; Ctrl-C ends it\n", o.Clips, readable(listener.Addr()), toWhom(listener.Addr()))
	server := &http.Server{Handler: b, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute, BaseContext: func(net.Listener) context.Context { return ctx }}
	context.AfterFunc(ctx, func() { server.Close() })
	if err := server.Serve(listener); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

// readable returns an address for a browser on this computer.
func readable(address net.Addr) string {
	if tcp, ok := address.(*net.TCPAddr); ok && tcp.IP.IsUnspecified() {
		return fmt.Sprintf("localhost:%d", tcp.Port)
	}
	return address.String()
}

// toWhom states that others may connect, too.
func toWhom(address net.Addr) string {
	if tcp, ok := address.(*net.TCPAddr); ok && !tcp.IP.IsLoopback() {
		return ", to everybody who reaches this computer"
	}
	return ""
}

// plain shortens the time of log lines, and leaves out the usual level.
func plain(_ []string, attr slog.Attr) slog.Attr {
	switch {
	case attr.Key == slog.TimeKey:
		return slog.String(slog.TimeKey, attr.Value.Time().Format(time.TimeOnly))
	case attr.Key == slog.LevelKey && attr.Value.String() == slog.LevelInfo.String():
		return slog.Attr{}
	}
	return attr
}
