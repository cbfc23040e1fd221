// Package dash reads and writes manifests of Dynamic Adaptive Streaming over HTTP (ISO/IEC 23009-1).
package dash

import (
	"cmp"
	"encoding/xml"
	"fmt"
	"math"
	"net/url"
	"regexp"
	"strconv"
	"strings"
	"time"

	"vividstrain/core/media"
	"vividstrain/core/media/stream"
)

// The elements of a manifest that are read (ISO/IEC 23009-1, 5).
type (
	mpd struct {
		XMLName  xml.Name `xml:"MPD"`
		Type     string   `xml:"type,attr"`
		Duration string   `xml:"mediaPresentationDuration,attr"`
		Start    string   `xml:"availabilityStartTime,attr"`
		Update   string   `xml:"minimumUpdatePeriod,attr"`
		Depth    string   `xml:"timeShiftBufferDepth,attr"`
		BaseURL  []string `xml:"BaseURL"`
		Periods  []period `xml:"Period"`
	}
	period struct {
		Start    string          `xml:"start,attr"`
		Duration string          `xml:"duration,attr"`
		BaseURL  []string        `xml:"BaseURL"`
		Sets     []adaptationSet `xml:"AdaptationSet"`
		segmentInfo
	}
	adaptationSet struct {
		ContentType     string           `xml:"contentType,attr"`
		Representations []representation `xml:"Representation"`
		common
	}
	representation struct {
		ID        string `xml:"id,attr"`
		Bandwidth int64  `xml:"bandwidth,attr"`
		common
	}
	// common are the elements of adaptation sets and representations (5.3.7).
	common struct {
		MimeType  string   `xml:"mimeType,attr"`
		Codecs    string   `xml:"codecs,attr"`
		Width     int      `xml:"width,attr"`
		Height    int      `xml:"height,attr"`
		FrameRate string   `xml:"frameRate,attr"`
		BaseURL   []string `xml:"BaseURL"`
		segmentInfo
	}
	// segmentInfo are the elements that each level may have (5.3.9).
	segmentInfo struct {
		Template *segmentTemplate `xml:"SegmentTemplate"`
		List     *segmentList     `xml:"SegmentList"`
		Base     *segmentBase     `xml:"SegmentBase"`
	}
	segmentTemplate struct {
		Timescale      int64     `xml:"timescale,attr"`
		Duration       int64     `xml:"duration,attr"`
		StartNumber    *int64    `xml:"startNumber,attr"`
		Initialization string    `xml:"initialization,attr"`
		Media          string    `xml:"media,attr"`
		Timeline       *timeline `xml:"SegmentTimeline"`
	}
	segmentList struct {
		Timescale      int64     `xml:"timescale,attr"`
		Duration       int64     `xml:"duration,attr"`
		Initialization *source   `xml:"Initialization"`
		URLs           []listed  `xml:"SegmentURL"`
		Timeline       *timeline `xml:"SegmentTimeline"`
	}
	segmentBase struct {
		IndexRange     string  `xml:"indexRange,attr"`
		Initialization *source `xml:"Initialization"`
	}
	source struct {
		URL   string `xml:"sourceURL,attr"`
		Range string `xml:"range,attr"`
	}
	listed struct {
		Media string `xml:"media,attr"`
		Range string `xml:"mediaRange,attr"`
	}
	timeline struct {
		S []struct {
			T *int64 `xml:"t,attr"`
			D int64  `xml:"d,attr"`
			R int64  `xml:"r,attr"`
		} `xml:"S"`
	}
)

// Parse parses a manifest that was fetched from base at a given time.
func Parse(data []byte, base *url.URL, now time.Time) ([]stream.Variant, error) {
	var m mpd
	if err := xml.Unmarshal(data, &m); err != nil {
		return nil, &stream.PlaylistError{What: "it is not a manifest: " + stream.Shorten(err.Error())}
	}
	r := &reader{mpd: &m, now: now, dynamic: m.Type == "dynamic"}
	if r.refresh = 2 * time.Second; m.Update != "" {
		d, err := isoDuration(m.Update)
		if err != nil {
			return nil, err
		}
		r.refresh = max(d, time.Second)
	}
	var err error
	if r.length, err = isoDuration(m.Duration); err != nil {
		return nil, err
	}
	if base, err = below(base, m.BaseURL); err != nil {
		return nil, err
	}
	for i := range m.Periods {
		if err := r.period(i, base); err != nil {
			return nil, err
		}
	}
	if len(r.variants) == 0 {
		return nil, &stream.PlaylistError{What: "it offers no video"}
	}
	return r.variants, nil
}

