package meter

import (
	"bytes"
	"crypto/sha256"
	"crypto/subtle"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"
	"time"

	"vividstrain/core/sense"
)

// Page serves readings as a page in the OpenMetrics text format, for Metrics on another
// computer.
func Page(latest func() map[sense.Identity]sense.Sample) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		page := format(latest())
		w.Header().Set("Content-Type", "application/openmetrics-text; version=1.0.0; charset=utf-8")
		w.Header().Set(TimeHeader, time.Now().UTC().Format(time.RFC3339Nano))
		w.Write(page)
	})
}

// Serve serves the page to clients that send the bearer token.
func Serve(token string, latest func() map[sense.Identity]sense.Sample) http.Handler {
	page := Page(latest)
	want := sha256.Sum256([]byte(token))
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		scheme, given, _ := strings.Cut(r.Header.Get("Authorization"), " ")
		got := sha256.Sum256([]byte(strings.TrimSpace(given)))
		if !strings.EqualFold(scheme, "bearer") || subtle.ConstantTimeCompare(want[:], got[:]) != 1 {
			w.Header().Set("WWW-Authenticate", "Bearer")
			http.Error(w, "the token is missing or wrong", http.StatusUnauthorized)
			return
		}
		if r.URL.Path != "/" && r.URL.Path != "/metrics" {
			http.NotFound(w, r)
			return
		}
		page.ServeHTTP(w, r)
	})
}

// format formats readings with the times at which they were taken. Metrics with one name are
// kept together, as the format requires. Of two sources for one reading, the first is used.
func format(latest map[sense.Identity]sense.Sample) []byte {
	type line struct {
		rank int
		text string
	}
	families := map[string]map[string]line{}
	for _, s := range latest {
		for _, r := range s.Readings {
			if CheckQuantity(r.Quantity) != nil {
				continue
			}
			labels := ""
			if r.Label != "" {
				labels = `{of="` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`).Replace(r.Label) + `"}`
			}
			if families[r.Quantity] == nil {
				families[r.Quantity] = map[string]line{}
			}
			if known, there := families[r.Quantity][labels]; !there || s.Rank < known.rank {
				families[r.Quantity][labels] = line{s.Rank, fmt.Sprintf("vividstrain_%s%s %v %.3f\n", r.Quantity, labels, r.Value, float64(s.At.UnixMilli())/1000)}
			}
		}
	}
	var page bytes.Buffer
	for _, quantity := range slices.Sorted(maps.Keys(families)) {
		fmt.Fprintf(&page, "# TYPE vividstrain_%s gauge\n", quantity)
		for _, labels := range slices.Sorted(maps.Keys(families[quantity])) {
			page.WriteString(families[quantity][labels].text)
		}
	}
	page.WriteString("# EOF\n")
	return page.Bytes()
}
