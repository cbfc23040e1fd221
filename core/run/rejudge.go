package run

import (
	"fmt"
	"slices"

	"vividstrain/core/logbook"
	"vividstrain/core/sense"
	"vividstrain/core/tally"
	"vividstrain/core/verdict"
)

// Played is an attempt of a document that was played to its end.
type Played struct {
	Rung int
	*logbook.Attempt
	Account *tally.Tally // made afterwards; nil: none
}

// PlayedOf returns the attempts of a document that can be judged anew by what was shown, in order of time.
func PlayedOf(doc *logbook.Document) []Played {
	return slices.DeleteFunc(attemptsOf(doc), func(a Played) bool {
		broke := a.Verdict == verdict.Failed && a.Frames == nil
		return a.Marks == nil || broke || a.Void != "" && a.Void != verdict.VoidLater && a.Void != verdict.VoidOthers && a.Void != verdict.VoidHost
	})
}

// attemptsOf returns all attempts of a document in order of time.
func attemptsOf(doc *logbook.Document) (list []Played) {
	for rung := range doc.Rungs {
		for i := range doc.Rungs[rung].Attempts {
			list = append(list, Played{Rung: rung, Attempt: &doc.Rungs[rung].Attempts[i]})
		}
	}
	slices.SortStableFunc(list, func(a, b Played) int { return a.Started.Compare(b.Started) })
	return list
}

// Rejudge judges attempts of a run anew by accounts of what was shown, which were made of a recording
// afterwards, concludes anew, and writes both into the logbook.
func Rejudge(book *logbook.Book, doc *logbook.Document, kinds []Descriptor, recording string, attempts []Played) error {
	i := slices.IndexFunc(kinds, func(d Descriptor) bool { return d.Word == doc.Kind && d.Conclude != nil })
	if i < 0 {
		return fmt.Errorf("run %s is a %s, which is not judged by a recording", doc.ID, doc.Kind)
	}
	c := &Run{Config: Config{Criteria: doc.Criteria}, Doc: doc, kind: kinds[i].Conclude(doc), ranks: map[sense.Identity]int{}}
	c.Idle = c.useOf(doc.Baseline.Readings)
	for _, p := range attempts {
		c.Clock = max(c.Clock, p.Use[sense.Clock].Mean)
		if p.Account != nil {
			c.rejudge(p.Attempt, *p.Account)
		}
	}
	for _, p := range attemptsOf(doc) {
		c.Trials = append(c.Trials, p.Verdict.Trial(p.Rung, p.Void))
	}
	doc.Recording = recording
	c.conclude()
	return book.Rewrite(doc)
}

// rejudge judges an attempt by an account of what was shown. What the player counted itself is kept beside
// it.
func (c *Run) rejudge(a *logbook.Attempt, t tally.Tally) {
	t.StartDelayS, t.Buffer = a.StartS, a.Buffer
	if f := t.Steady(); f != nil && a.Frames != nil {
		f.Told = a.Frames.Told
	}
	a.Void, a.Limiter, a.Evidence = "", "", ""
	a.Verdict, a.Reasons = c.Criteria.Judge(t)
	a.Frames, a.Windows, a.Speed, a.Watching = t.Steady(), t.Windows, t.Speed, t.Watching
	if a.Verdict == verdict.Smooth {
		return
	}
	a.Limiter, a.Evidence = verdict.FindLimiter(verdict.Window{Use: a.Use, Clock: c.Clock, Buffer: a.Buffer, Frames: a.Frames})
	disturbed(a, "")
}