// reader collects the segments of each representation over the periods.
type reader struct {
	*mpd
	now      time.Time
	dynamic  bool
	refresh  time.Duration
	length   time.Duration
	variants []stream.Variant
	total    int
	letters  int // total length of all addresses
}

// below resolves a level's base address.
func below(base *url.URL, list []string) (*url.URL, error) {
	if len(list) == 0 {
		return base, nil
	}
	u, err := base.Parse(strings.TrimSpace(list[0]))
	if err != nil || u.Scheme != "http" && u.Scheme != "https" {
		return nil, &stream.PlaylistError{What: fmt.Sprintf("%q is not an address", stream.Shorten(list[0]))}
	}
	return u, nil
}

// period adds a period's segments.
func (r *reader) period(i int, base *url.URL) error {
	p := &r.Periods[i]
	start, err := isoDuration(p.Start)
	if err != nil {
		return err
	}
	length, err := isoDuration(p.Duration)
	if err != nil {
		return err
	}
	if length == 0 && i+1 < len(r.Periods) {
		next, err := isoDuration(r.Periods[i+1].Start)
		if err != nil {
			return err
		}
		length = max(0, next-start)
	}
	if length == 0 && !r.dynamic {
		length = max(0, r.length-start)
	}
	if base, err = below(base, p.BaseURL); err != nil {
		return err
	}
	for a := range p.Sets {
		set := &p.Sets[a]
		base, err := below(base, set.BaseURL)
		if err != nil {
			return err
		}
		for k := range set.Representations {
			rep := &set.Representations[k]
			if kind := cmp.Or(set.ContentType, rep.MimeType, set.MimeType, "video"); !strings.HasPrefix(kind, "video") {
				continue
			}
			if err := r.representation(i, p, set, rep, base, start, length); err != nil {
				return err
			}
		}
	}
	return nil
}

// representation adds a representation's segments of a period to those of earlier periods.
func (r *reader) representation(i int, p *period, set *adaptationSet, rep *representation, base *url.URL, start, length time.Duration) error {
	base, err := below(base, rep.BaseURL)
	if err != nil {
		return err
	}
	v := stream.Variant{}
	v.Format.Codec, v.Format.Depth = stream.Codec(cmp.Or(rep.Codecs, set.Codecs))
	v.Format.Width, v.Format.Height = cmp.Or(rep.Width, set.Width), cmp.Or(rep.Height, set.Height)
	v.Format.Rate = frameRate(cmp.Or(rep.FrameRate, set.FrameRate))
	v.Bitrate = max(rep.Bandwidth, 1000)
	v.Format.Bitrate = v.Bitrate
	v.List = &stream.Playlist{Ended: !r.dynamic, Refresh: r.refresh}
	switch {
	case cmp.Or(rep.Template, set.Template, p.Template) != nil:
		t := merged(rep.Template, set.Template, p.Template)
		err = r.template(v.List, &t, rep, base, start, length)
	case cmp.Or(rep.List, set.List, p.List) != nil:
		err = r.listed(v.List, cmp.Or(rep.List, set.List, p.List), base)
	default:
		b := cmp.Or(rep.Base, set.Base, p.Base, &segmentBase{})
		err = wholeFile(&v, b, base, length)
	}
	if err != nil {
		return err
	}
	if r.total += len(v.List.Segments); r.total > stream.MaxSegments {
		return &stream.PlaylistError{What: fmt.Sprintf("there are more than %d segments", stream.MaxSegments)}
	}
	for k := range r.variants {
		if known := &r.variants[k]; i > 0 && known.Bitrate == v.Bitrate && known.Format.Codec == v.Format.Codec && known.Format.Height == v.Format.Height && v.Index == nil && known.Index == nil {
			if len(v.List.Segments) > 0 {
				v.List.Segments[0].Discontinuity = true
			}
			known.List.Segments = append(known.List.Segments, v.List.Segments...)
			return nil
		}
	}
	if r.variants = append(r.variants, v); len(r.variants) > stream.MaxVariants {
		return &stream.PlaylistError{What: fmt.Sprintf("there are more than %d representations", stream.MaxVariants)}
	}
	return nil
}

