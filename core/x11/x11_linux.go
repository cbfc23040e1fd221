package x11

import (
	"errors"
	"fmt"
	"os"

	"github.com/jezek/xgb"
	"github.com/jezek/xgb/randr"
	"github.com/jezek/xgb/shm"
	"github.com/jezek/xgb/xproto"
	"golang.org/x/sys/unix"
)

// maxBytes bounds shared memory: a screen of 8192x8192.
const maxBytes = 4 << 26

// Server is a connection to an X server.
type Server struct {
	Conn    *xgb.Conn
	Screen  *xproto.ScreenInfo
	Segment shm.Seg
	Memory  []byte // shared with the server
}

// Open connects to the server that the environment names.
func Open() (*Server, error) {
	display := os.Getenv("DISPLAY")
	if display == "" && os.Getenv("WAYLAND_DISPLAY") != "" {
		return nil, errors.New("this is a Wayland session without an X server in it")
	}
	if display == "" {
		return nil, errors.New("there is no X server: DISPLAY is not set")
	}
	conn, err := xgb.NewConn()
	if err != nil {
		return nil, fmt.Errorf("the X server %s: %w", display, err)
	}
	s := &Server{Conn: conn, Screen: xproto.Setup(conn).DefaultScreen(conn)}
	if d := s.Screen.RootDepth; d != 24 && d != 32 {
		conn.Close()
		return nil, fmt.Errorf("the X server %s has %d bits a pixel; 24 are needed", display, d)
	}
	if err := extend(conn); err != nil {
		conn.Close()
		return nil, fmt.Errorf("the X server %s: %w", display, err)
	}
	if !has(conn, "MIT-SHM") {
		conn.Close()
		return nil, fmt.Errorf("the X server %s has no shared memory (extension MIT-SHM)", display)
	}
	return s, nil
}

// Share shares so many bytes with the server. They are freed when nobody has them any more, also after
// a crash.
func (s *Server) Share(size int) error {
	if size <= 0 || size > maxBytes {
		return fmt.Errorf("a picture of %d bytes is too large for a screen", size)
	}
	id, err := unix.SysvShmGet(unix.IPC_PRIVATE, size, unix.IPC_CREAT|0o600)
	if err != nil {
		return fmt.Errorf("shared memory: %w", err)
	}
	if s.Memory, err = unix.SysvShmAttach(id, 0, 0); err == nil {
		if s.Segment, err = shm.NewSegId(s.Conn); err == nil {
			err = shm.AttachChecked(s.Conn, s.Segment, uint32(id), false).Check()
		}
	}
	_, removed := unix.SysvShmCtl(id, unix.IPC_RMID, nil)
	return errors.Join(err, removed)
}

// Refresh returns the refresh rate of the mode that is shown, 0 where it is not known.
func (s *Server) Refresh() float64 {
	if !has(s.Conn, "RANDR") {
		return 0
	}
	r, err := randr.GetScreenResources(s.Conn, s.Screen.Root).Reply()
	if err != nil {
		return 0
	}
	for _, crtc := range r.Crtcs {
		info, err := randr.GetCrtcInfo(s.Conn, crtc, r.ConfigTimestamp).Reply()
		if err != nil || info.Mode == 0 {
			continue
		}
		for _, m := range r.Modes {
			if total := float64(m.Htotal) * float64(m.Vtotal); m.Id == uint32(info.Mode) && total > 0 {
				if rate := float64(m.DotClock) / total; rate >= 1 && rate <= 1000 {
					return rate
				}
			}
		}
	}
	return 0
}

// Close ends the connection.
func (s *Server) Close() error {
	s.Conn.Close()
	if s.Memory == nil {
		return nil
	}
	return unix.SysvShmDetach(s.Memory)
}
