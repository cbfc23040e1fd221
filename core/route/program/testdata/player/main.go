// Command player is a small player with a window on an X screen, for tests: it makes mistakes on
// command.
package main

import (
	"bufio"
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"time"

	"vividstrain/core/media"
	"vividstrain/core/media/picture"
	"vividstrain/core/media/registry"
	"vividstrain/core/screen"
)

var (
	window = flag.String("window", "640x360", "size of the window")
	drop   = flag.String("drop", "", "numbers of frames that are left out")
	freeze = flag.String("freeze", "", "FRAME:TIME, the frame that stays for so long; what is due then is left out")
	speed  = flag.Float64("speed", 1, "of playing")
	tear   = flag.Int("tear", -1, "the frame whose lower half is of the one before, for a while")
	hang   = flag.Int("hang", -1, "the frame at which nothing moves any more")
	crash  = flag.Int("crash", -1, "the frame at which it crashes")
	lie    = flag.Bool("lie", false, "say that nothing was dropped")
	quiet  = flag.Bool("quiet", false, "show nothing")
	truth  = flag.String("truth", "", "write when each frame was shown into this file")
	obey   = flag.String("obey", "", "jump to the seconds that are written into this file")
	later  = flag.Duration("later", 0, "how much later it jumps")
	write  = flag.String("write", "", "write the argument into this file, and nothing else")
	linger = flag.Bool("linger", false, "stay when the film is over")
)

func main() {
	flag.Parse()
	if *write != "" {
		if err := os.WriteFile(*write, []byte(flag.Arg(0)), 0o666); err != nil {
			panic(err)
		}
		return
	}
	if err := play(flag.Arg(0)); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(3)
	}
	if *linger {
		time.Sleep(time.Hour)
	}
}

func play(path string) error {
	frames, rate, err := open(path, 0)
	if err != nil {
		return err
	}
	var w *screen.Window
	if !*quiet {
		width, height, _ := strings.Cut(*window, "x")
		if w, err = screen.Open("ferry player", number(width), number(height), 1, false, false); err != nil {
			return err
		}
		defer w.Close()
	}
	left := map[int]bool{}
	for _, text := range strings.Split(*drop, ",") {
		if text != "" {
			left[number(text)] = true
		}
	}
	frozen, frozenFor := -1, time.Duration(0)
	if at, long, is := strings.Cut(*freeze, ":"); is {
		frozen = number(at)
		frozenFor, _ = time.ParseDuration(long)
	}
	out, record := bufio.NewWriter(os.Stdout), io.Discard
	if *truth != "" {
		file, err := os.Create(*truth)
		if err != nil {
			return err
		}
		defer file.Close()
		record = file
	}
	shown, dropped, n := 0, 0, 0
	first := <-frames
	if w != nil {
		w.Paint(0, first.Picture)
	}
	began := time.Now().Add(100 * time.Millisecond)
	until := time.Time{}
	var before *picture.Picture // of the frame that is torn
	for f, more := first, true; more; f, more = <-frames {
		if to, is := ordered(); is {
			time.Sleep(*later)
			f.Release()
			n = int(to * rate)
			if frames, _, err = open(path, n/int(rate)*int(rate)); err != nil { // clips have a key frame every second
				return err
			}
			for range n % int(rate) {
				f = <-frames
				f.Release()
			}
			f = <-frames
			began = time.Now().Add(-time.Duration(float64(n) / rate * float64(time.Second)))
		}
		if n == *crash {
			fmt.Fprint(os.Stderr, "the pump failed\n")
			out.Flush()
			os.Exit(7)
		}
		if n == *hang {
			out.Flush()
			time.Sleep(time.Hour)
		}
		due := began.Add(time.Duration(float64(n) / rate / *speed * float64(time.Second)))
		if !left[n] && due.After(until) {
			shows := f.Picture
			if n == *tear {
				shows = torn(shows, before)
			}
			if n > 0 && w != nil {
				w.Paint(0, shows)
			}
			if n+1 == *tear {
				before = torn(f.Picture, f.Picture)
			}
			time.Sleep(time.Until(due))
			if w != nil {
				if err := w.Show(0); err != nil {
					return err
				}
				fmt.Fprintf(record, "%d %d\n", n, time.Now().UnixNano())
			}
			shown++
		} else {
			dropped++
		}
		if n == frozen {
			until = due.Add(frozenFor)
		}
		f.Release()
		n++
		if n%5 == 0 {
			lost := dropped
			if *lie {
				lost = 0
			}
			fmt.Fprintf(out, "at %.2f s, %d drawn, %d lost\r", float64(n)/rate, n-lost, lost)
			out.Flush()
		}
	}
	time.Sleep(time.Until(began.Add(time.Duration(float64(n) / rate / *speed * float64(time.Second)))))
	return nil
}

// torn returns a picture of which the lower half is another one's.
func torn(upper, lower *picture.Picture) *picture.Picture {
	p := picture.New(upper.Width, upper.Height, 8, upper.Chroma)
	for i := range p.Planes {
		w, h := p.Chroma.PlaneSize(i, p.Width, p.Height)
		for y := range h {
			from := &upper.Planes[i]
			if y >= h/2 {
				from = &lower.Planes[i]
			}
			copy(p.Planes[i].Pix[y*p.Planes[i].Stride:], from.Pix[y*from.Stride:][:w])
		}
	}
	return p
}

// ordered returns where to jump, once.
func ordered() (seconds float64, is bool) {
	if *obey == "" {
		return 0, false
	}
	text, err := os.ReadFile(*obey)
	if err != nil || len(text) == 0 {
		return 0, false
	}
	os.Remove(*obey)
	seconds, err = strconv.ParseFloat(string(text), 64)
	return seconds, err == nil
}

func number(text string) int {
	n, err := strconv.Atoi(text)
	if err != nil {
		panic(err)
	}
	return n
}

// open decodes a film without so many packets.
func open(path string, without int) (<-chan media.Frame, float64, error) {
	file, err := registry.Open(path)
	if err != nil {
		return nil, 0, err
	}
	track, err := registry.DescribeRate(context.Background(), file)
	if err != nil {
		return nil, 0, err
	}
	if err := file.Rewind(); err != nil {
		return nil, 0, err
	}
	video, err := file.Video()
	if err != nil {
		return nil, 0, err
	}
	codec, err := registry.Codec(track.Codec)
	if err != nil {
		return nil, 0, err
	}
	d, err := codec.NewDecoder(file.Tracks()[video], 1)
	if err != nil {
		return nil, 0, err
	}
	frames := make(chan media.Frame, 8)
	go feed(file, video, d, without)
	go func() {
		defer close(frames)
		for {
			f, err := d.Receive(context.Background())
			if errors.Is(err, io.EOF) {
				return
			}
			if err != nil {
				fmt.Fprintln(os.Stderr, err)
				os.Exit(3)
			}
			frames <- f
		}
	}()
	return frames, track.Format.Rate.Hz(), nil
}

func feed(file *registry.File, video int, d media.Decoder, without int) {
	var p media.Packet
	for n := 0; ; n++ {
		err := file.ReadPacket(&p)
		if errors.Is(err, io.EOF) {
			d.Drain()
			return
		}
		if err == nil && p.Track == video && n >= without {
			err = d.Send(context.Background(), &p)
		}
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(3)
		}
	}
}