// merged returns a template with the attributes that it inherits from the levels above.
func merged(levels ...*segmentTemplate) (t segmentTemplate) {
	for _, l := range levels {
		if l == nil {
			continue
		}
		t.Timescale, t.Duration = cmp.Or(t.Timescale, l.Timescale), cmp.Or(t.Duration, l.Duration)
		t.StartNumber, t.Timeline = cmp.Or(t.StartNumber, l.StartNumber), cmp.Or(t.Timeline, l.Timeline)
		t.Initialization, t.Media = cmp.Or(t.Initialization, l.Initialization), cmp.Or(t.Media, l.Media)
	}
	return t
}

// template makes the segments of a SegmentTemplate (5.3.9.4).
func (r *reader) template(list *stream.Playlist, t *segmentTemplate, rep *representation, base *url.URL, start, length time.Duration) error {
	if t.Media == "" {
		return &stream.PlaylistError{What: "a SegmentTemplate without media"}
	}
	scale := cmp.Or(t.Timescale, 1)
	number := int64(1)
	if t.StartNumber != nil {
		number = *t.StartNumber
	}
	if scale <= 0 || scale > 1e9 || number < 0 || number > 1<<40 {
		return &stream.PlaylistError{What: "a SegmentTemplate's numbers make no sense"}
	}
	var head *stream.Reference
	if t.Initialization != "" {
		u, err := below(base, []string{expand(t.Initialization, rep, 0, 0)})
		if err != nil {
			return err
		}
		head = &stream.Reference{URL: u.String()}
	}
	add := func(number, at, lasts int64) error {
		u, err := below(base, []string{expand(t.Media, rep, number, at)})
		if err != nil {
			return err
		}
		d := time.Duration(float64(lasts) / float64(scale) * float64(time.Second))
		if lasts <= 0 || d > stream.MaxDuration || len(list.Segments) >= stream.MaxSegments {
			return &stream.PlaylistError{What: "a segment's duration makes no sense, or there are too many"}
		}
		address := u.String()
		if r.letters += len(address); r.letters > stream.MaxURLBytes {
			return &stream.PlaylistError{What: fmt.Sprintf("its addresses are longer than %d MB together", stream.MaxURLBytes>>20)}
		}
		list.Segments = append(list.Segments, stream.Segment{URL: address, Duration: d, Init: head})
		return nil
	}
	if t.Timeline != nil {
		list.First, list.ByURL = int(number), r.dynamic && t.StartNumber == nil
		return eachOf(t.Timeline, int64(length.Seconds()*float64(scale)), func(at, lasts int64) error {
			defer func() { number++ }()
			return add(number, at, lasts)
		})
	}
	if t.Duration <= 0 {
		return &stream.PlaylistError{What: "a SegmentTemplate with neither a duration nor a timeline"}
	}
	return r.counted(list, t.Duration, scale, number, start, length, add)
}

// counted makes segments of equal duration: all of them for a film, those that exist already for
// a live stream.
func (r *reader) counted(list *stream.Playlist, lasts, scale, number int64, start, length time.Duration, add func(number, at, lasts int64) error) error {
	seconds := float64(lasts) / float64(scale)
	from, to := int64(0), int64(math.Ceil(length.Seconds()/seconds-1e-9))
	if r.dynamic {
		began, err := time.Parse(time.RFC3339, r.Start)
		if err != nil {
			return &stream.PlaylistError{What: fmt.Sprintf("%q is not an availabilityStartTime", stream.Shorten(r.Start))}
		}
		depth, err := isoDuration(r.Depth)
		if err != nil {
			return err
		}
		since := r.now.Sub(began.Add(start)).Seconds()
		to = int64(since / seconds)
		if from = 0; depth > 0 {
			from = max(0, to-int64(depth.Seconds()/seconds))
		}
		from = max(from, to-1000)
	}
	list.First = int(number + from)
	for k := from; k < to; k++ {
		d := lasts
		if !r.dynamic && k == to-1 {
			d = min(lasts, max(1, int64(length.Seconds()*float64(scale))-k*lasts))
		}
		if err := add(number+k, k*lasts, d); err != nil {
			return err
		}
	}
	return nil
}

