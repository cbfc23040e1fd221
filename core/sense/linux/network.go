package linux

import (
	"bytes"
	"context"
	"path/filepath"
	"time"

	"vividstrain/core/sense"
)

// networkSource reads network traffic from proc/net/dev. Interfaces that never carried anything
// are left out.
type networkSource struct {
	files
	roots Roots
	path  string
	links map[string]*link
	at    time.Time
}

type link struct {
	receive, send, drops counter
	speed                float64 // bits a second, 0: unknown
}

func newNetwork(r Roots) *networkSource {
	return &networkSource{roots: r, path: filepath.Join(r.Proc, "net", "dev"), links: map[string]*link{}}
}

func (*networkSource) Kind() string { return sense.System }

func (*networkSource) Name() string { return "network" }

// maxLinks is the largest number of interfaces that are followed.
const maxLinks = 256

func (s *networkSource) Sample(_ context.Context, now time.Time, list []sense.Reading) ([]sense.Reading, error) {
	data, err := s.read(s.path)
	if err != nil {
		return list, err
	}
	elapsed := now.Sub(s.at).Seconds()
	s.at = now
	var fresh []string
	for len(data) > 0 {
		var l []byte
		l, data = line(data)
		name, rest, found := bytes.Cut(l, []byte(":"))
		name = bytes.TrimSpace(name)
		if !found {
			continue
		}
		var v [12]float64 // bytes, packets, errs, drop, fifo, frame, compressed, multicast; bytes, packets, errs, drop
		for i := range v {
			var word []byte
			word, rest = field(rest)
			v[i], _ = parseFloat(word)
		}
		k := s.links[string(name)]
		if k == nil {
			if v[0]+v[8] == 0 || len(s.links) >= maxLinks {
				continue
			}
			k = &link{}
			s.links[string(name)] = k
			fresh = append(fresh, string(name))
		}
		list = k.readings(list, string(name), v, elapsed)
	}
	for _, name := range fresh { // in Mb/s; -1 and an error where there is none
		if speed, err := s.number(filepath.Join(s.roots.Sys, "class", "net", name, "speed")); err == nil && speed > 0 {
			s.links[name].speed = speed * 1e6
		}
	}
	return list, nil
}

func (k *link) readings(list []sense.Reading, name string, v [12]float64, elapsed float64) []sense.Reading {
	in, ok := k.receive.since(v[0])
	out, too := k.send.since(v[8])
	lost, three := k.drops.since(v[2] + v[3] + v[10] + v[11])
	if !ok || !too || elapsed <= 0 {
		return list
	}
	in, out = 8*in/elapsed, 8*out/elapsed
	list = append(list, sense.Reading{Quantity: sense.NetReceive, Label: name, Value: in}, sense.Reading{Quantity: sense.NetSend, Label: name, Value: out})
	if three && lost > 0 {
		list = append(list, sense.Reading{Quantity: sense.NetDrops, Label: name, Value: lost / elapsed})
	}
	if k.speed > 0 {
		list = append(list, sense.Reading{Quantity: sense.NetLink, Label: name, Value: sense.Percent(max(in, out) / k.speed)})
	}
	return list
}
