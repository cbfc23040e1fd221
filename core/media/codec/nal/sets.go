package nal

import "bytes"

// ParameterSets stores the parameter sets of one kind by their numbers. The zero value is empty.
// Streams repeat their sets at each key frame. A set that is repeated with the same bytes keeps
// its pointer: decoders compare pointers to see whether a sequence goes on.
type ParameterSets[S any] struct {
	sets []storedSet[S]
}

type storedSet[S any] struct {
	set    *S
	rbsp   []byte
	parent any // the set to which this one refers
}

// Get returns the set of that number, or nil.
func (p *ParameterSets[S]) Get(id int) *S {
	if uint(id) >= uint(len(p.sets)) {
		return nil
	}
	return p.sets[id].set
}

// Put stores a set that was parsed from rbsp, unless the one under its number has the same
// bytes and refers to the same parent, which is nil where there is none. The caller has
// checked the range of id.
func (p *ParameterSets[S]) Put(id int, set *S, rbsp []byte, parent any) {
	for len(p.sets) <= id {
		p.sets = append(p.sets, storedSet[S]{})
	}
	old := &p.sets[id]
	if old.set == nil || !bytes.Equal(old.rbsp, rbsp) || old.parent != parent {
		*old = storedSet[S]{set, bytes.Clone(rbsp), parent}
	}
}

// Last returns the set of the highest number, or nil.
func (p *ParameterSets[S]) Last() *S { return p.Get(len(p.sets) - 1) }
