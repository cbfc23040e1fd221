package page

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"crypto/tls"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log"
	"net"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/coder/websocket"
	"golang.org/x/time/rate"

	"vividstrain/core/route/films"
	"vividstrain/core/route/link"
)

//go:embed static
var static embed.FS

// letters of codes: none that look like another, none that a remote control lacks.
const letters = "abcdefghkmnpqrstuvwxyz23456789"

// code returns n random letters.
func code(n int) string {
	b := make([]byte, n)
	for i := range b {
		for {
			var one [1]byte
			rand.Read(one[:]) // it never fails
			if int(one[0]) < 256/len(letters)*len(letters) {
				b[i] = letters[int(one[0])%len(letters)]
				break
			}
		}
	}
	return string(b)
}

// hub serves the page, its connections and films. Everything is below a random code.
type hub struct {
	code     string
	delivery *delivery
	shaper   *link.Shaper
	joined   func(c *conn) // a page has said hello
	guesses  *rate.Limiter // of the code

	listen net.Listener
	server *http.Server
	tls    *tls.Config

	mu    sync.Mutex
	films map[string]*films.Film // by name
	more  []net.Listener         // of further videos: browsers open few connections to one port
}

// newHub starts to serve at an address.
func newHub(address string, config *tls.Config, shaper *link.Shaper) (*hub, error) {
	h := &hub{code: code(6), tls: config, delivery: &delivery{}, shaper: shaper, guesses: rate.NewLimiter(2, 20), films: map[string]*films.Film{}}
	var err error
	if h.listen, err = net.Listen("tcp", address); err != nil {
		return nil, fmt.Errorf("the page cannot be served at %s: %w; --listen takes another address", address, err)
	}
	// What strangers send is not worth a line in a log.
	h.server = &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 16 << 10, ErrorLog: log.New(io.Discard, "", 0)}
	h.serve(h.listen)
	return h, nil
}

// serve serves at a listener, over the link that is to be between.
func (h *hub) serve(l net.Listener) {
	l = h.shaper.Listen(l)
	if h.tls != nil {
		l = tls.NewListener(l, h.tls)
	}
	go h.server.Serve(l) // until close
}

func (h *hub) close() {
	h.server.Close()
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, l := range h.more {
		l.Close()
	}
}

// port returns the port at which video i is fetched, and listens there; 0 is that of the page.
func (h *hub) port(i int) (int, error) {
	main := h.listen.Addr().(*net.TCPAddr)
	if i == 0 {
		return 0, nil
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	for len(h.more) < i {
		// Ports after the first one are what a firewall was opened for, if any; else any will do.
		host, _, _ := net.SplitHostPort(h.listen.Addr().String())
		l, err := net.Listen("tcp", net.JoinHostPort(host, strconv.Itoa(main.Port+len(h.more)+1)))
		if err != nil {
			l, err = net.Listen("tcp", net.JoinHostPort(host, "0"))
		}
		if err != nil {
			return 0, err
		}
		h.more = append(h.more, l)
		h.serve(l)
	}
	return h.more[i-1].Addr().(*net.TCPAddr).Port, nil
}

// scheme returns the scheme of the page's address.
func (h *hub) scheme() string {
	if h.tls != nil {
		return "https"
	}
	return "http"
}

// addresses returns the addresses of the page, that for other computers first.
func (h *hub) addresses() (list []string) {
	bound := h.listen.Addr().(*net.TCPAddr)
	add := func(host string) {
		list = append(list, fmt.Sprintf("%s://%s/%s/", h.scheme(), net.JoinHostPort(host, strconv.Itoa(bound.Port)), h.code))
	}
	if !bound.IP.IsUnspecified() {
		add(bound.IP.String())
		return list
	}
	found, _ := net.InterfaceAddrs()
	for _, a := range found {
		if n, is := a.(*net.IPNet); is && n.IP.To4() != nil && !n.IP.IsLoopback() && !n.IP.IsLinkLocalUnicast() {
			add(n.IP.String())
		}
	}
	add("localhost")
	return list
}

// local returns the address of the page for a browser on this computer.
func (h *hub) local() string {
	bound := h.listen.Addr().(*net.TCPAddr)
	host := bound.IP.String()
	if bound.IP.IsUnspecified() || bound.IP.IsLoopback() {
		host = "localhost" // a secure context, also over plain HTTP
	}
	return fmt.Sprintf("%s://%s/%s/", h.scheme(), net.JoinHostPort(host, strconv.Itoa(bound.Port)), h.code)
}

// ServeHTTP answers what begins with the code, and nothing else.
func (h *hub) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	given, name, _ := strings.Cut(strings.TrimPrefix(r.URL.Path, "/"), "/")
	if subtle.ConstantTimeCompare([]byte(given), []byte(h.code)) != 1 {
		if !h.guesses.Allow() {
			http.Error(w, "too many wrong codes", http.StatusTooManyRequests)
			return
		}
		http.NotFound(w, r)
		return
	}
	h.headers(w, r)
	switch {
	case r.Method != http.MethodGet && r.Method != http.MethodHead:
		http.Error(w, "only GET", http.StatusMethodNotAllowed)
	case name == "" && !strings.HasSuffix(r.URL.Path, "/"):
		http.Redirect(w, r, "/"+h.code+"/", http.StatusMovedPermanently)
	case name == "":
		h.file(w, r, "index.html")
	case name == "page.js" || name == "page.css":
		h.file(w, r, name)
	case name == "ws":
		h.connect(w, r)
	case strings.HasPrefix(name, "film/"):
		h.film(w, r, strings.TrimPrefix(name, "film/"))
	default:
		http.NotFound(w, r)
	}
}

