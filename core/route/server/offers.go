package server

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"time"

	"vividstrain/core/load"
	"vividstrain/core/media"
	"vividstrain/core/media/stream"
	"vividstrain/core/media/stream/dash"
	"vividstrain/core/media/stream/hls"
)

// Offers returns what the address offers, a multivariant playlist's variants or a manifest's
// representations, as loads in rising order. Viewers then find these loads there.
func (s *Server) Offers(ctx context.Context) ([]load.Load, error) {
	ctx, cancel := context.WithTimeout(ctx, 2*s.options.Timeout)
	defer cancel()
	c := s.newClient()
	defer c.close()
	data, from, err := c.whole(ctx, s.options.URL, stream.Span{}, maxPlaylist)
	if err != nil {
		if ctx.Err() != nil && errors.Is(err, context.DeadlineExceeded) {
			err = &FetchError{s.options.URL, context.DeadlineExceeded}
		}
		return nil, err
	}
	var variants []stream.Variant
	switch kindOf(data) {
	case aPlaylist:
		if _, variants, err = hls.Parse(data, from); err == nil && variants == nil {
			err = errors.New("it is a playlist of one film; describe it with a load line")
		}
	case aManifest:
		variants, err = dash.Parse(data, from, time.Now())
		for i := range variants {
			variants[i].URL = from.String()
		}
	default:
		err = errors.New("it is neither a playlist nor a manifest; describe it with a load line")
	}
	if err != nil {
		return nil, &FetchError{s.options.URL, err}
	}
	return s.take(variants)
}

// Listed returns the loads whose addresses were given in a list.
func (s *Server) Listed() (loads []load.Load) {
	for _, e := range s.options.List {
		loads = append(loads, e.Load)
	}
	return loads
}

// take converts variants to loads and stores their addresses.
func (s *Server) take(variants []stream.Variant) (loads []load.Load, err error) {
	slices.SortFunc(variants, func(a, b stream.Variant) int { return int(min(max(a.Bitrate-b.Bitrate, -1), 1)) })
	for _, v := range variants {
		f := v.Format
		if f.Width < 32 || f.Height < 32 || f.Width%2+f.Height%2 != 0 || f.Width > media.MaxSide || f.Height > media.MaxSide {
			continue // its format is not stated
		}
		if f.Rate.Num == 0 {
			f.Rate = media.Rate{Num: 25, Den: 1}
		}
		step := math.Pow(10, math.Floor(math.Log10(float64(f.Bitrate)))-2)
		f.Bitrate = int64(math.Round(float64(f.Bitrate)/step) * step)
		l, err := load.Parse(load.Load{Format: f, Streams: 1}.String())
		if err != nil {
			continue
		}
		if slices.ContainsFunc(s.options.List, func(e Entry) bool { return e.Load.String() == l.String() }) {
			continue
		}
		s.options.List = append(s.options.List, Entry{Load: l, URL: v.URL})
		loads = append(loads, l)
	}
	if loads == nil {
		return nil, &FetchError{s.options.URL, fmt.Errorf("none of its %d variants states its size", len(variants))}
	}
	return loads, nil
}
