package server

import (
	"bytes"
	"context"
	"crypto/aes"
	"crypto/cipher"
	"crypto/tls"
	"encoding/binary"
	"encoding/pem"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"vividstrain/core/load"
	"vividstrain/core/media"
	"vividstrain/core/media/registry"
	"vividstrain/core/media/stream"
	"vividstrain/core/media/stream/dash"
	"vividstrain/core/media/stream/hls"
	"vividstrain/core/route"
)

// files serves files by their names, and parts of them.
type files map[string][]byte

func (f files) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	data, there := f[strings.TrimPrefix(r.URL.Path, "/")]
	if !there {
		http.NotFound(w, r)
		return
	}
	time.Sleep(50 * time.Millisecond)
	http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(data))
}

// encrypted is data in AES-128-CBC with padding.
func encrypted(data, secret, iv []byte) []byte {
	pad := 16 - len(data)%16
	data = append(bytes.Clone(data), bytes.Repeat([]byte{byte(pad)}, pad)...)
	block, _ := aes.NewCipher(secret)
	cipher.NewCBCEncrypter(block, iv).CryptBlocks(data, data)
	return data
}

// index is a segment index box of version 0 or 1.
func index(version byte, sizes []int) []byte {
	b := []byte{0, 0, 0, 0, 's', 'i', 'd', 'x', version, 0, 0, 0, 0, 0, 0, 1, 0, 0, 0, 50}
	b = append(b, make([]byte, map[byte]int{0: 8, 1: 16}[version])...)
	b = append(b, 0, 0, byte(len(sizes)>>8), byte(len(sizes)))
	for _, n := range sizes {
		b = binary.BigEndian.AppendUint32(b, uint32(n))
		b = binary.BigEndian.AppendUint32(b, 100) // two seconds
		b = append(b, 0x90, 0, 0, 0)
	}
	binary.BigEndian.PutUint32(b, uint32(len(b)))
	return b
}

// mpdOf is a manifest around what a representation says.
func mpdOf(attributes, inside string) []byte {
	return []byte(`<?xml version="1.0"?><MPD xmlns="urn:mpeg:dash:schema:mpd:2011" ` + attributes + `><Period>
<AdaptationSet contentType="audio"><Representation id="a" bandwidth="64000"/></AdaptationSet>
<AdaptationSet mimeType="video/mp4"><Representation id="v1" bandwidth="400000" width="426" height="240" frameRate="25" codecs="avc1.64001e">` + inside + `</Representation></AdaptationSet></Period></MPD>`)
}