// headers sets what a browser may do with the answer: run our script, and fetch from here alone.
func (h *hub) headers(w http.ResponseWriter, r *http.Request) {
	host := r.Host
	if name, _, err := net.SplitHostPort(host); err == nil {
		host = name
	}
	if strings.Trim(strings.ToLower(host), "abcdefghijklmnopqrstuvwxyz0123456789.-:[]") != "" {
		host = "invalid."
	}
	socket := "ws"
	if h.tls != nil {
		socket = "wss"
	}
	w.Header().Set("Content-Security-Policy", fmt.Sprintf("default-src 'none'; script-src 'self'; style-src 'self'; img-src data:; media-src 'self' blob: %s://%s:*; connect-src 'self' %s://%s:*; base-uri 'none'; form-action 'none'; frame-ancestors 'none'",
		h.scheme(), host, socket, host))
	w.Header().Set("X-Content-Type-Options", "nosniff")
	w.Header().Set("Referrer-Policy", "no-referrer")
	w.Header().Set("Cache-Control", "no-store")
}

func (h *hub) file(w http.ResponseWriter, r *http.Request, name string) {
	files, err := fs.Sub(static, "static")
	if err != nil {
		http.NotFound(w, r)
		return
	}
	http.ServeFileFS(w, r, files, name)
}

// offer makes a film available under a name until withdraw.
func (h *hub) offer(name string, f *films.Film) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.films[name] = f
}

// withdraw makes what a page was told to play unavailable.
func (h *hub) withdraw(list []orderedFilm) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, f := range list {
		delete(h.films, f.Name)
		for _, q := range f.Levels {
			delete(h.films, q.Name)
		}
	}
}

// film delivers a film that is being played, whole or in ranges.
func (h *hub) film(w http.ResponseWriter, r *http.Request, name string) {
	h.mu.Lock()
	f := h.films[name]
	h.mu.Unlock()
	if f == nil {
		http.NotFound(w, r)
		return
	}
	if origin := r.Header.Get("Origin"); origin != "" {
		w.Header().Set("Access-Control-Allow-Origin", origin) // another port of this server; the code is the key
	}
	w.Header().Set("Content-Type", f.ContentType())
	http.ServeFile(measured{w, h.delivery}, r, f.Path)
}

// conn is the connection of a page.
type conn struct {
	socket *websocket.Conn
	remote string
	port   int // at the other end
	agent  string
	hello  *message
	heard  func(m *message)
	closed chan struct{}
	once   sync.Once
}

// Rates of the messages of a page: four ticks a second for each video, and events.
const (
	messagesHz    = 200
	messagesBurst = 1000
)

// connect begins a connection: the page says hello, and is heard until it leaves.
func (h *hub) connect(w http.ResponseWriter, r *http.Request) {
	socket, err := websocket.Accept(w, r, nil)
	if err != nil {
		return // it was answered
	}
	defer socket.CloseNow()
	socket.SetReadLimit(maxMessage)
	host, port, _ := net.SplitHostPort(r.RemoteAddr)
	number, _ := strconv.Atoi(port)
	c := &conn{socket: socket, remote: host, port: number, agent: plain(r.UserAgent()), closed: make(chan struct{})}
	defer c.once.Do(func() { close(c.closed) })
	ctx, cancel := context.WithTimeout(r.Context(), 20*time.Second)
	c.hello, err = c.read(ctx)
	cancel()
	if err != nil || c.hello.Say != "hello" {
		socket.Close(websocket.StatusPolicyViolation, "hello was expected")
		return
	}
	h.joined(c)
	pace := rate.NewLimiter(messagesHz, messagesBurst)
	for {
		m, err := c.read(r.Context())
		var wrong *MessageError
		if errors.As(err, &wrong) {
			socket.Close(websocket.StatusPolicyViolation, "that is no message of this page")
			return
		}
		if err != nil {
			return
		}
		if !pace.Allow() {
			socket.Close(websocket.StatusPolicyViolation, "too many messages")
			return
		}
		if c.heard != nil {
			c.heard(m)
		}
	}
}

func (c *conn) read(ctx context.Context) (*message, error) {
	_, data, err := c.socket.Read(ctx)
	if err != nil {
		return nil, err
	}
	return parseMessage(data)
}

// send sends an order to the page.
func (c *conn) send(v any) error {
	data, err := json.Marshal(v)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	return c.socket.Write(ctx, websocket.MessageText, data)
}

// alive reports whether the connection is open.
func (c *conn) alive() bool {
	select {
	case <-c.closed:
		return false
	default:
		return true
	}
}
