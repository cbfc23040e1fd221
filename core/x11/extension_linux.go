package x11

import (
	"fmt"
	"io"
	"log"
	"sync"

	"github.com/jezek/xgb"
	"github.com/jezek/xgb/randr"
	"github.com/jezek/xgb/shm"
	"github.com/jezek/xgb/xproto"
	"github.com/jezek/xgb/xtest"
)

func init() { xgb.Logger = log.New(io.Discard, "", 0) } // errors are returned

// numbers are what a server calls an extension's requests, events and errors.
type numbers struct{ opcode, event, failure byte }

// extensions are those that are used, with the numbers under which the X library knows their events and
// errors. It keeps these in maps of the whole process, which the goroutine of each connection reads without
// a lock. So they are written with the first connection, before anything can come over it, and again only
// for a server that has other numbers.
var extensions = struct {
	sync.Mutex
	start map[string]func(*xgb.Conn) error
	known map[string]numbers
}{
	start: map[string]func(*xgb.Conn) error{"MIT-SHM": shm.Init, "RANDR": randr.Init, "XTEST": xtest.Init},
	known: map[string]numbers{},
}

// extend readies a new connection for the extensions that its server has.
func extend(c *xgb.Conn) error {
	extensions.Lock()
	defer extensions.Unlock()
	for name, start := range extensions.start {
		r, err := xproto.QueryExtension(c, uint16(len(name)), name).Reply()
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		if !r.Present {
			continue
		}
		n := numbers{r.MajorOpcode, r.FirstEvent, r.FirstError}
		if extensions.known[name] != n {
			if err := start(c); err != nil {
				return fmt.Errorf("%s: %w", name, err)
			}
			extensions.known[name] = n
		}
		c.ExtLock.Lock()
		c.Extensions[name] = n.opcode
		c.ExtLock.Unlock()
	}
	return nil
}

// has tells whether a connection's server has an extension.
func has(c *xgb.Conn, name string) bool {
	c.ExtLock.RLock()
	defer c.ExtLock.RUnlock()
	_, ok := c.Extensions[name]
	return ok
}
