package meter

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"time"

	"github.com/tidwall/gjson"

	"vividstrain/core/sense"
)

// newClient returns a client with limits on everything except the body.
func newClient() *http.Client {
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.ResponseHeaderTimeout = 5 * time.Second
	transport.MaxResponseHeaderBytes = 64 << 10
	transport.MaxConnsPerHost = 2
	return &http.Client{Transport: transport, CheckRedirect: func(next *http.Request, via []*http.Request) error {
		if len(via) >= 5 {
			return errors.New("it redirects too often")
		}
		if from, to := via[0].URL, next.URL; from.Scheme != to.Scheme || from.Host != to.Host { // the token belongs to the original origin
			next.Header.Del("Authorization")
		}
		return nil
	}}
}

// headerFor checks an address and returns the headers for its requests.
func headerFor(address, token string) (http.Header, error) {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return nil, fmt.Errorf("%q is not an address like http://box:9600/", Plain(address))
	}
	header := http.Header{"User-Agent": {"vividstrain"}}
	if token != "" {
		header.Set("Authorization", "Bearer "+token)
	}
	return header, nil
}

// get fetches a page. Its callers limit how much of the body they read.
func get(ctx context.Context, client *http.Client, address string, header http.Header) (io.ReadCloser, http.Header, error) {
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return nil, nil, err
	}
	request.Header = header
	response, err := client.Do(request)
	if err != nil {
		var wrapped *url.Error
		if errors.As(err, &wrapped) { // it would repeat the address with its secrets
			err = wrapped.Err
		}
		return nil, nil, fmt.Errorf("%s: %w", Plain(address), err)
	}
	if response.StatusCode != http.StatusOK {
		response.Body.Close()
		hint := ""
		if response.StatusCode == http.StatusUnauthorized {
			hint = "; give its token"
		}
		return nil, nil, fmt.Errorf("%s: it answers %s%s", Plain(address), response.Status, hint)
	}
	return response.Body, response.Header, nil
}

// Plain returns an address without user, password and query, for messages and the record.
func Plain(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return "the address"
	}
	return (&url.URL{Scheme: u.Scheme, Host: u.Host, Path: u.Path}).String()
}

// JSON is a meter that reads numbers from a JSON document over HTTP.
type JSON struct {
	pace
	patience
	lacks
	last   error
	client *http.Client
	url    string
	header http.Header
	picks  []Pick
}

// NewJSON returns a meter for a document.
func NewJSON(name, url, token string, every time.Duration, picks []Pick) (*JSON, error) {
	header, err := headerFor(url, token)
	return &JSON{pace: pace{"json", name, every}, client: newClient(), url: url, header: header, picks: picks}, err
}

// Close closes idle connections.
func (j *JSON) Close() error { j.client.CloseIdleConnections(); return nil }

// maxJSON is the largest size of a document or message.
const maxJSON = 1 << 20

// Sample fetches the document.
func (j *JSON) Sample(ctx context.Context, now time.Time, list []sense.Reading) ([]sense.Reading, error) {
	err := j.do(ctx, now, &j.last, func() error {
		body, _, err := get(ctx, j.client, j.url, j.header)
		if err != nil {
			return err
		}
		defer body.Close()
		data, err := io.ReadAll(io.LimitReader(body, maxJSON+1))
		if err != nil {
			return fmt.Errorf("%s: %w", Plain(j.url), err)
		}
		j.begin()
		if list, err = pickJSON(data, j.picks, list, &j.lacks); err != nil {
			return fmt.Errorf("%s: %w", Plain(j.url), err)
		}
		return nil
	})
	return list, err
}

// pickJSON reads the picks from a document by their paths; an empty path means that the document
// is the number. A string that contains a number counts. It is an error if no pick can be read.
func pickJSON(data []byte, picks []Pick, list []sense.Reading, lacking *lacks) ([]sense.Reading, error) {
	if len(data) > maxJSON {
		return list, fmt.Errorf("it is longer than %d kB", maxJSON>>10)
	}
	if !gjson.ValidBytes(data) {
		return list, errors.New("it is not JSON")
	}
	for i := range picks {
		p := &picks[i]
		result := gjson.ParseBytes(data)
		if p.At != "" {
			result = result.Get(p.At)
		}
		v, err := numberOf(result)
		if err == nil {
			var r sense.Reading
			if r, err = p.reading(v); err == nil {
				list = append(list, r)
				continue
			}
		}
		lacking.add(p, err)
	}
	return list, lacking.all(len(picks))
}

func numberOf(r gjson.Result) (float64, error) {
	switch r.Type {
	case gjson.Number:
		return r.Num, nil
	case gjson.String:
		return ParseNumber(r.Str)
	case gjson.True:
		return 1, nil
	case gjson.False:
		return 0, nil
	}
	if !r.Exists() {
		return 0, errors.New("there is none")
	}
	return 0, errors.New("it is not a number")
}