// eachOf iterates over a timeline (5.3.9.6); a repetition of -1 goes on to the end.
func eachOf(t *timeline, end int64, take func(at, lasts int64) error) error {
	at := int64(0)
	n := 0
	for i, s := range t.S {
		if s.T != nil {
			at = *s.T
		}
		if s.D <= 0 || at < 0 || at > 1<<60 || s.D > 1<<50 {
			return &stream.PlaylistError{What: "a SegmentTimeline's times make no sense"}
		}
		until := end
		if i+1 < len(t.S) && t.S[i+1].T != nil {
			until = *t.S[i+1].T
		}
		for k := int64(0); k <= s.R || s.R < 0 && at < until; k++ {
			if n++; n > stream.MaxSegments {
				return &stream.PlaylistError{What: fmt.Sprintf("there are more than %d segments", stream.MaxSegments)}
			}
			if err := take(at, s.D); err != nil {
				return err
			}
			at += s.D
		}
	}
	return nil
}

var identifier = regexp.MustCompile(`\$(RepresentationID|Number|Time|Bandwidth)?(?:%0(\d{1,2})d)?\$`)

// expand replaces a template's identifiers (table 16).
func expand(template string, rep *representation, number, at int64) string {
	return identifier.ReplaceAllStringFunc(template, func(found string) string {
		m := identifier.FindStringSubmatch(found)
		var v int64
		switch m[1] {
		case "RepresentationID":
			return rep.ID
		case "Number":
			v = number
		case "Time":
			v = at
		case "Bandwidth":
			v = rep.Bandwidth
		default:
			return "$"
		}
		width, _ := strconv.Atoi(m[2]) // no width: 0
		return fmt.Sprintf("%0*d", width, v)
	})
}

// listed makes the segments of a SegmentList (5.3.9.3).
func (r *reader) listed(list *stream.Playlist, l *segmentList, base *url.URL) error {
	scale := float64(max(l.Timescale, 1))
	var lengths []time.Duration
	if l.Timeline != nil {
		err := eachOf(l.Timeline, 0, func(_, lasts int64) error {
			lengths = append(lengths, time.Duration(float64(lasts)/scale*float64(time.Second)))
			return nil
		})
		if err != nil {
			return err
		}
	}
	head, err := l.Initialization.reference(base)
	if err != nil {
		return err
	}
	for i, u := range l.URLs {
		p := stream.Segment{URL: base.String(), Init: head, Duration: time.Duration(float64(l.Duration) / scale * float64(time.Second))}
		if i < len(lengths) {
			p.Duration = lengths[i]
		}
		if p.Duration <= 0 || p.Duration > stream.MaxDuration {
			return &stream.PlaylistError{What: "a SegmentList without durations"}
		}
		if u.Media != "" {
			address, err := below(base, []string{u.Media})
			if err != nil {
				return err
			}
			p.URL = address.String()
		}
		if r.letters += len(p.URL); r.letters > stream.MaxURLBytes {
			return &stream.PlaylistError{What: fmt.Sprintf("its addresses are longer than %d MB together", stream.MaxURLBytes>>20)}
		}
		if p.Bytes, err = byteSpan(u.Range); err != nil {
			return err
		}
		list.Segments = append(list.Segments, p)
	}
	return nil
}

// reference returns the address of an Initialization, nil for none.
func (s *source) reference(base *url.URL) (*stream.Reference, error) {
	if s == nil {
		return nil, nil
	}
	u := base
	var err error
	if s.URL != "" {
		if u, err = below(base, []string{s.URL}); err != nil {
			return nil, err
		}
	}
	bytes, err := byteSpan(s.Range)
	return &stream.Reference{URL: u.String(), Bytes: bytes}, err
}

// byteSpan parses "first-last"; an empty string is the whole file.
func byteSpan(s string) (stream.Span, error) {
	if s == "" {
		return stream.Span{}, nil
	}
	from, to, _ := strings.Cut(s, "-")
	first, err1 := strconv.ParseInt(from, 10, 64)
	last, err2 := strconv.ParseInt(to, 10, 64)
	if err1 != nil || err2 != nil || first < 0 || last < first || last-first >= stream.MaxSegmentBytes {
		return stream.Span{}, &stream.PlaylistError{What: fmt.Sprintf("%q is not a range of bytes", stream.Shorten(s))}
	}
	return stream.Span{Offset: first, Size: last - first + 1}, nil
}

