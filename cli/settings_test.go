package cli_test

import (
	"encoding/pem"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestSettingsComeFromFlagsEnvironmentAndFile(t *testing.T) {
	s := newSession(t)
	held := func(args ...string) float64 {
		out, _, status := s.run(append([]string{"climb", "--json", "--device", "skerry-s1"}, args...)...)
		require.Zero(t, status)
		return document(t, out).Plan.HoldS
	}
	one := "h264 720p25 5M"
	require.InDelta(t, 10, held(one), 0)
	s.write("vividstrain.yaml", "# ours\nhold: 4s\n")
	require.InDelta(t, 4, held(one), 0)
	s.env = append(s.env, "VIVIDSTRAIN_HOLD=5s")
	require.InDelta(t, 5, held(one), 0)
	require.InDelta(t, 6, held("--hold", "6s", one), 0)
	s.write("vividstrain.yaml", "hold: 4s\nholds: 4s\n")
	_, errOut, status := s.run("runs")
	require.Equal(t, 2, status)
	require.Contains(t, errOut, "line 2: unknown setting \"holds\"")
	for _, text := range []string{"hold: never\n", "hold: [\n", "hold: [1s]\n"} {
		s.write("vividstrain.yaml", text)
		s.env = s.env[:len(s.env)-1]
		_, errOut, status = s.run("climb", one)
		require.Equal(t, 2, status, errOut)
		require.Contains(t, errOut, "vividstrain.yaml")
		s.env = append(s.env, "VIVIDSTRAIN_HOLD=soon")
		_, errOut, status = s.run("climb", one)
		require.Equal(t, 2, status, errOut)
	}
}

// Settings that came with a folder may neither start commands nor be sent
// credentials, until the user has trusted them as they are.
func TestSettingsOfTheFolderAreTrustedFirst(t *testing.T) {
	s := newSession(t)
	s.write("vividstrain.yaml", "sensors:\n  - name: plug\n    command: [touch, ran]\n    read: {noise_db: ''}\n")
	climb := []string{"climb", "--once", "--baseline", "0s", "--hold", "1s", "--settle", "0s", "mjpeg 240p25 4M"}
	_, errOut, status := s.run(climb...)
	require.Equal(t, 2, status, errOut)
	require.Contains(t, errOut, "settings from vividstrain.yaml in this folder")
	require.Contains(t, errOut, "vividstrain.yaml in this folder starts a command (line 3); if it is yours, read it, and then: vividstrain trust")
	require.NoFileExists(t, filepath.Join(s.dir, "ran"))
	require.Contains(t, s.ok("trust"), "is trusted as it is now")
	s.run(climb...)
	require.FileExists(t, filepath.Join(s.dir, "ran"))
	s.write("vividstrain.yaml", "sensors:\n  - name: plug\n    command: [touch, again]\n    read: {noise_db: ''}\n")
	_, _, status = s.run(climb...)
	require.Equal(t, 2, status, "it was changed since")
	require.NoFileExists(t, filepath.Join(s.dir, "again"))

	asked := 0
	server := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		asked++
		require.Equal(t, "Bearer hunter3", r.Header.Get("Authorization"))
	}))
	defer server.Close()
	s.write("vividstrain.yaml", "url: "+server.URL+"/film\n")
	s.env = append(s.env, "VIVIDSTRAIN_BEARER=hunter3")
	_, errOut, status = s.run(climb...)
	require.Equal(t, 2, status)
	require.Contains(t, errOut, "says where to send your credentials (line 1)")
	require.Zero(t, asked)
	s.ok("trust", "vividstrain.yaml")
	s.run(climb...)
	require.NotZero(t, asked)
}

// The settings of the user's own folder need no trust, and are not mentioned.
func TestSettingsOfTheUser(t *testing.T) {
	s := newSession(t)
	s.write(".config/vividstrain/vividstrain.yaml", "hold: 1s\nsettle: 0s\nbaseline: 0s\nsensors:\n  - name: plug\n    command: [touch, ran]\n    read: {noise_db: ''}\n")
	_, errOut, _ := s.run("climb", "mjpeg 240p25 4M")
	require.NotContains(t, errOut, "vividstrain.yaml")
	require.FileExists(t, filepath.Join(s.dir, "ran"))
}

// A folder that is not there is not made by a command that only reads.
func TestReadingMakesNoLogbook(t *testing.T) {
	s := newSession(t)
	for _, args := range [][]string{{"runs"}, {"show"}, {"climb", "--resume"}} {
		_, errOut, status := s.run(append([]string{"--logbook", "nope/x.db"}, args...)...)
		require.Equal(t, 2, status)
		require.Contains(t, errOut, "there is no such logbook yet")
	}
	require.NoDirExists(t, filepath.Join(s.dir, "nope"))
	s.run("--logbook", "half.db", "climb", "--device", "skerry-s1", "h264 720p25 5M")
	s.write("half.db", s.read("half.db")[:5000]+strings.Repeat("\xff", 60000))
	_, errOut, status := s.run("--logbook", "half.db", "runs")
	require.Equal(t, 2, status)
	require.Contains(t, errOut, "half.db: it is damaged")
}

// A certificate of one's own is taken with --ca, and a server without it refused.
func TestOwnCertificate(t *testing.T) {
	s := newSession(t)
	server := httptest.NewTLSServer(http.NotFoundHandler())
	defer server.Close()
	climb := []string{"climb", "--once", "--url", server.URL + "/film", "--baseline", "0s", "--hold", "1s", "--settle", "0s", "h264 240p25 0.5M"}
	_, errOut, status := s.run(climb...)
	require.Equal(t, 1, status)
	require.Contains(t, errOut, "--ca FILE")
	s.write("ca.pem", string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: server.Certificate().Raw})))
	_, errOut, status = s.run(append(climb, "--ca", "ca.pem")...)
	require.Equal(t, 1, status)
	require.Contains(t, errOut, "404")
	s.write("empty.pem", "no certificate")
	_, errOut, status = s.run(append(climb, "--ca", "empty.pem")...)
	require.Equal(t, 2, status)
	require.Contains(t, errOut, "empty.pem")
}