// forms are all the ways in which the film can be offered.
func forms(f *film) map[string]files {
	list := map[string]files{}
	base := func() files {
		m := files{"head.mp4": f.head}
		for i, s := range f.segments {
			m[fmt.Sprintf("%d.m4s", i)] = s
			m[fmt.Sprintf("v1-%03d.m4s", i+5)] = s
			m[fmt.Sprintf("t%d.m4s", i*2000)] = s
		}
		return m
	}
	static := `type="static" mediaPresentationDuration="PT24S"`
	add := func(name, entry, text string, more files) {
		m := base()
		m[entry] = []byte(text)
		for k, v := range more {
			m[k] = v
		}
		list[name] = m
	}
	add("hls", "main", f.hls(), nil)
	add("hls, variants", "main", "#EXTM3U\n#EXT-X-STREAM-INF:BANDWIDTH=9000000,RESOLUTION=1920x1080\nno.m3u8\n#EXT-X-STREAM-INF:BANDWIDTH=450000,RESOLUTION=426x240,FRAME-RATE=25.000\nlist.m3u8\n",
		files{"list.m3u8": []byte(f.hls())})
	var ranges strings.Builder
	ranges.WriteString("#EXTM3U\n#EXT-X-TARGETDURATION:2\n" + fmt.Sprintf("#EXT-X-MAP:URI=\"all.mp4\",BYTERANGE=\"%d@0\"\n", len(f.head)))
	for i, s := range f.segments {
		at := ""
		if i == 0 {
			at = "@" + strconv.Itoa(len(f.head))
		}
		fmt.Fprintf(&ranges, "#EXTINF:2,\n#EXT-X-BYTERANGE:%d%s\nall.mp4\n", len(s), at)
	}
	all := append(bytes.Clone(f.head), bytes.Join(f.segments, nil)...)
	add("hls, byte ranges", "main", ranges.String()+"#EXT-X-ENDLIST\n", files{"all.mp4": all})
	ts := "#EXTM3U\n#EXT-X-TARGETDURATION:2\n"
	for range 6 {
		ts += "#EXTINF:2,\na.ts\n#EXT-X-DISCONTINUITY\n"
	}
	add("hls, transport streams", "main", ts+"#EXTINF:2,\na.ts\n#EXT-X-ENDLIST\n", files{"a.ts": f.ts})
	secret, iv := []byte("0123456789abcdef"), []byte("fedcba9876543210")
	second := make([]byte, 16)
	second[15] = 8 // the number of the second segment
	add("hls, encrypted", "main", fmt.Sprintf("#EXTM3U\n#EXT-X-TARGETDURATION:2\n#EXT-X-MEDIA-SEQUENCE:7\n#EXT-X-KEY:METHOD=AES-128,URI=\"key\",IV=0x%x\n#EXTINF:2,\na.ts\n#EXT-X-DISCONTINUITY\n#EXT-X-KEY:METHOD=AES-128,URI=\"key\"\n#EXTINF:2,\nb.ts\n#EXT-X-DISCONTINUITY\n#EXT-X-KEY:METHOD=NONE\n#EXTINF:2,\nc.ts\n#EXT-X-ENDLIST\n", iv),
		files{"key": secret, "a.ts": encrypted(f.ts, secret, iv), "b.ts": encrypted(f.ts, secret, second), "c.ts": f.ts})
	add("dash, numbers", "main", string(mpdOf(static, `<SegmentTemplate timescale="1000" duration="2000" startNumber="5" initialization="head.mp4" media="$RepresentationID$-$Number%03d$.m4s"/>`)), nil)
	add("dash, timeline", "main", string(mpdOf(static, `<SegmentTemplate timescale="1000" initialization="head.mp4" media="t$Time$.m4s"><SegmentTimeline><S t="0" d="2000" r="3"/><S d="2000" r="-1"/></SegmentTimeline></SegmentTemplate>`)), nil)
	var urls strings.Builder
	for i := range f.segments {
		fmt.Fprintf(&urls, `<SegmentURL media="%d.m4s"/>`, i)
	}
	add("dash, list", "main", string(mpdOf(static, `<SegmentList duration="2"><Initialization sourceURL="head.mp4"/>`+urls.String()+`</SegmentList>`)), nil)
	var sizes []int
	for _, s := range f.segments {
		sizes = append(sizes, len(s))
	}
	for version := range byte(2) {
		sidx := index(version, sizes)
		add(fmt.Sprintf("dash, index %d", version), "main", string(mpdOf(static, fmt.Sprintf(`<BaseURL>one.mp4</BaseURL><SegmentBase indexRange="%d-%d"><Initialization range="0-%d"/></SegmentBase>`,
			len(f.head), len(f.head)+len(sidx)-1, len(f.head)-1))), files{"one.mp4": append(append(bytes.Clone(f.head), sidx...), bytes.Join(f.segments, nil)...)})
	}
	return list
}

// However a server offers a film, the same comes of it.
func TestAllForms(t *testing.T) {
	f := filmOf(t)
	for name, served := range forms(f) {
		t.Run(name, func(t *testing.T) {
			result, err := watched(t, one(t, 10*time.Second), Options{URL: "http://box.test/main", Verify: 1}, served.ServeHTTP)
			require.NoError(t, err)
			require.Empty(t, result.Failure)
			s := result.Streams[0]
			require.Equal(t, "as-is", s.Delivered.Treatment)
			require.Equal(t, "h264 240p25", s.Delivered.Format)
			require.Zero(t, s.Buffer.Stalls)
			require.Zero(t, s.Steady().Dropped+s.Steady().Damaged)
			require.InDelta(t, 200, s.Steady().Shown, 1)
			require.Equal(t, s.Delivered.Pieces, s.Delivered.Checked)
			require.Positive(t, s.Delivered.Decoded)
			require.Empty(t, s.Delivered.Notes)
		})
	}
}

