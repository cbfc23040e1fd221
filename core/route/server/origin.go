package server

import (
	"context"
	"crypto/tls"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"regexp"
	"strconv"
	"strings"
	"time"

	"vividstrain/core/route"
	"vividstrain/core/route/link"
	"vividstrain/core/sense/linux"
)

// origin is where credentials may go: scheme, host and port (RFC 6454, 4).
type origin struct{ scheme, host, port string }

func originOf(u *url.URL) origin {
	port := u.Port()
	if port == "" {
		port = map[string]string{"http": "80", "https": "443"}[u.Scheme]
	}
	return origin{u.Scheme, strings.ToLower(u.Hostname()), port}
}

// Reach connects to each host of films, or to the proxy before it, without requesting anything.
func (s *Server) Reach(ctx context.Context) error {
	for o := range s.origins {
		address := net.JoinHostPort(o.host, o.port)
		u := &url.URL{Scheme: o.scheme, Host: address, Path: "/"}
		proxy, err := http.ProxyFromEnvironment(&http.Request{URL: u})
		proxied := err == nil && proxy != nil
		if proxied {
			p := originOf(proxy)
			address = net.JoinHostPort(p.host, p.port)
		}
		limited, cancel := context.WithTimeout(ctx, 10*time.Second)
		conn, err := s.options.Dial(limited, "tcp", address)
		if err == nil && o.scheme == "https" && !proxied {
			config := s.tls.Clone()
			config.ServerName = o.host
			if err = tls.Client(conn, config).HandshakeContext(limited); err != nil {
				conn.Close()
			}
		}
		cancel()
		if err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			return fmt.Errorf("%s://%s cannot be reached: %s", o.scheme, address, plain(err))
		}
		conn.Close()
		if ip, ours := conn.RemoteAddr().(*net.TCPAddr); ours && isLocal(ip.IP) {
			s.own.group.SetAside(linux.Listeners(ip.Port)...)
		}
	}
	return nil
}

var _ route.Reachable = (*Server)(nil)

// isLocal reports whether an address belongs to this computer.
func isLocal(ip net.IP) bool {
	if ip.IsLoopback() {
		return true
	}
	list, _ := net.InterfaceAddrs() // without a list no address counts as local
	for _, a := range list {
		if n, ok := a.(*net.IPNet); ok && n.IP.Equal(ip) {
			return true
		}
	}
	return false
}

// placeholders are replaced by properties of the load, see Fill.
var placeholders = []string{"clip", "goal", "codec", "width", "height", "rate", "depth", "kbps", "audio", "subtitle", "sdr"}

var placeholder = regexp.MustCompile(`\{[^{}]*\}`)

// checkAddress returns what is wrong with an address.
func checkAddress(address string) (*url.URL, error) {
	for _, found := range placeholder.FindAllString(address, -1) {
		known := false
		for _, name := range placeholders {
			known = known || found == "{"+name+"}"
		}
		if !known {
			return nil, fmt.Errorf("an address has %s, which is not a known placeholder; there are {%s}", found, strings.Join(placeholders, "}, {"))
		}
	}
	u, err := url.Parse(placeholder.ReplaceAllString(address, "x"))
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return nil, fmt.Errorf("%q is not the address of a media server; it is like http://box.local:8080/{clip}.mp4", redact(address))
	}
	return u, nil
}

// harmless matches query parameters that may be recorded and shown, because they repeat what was
// requested. Any other may be a secret.
var harmless = regexp.MustCompile(`(?i)^(width|height|w|h|size|resolution|quality|rate|fps|framerate|bitrate|kbps|bandwidth|codec|format|container|profile|level|depth|goal|clip|film|title|video|audio|subtitle|track|start|end|from|to|t|offset|segment|number|index|static|max\w*|min\w*|\w*codec|\w*bitrate|\w*width|\w*height)$`)

var (
	userInAddress  = regexp.MustCompile(`//[^/@\s]*@`)
	paramInAddress = regexp.MustCompile(`([?&;])([^=&;\s"]*)=([^&;\s"]*)`)
)

// hidden replaces what is not shown.
const hidden = "..."

// redact removes what may be a secret from a text with addresses: names and passwords, and all
// query parameters that are not known to be harmless.
func redact(text string) string {
	text = userInAddress.ReplaceAllString(text, "//")
	return paramInAddress.ReplaceAllStringFunc(text, func(found string) string {
		m := paramInAddress.FindStringSubmatch(found)
		if harmless.MatchString(m[2]) || placeholder.MatchString(m[3]) && placeholder.FindString(m[3]) == m[3] {
			return found
		}
		return m[1] + m[2] + "=" + hidden
	})
}

// printable removes what may control a terminal from a text.
func printable(text string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || r >= 0x7f && r < 0xa0 {
			return ' '
		}
		return r
	}, text)
}

// FromOptions parses the settings that Server.Options returned. Credentials are not among them,
// and an address from which something was left out is an error: it must be given again.
func FromOptions(m map[string]string) (o Options, err error) {
	fail := func(name string) (Options, error) {
		return o, fmt.Errorf("option %s is %q", name, m[name])
	}
	seconds := func(name string) (time.Duration, bool) {
		v, err := strconv.ParseFloat(m[name], 64)
		return time.Duration(v * float64(time.Second)), err == nil || m[name] == ""
	}
	// named returns an option, also under its earlier name.
	named := func(name, old string) string {
		if _, there := m[name]; there {
			return name
		}
		return old
	}
	var ok bool
	if o.Jumps, err = strconv.Atoi(m["jumps"]); err != nil {
		return fail("jumps")
	}
	verify, err := strconv.ParseFloat(m[named("verify_pct", "look_pct")], 64)
	if err != nil {
		return fail("verify_pct")
	}
	if o.Seed, err = strconv.ParseUint(m["seed"], 10, 64); err != nil {
		return fail("seed")
	}
	if o.Ahead, ok = seconds("ahead_s"); !ok {
		return fail("ahead_s")
	}
	if o.Timeout, ok = seconds(named("timeout_s", "patience_s")); !ok {
		return fail("timeout_s")
	}
	o.Verify, o.URL, o.ListFile, o.CA, o.Name = verify/100, m["url"], m["list"], m["ca"], m["name"]
	if o.Link, err = link.Parse(m["link"]); err != nil {
		return fail("link")
	}
	if o.Link.Delay, ok = seconds("delay_s"); !ok {
		return fail("delay_s")
	}
	if text := m["loss_pct"]; text != "" {
		if o.Link.Loss, err = strconv.ParseFloat(text, 64); err != nil {
			return fail("loss_pct")
		}
		o.Link.Loss /= 100
	}
	if m["url_incomplete"] != "" {
		return o, ErrIncomplete
	}
	return o, nil
}

// ErrIncomplete means that an address was recorded without its possible secrets.
var ErrIncomplete = fmt.Errorf("the address was recorded without what may be secret in it")
