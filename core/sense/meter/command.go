package meter

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"time"

	"vividstrain/core/sense"
)

// ParseNumber parses a number written by a person or program, with a decimal point or comma.
func ParseNumber(text string) (float64, error) {
	text = strings.TrimSpace(text)
	if strings.Count(text, ",") == 1 && !strings.Contains(text, ".") {
		text = strings.Replace(text, ",", ".", 1)
	}
	v, err := strconv.ParseFloat(text, 64)
	if err != nil {
		return 0, fmt.Errorf("%.40q is not a number", text)
	}
	return v, nil
}

// Command is a meter that runs a program which prints a number.
type Command struct {
	pace
	patience
	last error
	args []string
	pick Pick
}

// NewCommand returns a meter that runs a program with arguments.
func NewCommand(name string, args []string, every time.Duration, pick Pick) (*Command, error) {
	if len(args) == 0 {
		return nil, errors.New("the command is empty")
	}
	if _, err := exec.LookPath(args[0]); err != nil {
		return nil, fmt.Errorf("the command %q cannot be run: %w", args[0], errors.Unwrap(err))
	}
	return &Command{pace: pace{"command", name, every}, args: args, pick: pick}, nil
}

// Close does nothing: nothing stays open.
func (*Command) Close() error { return nil }

// Sample runs the program once.
func (c *Command) Sample(ctx context.Context, now time.Time, list []sense.Reading) ([]sense.Reading, error) {
	err := c.do(ctx, now, &c.last, func() error {
		command := exec.CommandContext(ctx, c.args[0], c.args[1:]...)
		command.WaitDelay = 500 * time.Millisecond // for a child process that keeps the output open
		out := &limitedBuffer{}
		command.Stdout = out
		if err := command.Run(); err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			return fmt.Errorf("%s: %w", c.args[0], err)
		}
		first, _, _ := bytes.Cut(bytes.TrimSpace(out.b), []byte("\n"))
		v, err := ParseNumber(string(first))
		if err != nil {
			return fmt.Errorf("%s: what it prints, %w", c.args[0], err)
		}
		r, err := c.pick.reading(v)
		if err == nil {
			list = append(list, r)
		}
		return err
	})
	return list, err
}

// limitedBuffer stores the first 64 kB that are written to it.
type limitedBuffer struct{ b []byte }

func (l *limitedBuffer) Write(p []byte) (int, error) {
	l.b = append(l.b, p[:min(len(p), 64<<10-len(l.b))]...)
	return len(p), nil
}

// CSV is a meter that reads the last line of a growing file.
type CSV struct {
	pace
	lacks
	path  string
	picks []Pick
	head  []string
	size  int64
	quiet time.Time // when the file last grew
}

// NewCSV returns a meter that reads a file. At of each pick is the name of a column from the
// first line, or its number from 1.
func NewCSV(name, path string, every time.Duration, picks []Pick) *CSV {
	return &CSV{pace: pace{"csv", name, every}, path: path, picks: picks, size: -1}
}

// Close does nothing: nothing stays open.
func (*CSV) Close() error { return nil }

const (
	maxRow    = 64 << 10
	quietTime = time.Minute
)

// Sample reads what was added to the file.
func (c *CSV) Sample(_ context.Context, now time.Time, list []sense.Reading) ([]sense.Reading, error) {
	f, err := os.Open(c.path)
	if err != nil {
		return list, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return list, err
	}
	if !info.Mode().IsRegular() {
		return list, fmt.Errorf("%s is not a file", c.path)
	}
	if info.Size() == c.size {
		if now.Sub(c.quiet) > quietTime {
			return list, fmt.Errorf("%s has not grown for %s", c.path, quietTime)
		}
		return list, nil
	}
	c.size, c.quiet = info.Size(), now
	if c.head == nil {
		if c.head, err = firstRow(f); err != nil {
			return list, fmt.Errorf("%s: %w", c.path, err)
		}
	}
	row, err := lastRow(f, info.Size())
	if err != nil {
		return list, fmt.Errorf("%s: %w", c.path, err)
	}
	if row == "" || slices.Equal(cells(row), c.head) {
		return list, nil // only the header line yet
	}
	c.begin()
	for i := range c.picks {
		r, err := c.cell(&c.picks[i], cells(row))
		if err != nil {
			c.add(&c.picks[i], err)
			continue
		}
		list = append(list, r)
	}
	if err := c.all(len(c.picks)); err != nil {
		return list, fmt.Errorf("%s: %w", c.path, err)
	}
	return list, nil
}

// cell returns the value of a pick in a row.
func (c *CSV) cell(p *Pick, row []string) (sense.Reading, error) {
	i := slices.Index(c.head, p.At)
	if n, err := strconv.Atoi(p.At); i < 0 && err == nil {
		i = n - 1
	}
	if i < 0 || i >= len(row) {
		return sense.Reading{}, fmt.Errorf("there is no column %q; its first line has %s", p.At, strings.Join(c.head, ", "))
	}
	v, err := ParseNumber(row[i])
	if err != nil {
		return sense.Reading{}, fmt.Errorf("column %q: %w", p.At, err)
	}
	return p.reading(v)
}

// cells splits a row at semicolons, tabs or commas: the first of these that it contains.
func cells(row string) []string {
	by := ","
	for _, s := range []string{";", "\t"} {
		if strings.Contains(row, s) {
			by = s
			break
		}
	}
	list := strings.Split(row, by)
	for i := range list {
		list[i] = strings.Trim(strings.TrimSpace(list[i]), `"`)
	}
	return list
}

func firstRow(f *os.File) ([]string, error) {
	line, err := bufio.NewReaderSize(io.LimitReader(f, maxRow), 4096).ReadString('\n')
	if err != nil && err != io.EOF {
		return nil, err
	}
	return cells(strings.TrimSpace(line)), nil
}

// lastRow returns the last complete line.
func lastRow(f *os.File, size int64) (string, error) {
	from := max(0, size-maxRow)
	data := make([]byte, size-from)
	n, err := f.ReadAt(data, from)
	if err != nil && err != io.EOF {
		return "", err
	}
	data = data[:n]
	end := bytes.LastIndexByte(data, '\n')
	if end < 0 {
		return "", nil
	}
	data = bytes.TrimRight(data[:end], "\r\n")
	return string(data[bytes.LastIndexByte(data, '\n')+1:]), nil
}