// What goes on now is played from three segments before its end, and grows.
func TestFilmsThatGoOnNow(t *testing.T) {
	f := filmOf(t)
	for _, form := range []string{"hls", "dash"} {
		t.Run(form, func(t *testing.T) {
			var began time.Time
			first := -1
			result, err := watched(t, one(t, 20*time.Second), Options{URL: "http://box.test/main"}, func(w http.ResponseWriter, r *http.Request) {
				if began.IsZero() {
					began = time.Now().Add(-12 * time.Second) // it has gone on for a while
				}
				there := int(time.Since(began) / (2 * time.Second))
				name := strings.TrimPrefix(r.URL.Path, "/")
				switch {
				case name == "main" && form == "hls":
					fmt.Fprintf(w, "#EXTM3U\n#EXT-X-TARGETDURATION:2\n#EXT-X-MEDIA-SEQUENCE:%d\n#EXT-X-MAP:URI=\"head.mp4\"\n", there-4)
					for i := there - 4; i < there; i++ {
						fmt.Fprintf(w, "#EXTINF:2,\n%d.m4s\n", i)
					}
				case name == "main":
					w.Write(mpdOf(fmt.Sprintf(`type="dynamic" availabilityStartTime="%s" minimumUpdatePeriod="PT2S" timeShiftBufferDepth="PT8S"`, began.UTC().Format(time.RFC3339Nano)),
						`<SegmentTemplate duration="2" startNumber="0" initialization="head.mp4" media="$Number$.m4s"/>`))
				case name == "head.mp4":
					w.Write(f.head)
				default:
					i, _ := strconv.Atoi(strings.TrimSuffix(name, ".m4s"))
					if i >= there || i < there-5 {
						http.NotFound(w, r)
						return
					}
					if first < 0 {
						first = i
					}
					w.Write(f.segments[i%filmCount])
				}
			})
			require.NoError(t, err)
			require.Empty(t, result.Failure)
			require.Equal(t, 3, first)
			b := result.Streams[0].Buffer
			require.Zero(t, b.Stalls)
			require.Less(t, b.MinLeadS, 7.0)
			require.InDelta(t, 400, result.Streams[0].Steady().Shown, 2)
		})
	}
}

// Certificates are verified; one that is trusted is taken, and HTTP/2 with it.
func TestCertificates(t *testing.T) {
	f := filmOf(t)
	protocols := map[string]bool{}
	server := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		protocols[r.Proto] = true
		f.serve(w, r, func(int) time.Duration { return 0 })
	}))
	server.EnableHTTP2 = true
	server.Config.ErrorLog = nil
	server.StartTLS()
	defer server.Close()
	play := func(trust string) (route.Result, error) {
		s, err := New(Options{URL: server.URL + "/list.m3u8", CA: trust})
		require.NoError(t, err)
		return s.Play(t.Context(), one(t, time.Second), func(route.Live) {})
	}
	_, err := play("")
	var certificate *tls.CertificateVerificationError
	require.ErrorAs(t, err, &certificate)
	require.Contains(t, err.Error(), server.URL)
	require.NotContains(t, err.Error(), "\n")
	file := filepath.Join(t.TempDir(), "box.pem")
	require.NoError(t, os.WriteFile(file, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: server.Certificate().Raw}), 0o600))
	_, err = play(file)
	var short *route.ShortHoldError
	require.ErrorAs(t, err, &short, "the playlist came")
	require.True(t, protocols["HTTP/2.0"])
	_, err = New(Options{URL: "https://x.test", CA: os.DevNull})
	require.ErrorContains(t, err, "no certificates")
}