// wholeFile records a film in one file (5.3.9.2): with an index, or as one segment.
func wholeFile(v *stream.Variant, b *segmentBase, base *url.URL, length time.Duration) error {
	index, err := byteSpan(b.IndexRange)
	if err != nil {
		return err
	}
	head, err := b.Initialization.reference(base)
	if err != nil {
		return err
	}
	if index.Size == 0 {
		v.List.Segments = []stream.Segment{{URL: base.String(), Duration: min(length, stream.MaxDuration)}}
		return nil
	}
	if head == nil {
		head = &stream.Reference{URL: base.String(), Bytes: stream.Span{Offset: 0, Size: index.Offset}}
	}
	v.Index = &stream.Index{URL: base.String(), Bytes: index, Init: head}
	return nil
}

// frameRate reads "25" or "30000/1001".
func frameRate(s string) media.Rate {
	num, den, divided := strings.Cut(s, "/")
	a, err := strconv.ParseFloat(num, 64)
	if err != nil {
		return media.Rate{}
	}
	if d, err := strconv.ParseFloat(den, 64); divided && err == nil && d > 0 {
		a /= d
	}
	r, _ := media.RateOf(a) // without one it is not known
	return r
}

var isoPattern = regexp.MustCompile(`^P(?:(\d+)D)?(?:T(?:(\d+)H)?(?:(\d+)M)?(?:(\d+(?:\.\d+)?)S)?)?$`)

// isoDuration parses a duration like PT1H2M3.5S (ISO 8601, days to seconds); an empty string is
// 0.
func isoDuration(s string) (time.Duration, error) {
	if s == "" {
		return 0, nil
	}
	m := isoPattern.FindStringSubmatch(s)
	total := 0.0
	if m != nil {
		for i, unit := range []float64{86400, 3600, 60, 1} {
			if m[i+1] != "" {
				v, _ := strconv.ParseFloat(m[i+1], 64) // digits
				total += v * unit
			}
		}
	}
	if m == nil || total > 1e8 {
		return 0, &stream.PlaylistError{What: fmt.Sprintf("%q is not a duration", stream.Shorten(s))}
	}
	return time.Duration(total * float64(time.Second)), nil
}

// ParseIndex parses a segment index box (ISO/IEC 14496-12, 8.16.3) at an offset of the file, and
// lists the segments.
func ParseIndex(data []byte, x *stream.Index) (*stream.Playlist, error) {
	wrong := &stream.PlaylistError{What: "the segment index is damaged"}
	u32 := func(at int) int64 {
		return int64(data[at])<<24 | int64(data[at+1])<<16 | int64(data[at+2])<<8 | int64(data[at+3])
	}
	if len(data) < 32 || string(data[4:8]) != "sidx" {
		return nil, wrong
	}
	scale, at := u32(16), 28
	offset := u32(24)
	if data[8] == 1 { // 64-bit times
		if len(data) < 40 {
			return nil, wrong
		}
		offset, at = u32(28)<<32|u32(32), 36
	}
	count := int(data[at+2])<<8 | int(data[at+3])
	at += 4
	if scale <= 0 || len(data) < at+12*count || count == 0 {
		return nil, wrong
	}
	offset += x.Bytes.Offset + u32(0)
	list := &stream.Playlist{Ended: true}
	for i := range count {
		entry := at + 12*i
		size, lasts := u32(entry)&0x7fffffff, float64(u32(entry+4))/float64(scale)
		if data[entry]&0x80 != 0 {
			return nil, &stream.PlaylistError{What: "a segment index of indexes is not supported"}
		}
		if size <= 0 || size > stream.MaxSegmentBytes || lasts <= 0 || lasts > stream.MaxDuration.Seconds() || offset < 0 {
			return nil, wrong
		}
		list.Segments = append(list.Segments, stream.Segment{URL: x.URL, Bytes: stream.Span{Offset: offset, Size: size}, Init: x.Init, Duration: time.Duration(lasts * float64(time.Second))})
		offset += size
	}
	return list, nil
}