// The variants of a playlist or manifest become loads that are then found there.
func TestOffers(t *testing.T) {
	f := filmOf(t)
	for name, text := range map[string]string{
		"hls":  "#EXTM3U\n#EXT-X-STREAM-INF:BANDWIDTH=1234567,RESOLUTION=854x480,FRAME-RATE=50\nhigh.m3u8\n#EXT-X-STREAM-INF:BANDWIDTH=400000,RESOLUTION=426x240,FRAME-RATE=25\nlist.m3u8\n#EXT-X-STREAM-INF:BANDWIDTH=9\nx.m3u8\n",
		"dash": `<MPD type="static" mediaPresentationDuration="PT24S"><Period><AdaptationSet contentType="video"><SegmentTemplate duration="2" startNumber="0" initialization="head.mp4" media="$Number$.m4s"/><Representation id="a" bandwidth="1234567" width="854" height="480" frameRate="50"/><Representation id="b" bandwidth="400000" width="426" height="240" frameRate="25"/></AdaptationSet></Period></MPD>`,
	} {
		m := files{"main": []byte(text), "head.mp4": f.head, "list.m3u8": []byte(f.hls())}
		for i, s := range f.segments {
			m[fmt.Sprintf("%d.m4s", i)] = s
		}
		served(t, m, func(t *testing.T, dial func(ctx context.Context, network, address string) (net.Conn, error)) {
			s, err := New(Options{URL: "http://box.test/main", Dial: dial})
			require.NoError(t, err)
			loads, err := s.Offers(t.Context())
			require.NoError(t, err, name)
			require.Equal(t, []string{"h264 240p25 400k", "h264 480p50 1.23M"}, []string{loads[0].String(), loads[1].String()})
			result, err := s.Play(t.Context(), route.Plan{Loads: loads[:1], Hold: 6 * time.Second}, func(route.Live) {})
			require.NoError(t, err)
			require.Empty(t, result.Failure)
			require.Equal(t, "as-is", result.Streams[0].Delivered.Treatment)
		})
	}
	server := httptest.NewServer(files{"main": []byte(f.hls())})
	defer server.Close()
	s, err := New(Options{URL: server.URL + "/main"})
	require.NoError(t, err)
	_, err = s.Offers(t.Context())
	require.ErrorContains(t, err, "describe it with a load line")
}

func TestFill(t *testing.T) {
	l, err := load.Parse("h264 1080p30 10bit hdr 12M -> 720p25 4M")
	require.NoError(t, err)
	require.Equal(t, "http://b/h264-1080p30-10bit-hdr-12M/720p25-4M/720/1280/4000/25", Fill("http://b/{clip}/{goal}/{height}/{width}/{kbps}/{rate}", l))
	l.Goal = nil
	require.Equal(t, "as-is/1080/12000/h264/10", Fill("{goal}/{height}/{kbps}/{codec}/{depth}", l))
}

func TestReadList(t *testing.T) {
	path := filepath.Join(t.TempDir(), "list.yaml")
	require.NoError(t, os.WriteFile(path, []byte("- load: h264 720p25 4M\n  url: http://b/a.mp4\n- load: h264 1080p25 8M -> 480p 1M\n  url: http://b/b.m3u8\n"), 0o600))
	list, err := ReadList(path)
	require.NoError(t, err)
	require.Len(t, list, 2)
	s, err := New(Options{List: list})
	require.NoError(t, err)
	require.NoError(t, s.Check(list[1].Load))
	l := list[0].Load
	l.Streams = 4
	require.Equal(t, "http://b/a.mp4", s.address(l))
	l.Bitrate++
	require.Error(t, s.Check(l))
	for text, says := range map[string]string{"hello": "not a list", "- load: h264 720p25 4M\n": "entry 1 lacks", "[]": "empty"} {
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		_, err := ReadList(path)
		require.ErrorContains(t, err, says)
	}
}

func TestJudgeFormat(t *testing.T) {
	asked := func(line string) load.Load {
		l, err := load.Parse(line)
		require.NoError(t, err)
		return l
	}
	got := func(line string) load.Load { return asked(line + " 1M") }
	for _, c := range [][3]string{
		{"h264 1080p30 12M", "h264 1080p30", asIs}, {"h264 1080p30 12M", "h264 720p30", notAsked}, {"h264 1080p30 12M", "hevc 1080p30", notAsked},
		{"h264 1080p30 12M", "h264 1080p60", notAsked}, {"h264 1080p30 12M -> 720p 4M", "h264 720p30", converted},
		{"h264 1080p30 12M -> 720p 4M", "h264 1080p30", notAsked}, {"h264 1920x800p24 12M -> 720p 4M", "h264 1280x534p24", converted},
		{"h264 1080p30 12M -> 720p25 4M hevc", "h264 720p25", notAsked}, {"h264 1080p30 10bit 12M", "h264 1080p30", notAsked},
	} {
		require.Equal(t, c[2], judgeFormat(got(c[1]).Format, asked(c[0])), "%v", c)
	}
}

// FuzzPlaylists feeds the readers of playlists, manifests and indexes.
func FuzzPlaylists(f *testing.F) {
	film, err := theFilm()
	if err != nil {
		f.Fatal(err)
	}
	for _, served := range forms(film) {
		f.Add(served["main"])
	}
	f.Add(index(0, []int{5, 6}))
	f.Add(index(1, []int{5, 6}))
	f.Add([]byte("#EXTM3U\n#EXT-X-KEY:METHOD=SAMPLE-AES\n"))
	f.Add(mpdOf(`type="dynamic" availabilityStartTime="2026-01-01T00:00:00Z"`, `<SegmentTemplate duration="1" media="$Number%099d$"/>`))
	base, _ := url.Parse("http://box.test/a/b.m3u8")
	f.Fuzz(func(t *testing.T, data []byte) {
		if list, variants, err := hls.Parse(data, base); err == nil && list != nil {
			require.LessOrEqual(t, len(list.Segments), stream.MaxSegments)
			require.Empty(t, variants)
		}
		if variants, err := dash.Parse(data, base, time.Unix(1.8e9, 0)); err == nil {
			require.NotEmpty(t, variants)
			for _, v := range variants {
				require.LessOrEqual(t, len(v.List.Segments), stream.MaxSegments)
				for _, p := range v.List.Segments {
					require.Positive(t, p.Duration+1)
				}
			}
		}
		if list, err := dash.ParseIndex(data, &stream.Index{URL: "http://box.test/a", Init: &stream.Reference{}}); err == nil {
			require.NotEmpty(t, list.Segments)
		}
		_ = kindOf(data)
	})
}

// A film of a codec that is not decoded here is fetched and played all the same:
// what its container says is compared with what was asked for.
func TestCodecsThatAreNotDecodedHere(t *testing.T) {
	list := &pieces{}
	track := media.Track{Kind: media.Video, Codec: "mpeg2", Timescale: 25, Format: media.Format{Codec: "mpeg2", Width: 3840, Height: 2160}}
	m, err := registry.MP4.CreateFragmented(list, []media.Track{track})
	require.NoError(t, err)
	for i := range int64(500) {
		require.NoError(t, m.WritePacket(&media.Packet{Data: make([]byte, 500), PTS: i, DTS: i, Duration: 1, Key: i%50 == 0}))
	}
	require.NoError(t, m.Close())
	f := &film{head: list.list[0], segments: list.list[1:]}
	require.Len(t, f.segments, 10)
	for path, handler := range map[string]http.HandlerFunc{
		"list.m3u8": f.evenly(500 * time.Millisecond),
		"film.mp4": func(w http.ResponseWriter, r *http.Request) {
			http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(bytes.Join(list.list, nil)))
		},
	} {
		result, err := watched(t, one(t, 10*time.Second, "mpeg2 2160p25 10bit 20M"), Options{URL: "http://box.test/" + path, Verify: 1}, handler)
		require.NoError(t, err)
		require.Empty(t, result.Failure, path)
		s := result.Streams[0]
		require.Equal(t, "as-is", s.Delivered.Treatment)
		require.Zero(t, s.Delivered.Decoded)
		require.InDelta(t, 200, s.Steady().Shown, 1)
		require.Zero(t, s.Steady().Dropped)
		result, err = watched(t, one(t, 10*time.Second, "mpeg2 1080p25 10bit 20M"), Options{URL: "http://box.test/" + path}, handler)
		require.NoError(t, err)
		require.Contains(t, result.Failure, "what arrives is not what was asked")
	}
}
