package keeper

import (
	"bytes"
	"context"
	"math"
	"slices"
	"time"

	"dravit/internal/diagnose"
	"dravit/internal/examine"
	"dravit/internal/lifecycle"
	"dravit/internal/logfile"
	"dravit/internal/materialise"
	"dravit/internal/proc"
	"dravit/internal/project"
	"dravit/internal/requests"
)

const (
	explainEvery = 200 * time.Millisecond // between two looks at the log of requests
	explainMost  = 20                     // kinds of requests that are explained at a look; the others are left out
	explainFor   = 60 * time.Millisecond  // at a look: what has no turn by then is left to the next one
	waitFor      = 500 * time.Millisecond // after a request's end, so that the requests after it are known, too
	readMost     = 4 << 20                // of the log of requests at a look, in bytes
)

// explainer explains the failed requests of a stack as they come. The gateway notes a request when what was written for
// it has reached the logs.
type explainer struct {
	stack  *stackRunner
	file   string
	offset int64
	within time.Duration      // that a look may explain for; it explains one kind of request at least
	since  time.Time          // requests from before are of no matter
	near   []requests.Request // of this look, in the order in which they came, with those that wait for the next one
	waits  []requests.Request // that ended just now: whose words are those that come after them is not known yet
	failed []requests.Request // that failed lately: others at the same time may only see their words
	book   requests.Book
}

// explainPages explains failed requests until the context ends: from now on, or, if again, those of the last minutes,
// too, which another keeper has left. known are the failures that are known from before.
func (s *stackRunner) explainPages(ctx context.Context, again bool, known []requests.Failure) {
	x := explainer{stack: s, file: requests.File(s.keeper.home, s.id), within: explainFor, since: time.Now(),
		book: requests.NewBook(known)}
	if again {
		x.since = x.since.Add(-requests.Recent)
	} else {
		x.offset = logfile.Size(x.file)
	}
	for proc.Sleep(ctx, explainEvery) == nil {
		if logfile.Size(x.file) == x.offset && len(x.waits) == 0 {
			continue
		}
		x.look(time.Now())
		s.mu.Lock()
		if ctx.Err() == nil { // else a start has begun another book
			s.failures = x.book.All()
		}
		s.mu.Unlock()
	}
}

// look reads what was asked since the last look, and notes what failed and what works again.
func (x *explainer) look(now time.Time) {
	all, end, err := requests.SinceThose(x.file, x.offset, readMost, x.matters())
	if err != nil {
		return // the next look may read it
	}
	x.offset = end
	all = slices.DeleteFunc(all, func(r requests.Request) bool { return r.At.Before(x.since) })
	x.near = append(x.waits, all...)
	slices.SortStableFunc(x.near, func(a, b requests.Request) int { return a.At.Compare(b.At) })
	x.failed = slices.DeleteFunc(x.failed, func(r requests.Request) bool { return now.Sub(r.At) > time.Minute })
	for _, r := range all {
		if r.Failed() && len(x.failed) < mostFailed {
			x.failed = append(x.failed, r)
		}
	}
	x.stack.mu.Lock()
	spec := x.stack.spec
	x.stack.mu.Unlock()
	var settled []requests.Request
	x.waits = nil
	for _, r := range x.near {
		if now.Sub(r.Ended()) < waitFor {
			x.waits = append(x.waits, r)
		} else {
			settled = append(settled, r)
		}
	}
	began, left := time.Now(), 0
	for i, same := range together(settled) {
		if i == 0 || time.Since(began) < x.within {
			x.explain(spec, same)
		} else if left += len(same); left < mostLeft {
			x.waits = append(x.waits, same...)
		} // else it comes faster than it can be explained
	}
}

const (
	mostJudged = 5    // requests of a kind at a look
	mostFailed = 1000 // failed requests that are known at a time
	mostLeft   = 5000 // requests for which a look had no time, and that the next one looks at
)

// matters returns what tells whether a line of the log of requests may say something new: that a page failed, or that
// one which did works again. Of thousands a second most say neither. It is given the lines in their order.
func (x *explainer) matters() func(line []byte) bool {
	failing := map[string]bool{}
	for _, f := range x.book.Failing() {
		failing[f.Path] = true
	}
	for _, r := range x.waits {
		failing[r.Path] = true
	}
	return func(line []byte) bool {
		path := requests.PathOf(line)
		if !bytes.Contains(line, []byte(`"from":`)) {
			return failing[path]
		}
		if len(failing) < mostFailed {
			failing[path] = true
		}
		return true
	}
}

// together returns requests in groups of those that are alike and follow each other, in the order of the last of each.
// Beyond explainMost groups of failures, the rest is left out.
func together(all []requests.Request) [][]requests.Request {
	var groups [][]requests.Request
	at := map[[3]string]int{}
	explained := 0
	for _, r := range all {
		key := [3]string{r.Site, r.Method + " " + r.Path, map[bool]string{true: "fails"}[r.From != nil]}
		if i, ok := at[key]; ok {
			groups[i] = append(groups[i], r)
			continue
		}
		if r.From != nil {
			if explained++; explained > explainMost {
				continue
			}
		}
		// what works after what failed is another group, whose time counts
		at[key] = len(groups)
		groups = append(groups, []requests.Request{r})
	}
	slices.SortStableFunc(groups, func(a, b []requests.Request) int {
		return a[len(a)-1].At.Compare(b[len(b)-1].At)
	})
	return groups
}

// explain notes what some requests of one kind show: that the page fails, or that it works. The last one counts; the
// words of requests that follow each other at once may be in the logs of another one of them.
func (x *explainer) explain(spec materialise.Spec, same []requests.Request) {
	last := same[len(same)-1]
	var f requests.Failure
	fails := false
	for i := len(same) - 1; i >= max(0, len(same)-mostJudged) && !fails && last.At.Sub(same[i].Ended()) < atOnce; i-- {
		f, fails = x.judge(spec, same[i])
	}
	if fails && !last.Failed() && x.beside(last) {
		return // another request wrote that, at the same time: nothing is known of this one
	}
	if !fails {
		if last.Status < 500 && !last.Left {
			x.book.Works(last)
		}
		return
	}
	f.First, f.Last = same[0].At, last.At
	for _, r := range same {
		if !r.Again {
			f.Count++
		}
	}
	x.book.Fails(f)
}

// atOnce is how soon requests follow each other whose words in the logs cannot be told apart.
const atOnce = 50 * time.Millisecond

// judge finds out whether a request failed, and of what.
func (x *explainer) judge(spec materialise.Spec, r requests.Request) (f requests.Failure, fails bool) {
	f = requests.Failure{Site: r.Site, Method: r.Method, Path: r.Path, Status: r.Status, Server: r.Server, App: r.App,
		Plain: r.Plain}
	for _, end := range []until{answered, noted, followed} {
		if end == noted && len(r.Late) == 0 || end == followed && (x.spoke(r) || !x.precedes(r)) {
			continue
		}
		f.Said = x.said(spec, r, end)
		var found diagnose.Explained
		found, fails = diagnose.Explain(examine.EvidenceOf(x.stack.keeper.kinds, spec, f))
		f.Cause, f.What, f.Place = found.Cause, found.What, found.Place
		if fails && found.Cause != diagnose.Unexplained {
			break
		}
	}
	if fails {
		x.say(spec, &f)
	}
	return f, fails
}

// say takes the cause of a failure as a diagnosis says it, as far as that needs no more than what is at hand.
func (x *explainer) say(spec materialise.Spec, f *requests.Failure) {
	kinds := x.stack.keeper.kinds
	facts := diagnose.Facts{Now: f.Last, Gateway: diagnose.Gateway{Runs: true},
		Pages: []diagnose.PageFacts{{Failure: *f, Evidence: examine.EvidenceOf(kinds, spec, *f)}}}
	for _, k := range kinds {
		facts.Kinds = append(facts.Kinds, k.Traits())
	}
	for _, p := range spec.Parts {
		if traits := kinds.TraitsOf(p.Kind); traits != nil {
			facts.Parts = append(facts.Parts, diagnose.PartFacts{Spec: p, Traits: *traits, Program: true,
				Status: lifecycle.Status{Name: p.Name, State: lifecycle.Answers}})
		}
	}
	for _, site := range spec.Sites {
		facts.Sites = append(facts.Sites, diagnose.SiteFacts{Spec: site})
	}
	if diagnose.Asks(f.Cause) {
		facts.Variables = project.Variables(projectOf(spec))
	}
	for _, c := range diagnose.Causes(facts) {
		if len(c.Pages) > 0 {
			f.Cause, f.What, f.Place = c.Cause, c.What, c.Place
			return
		}
	}
}

// spoke reports whether the application wrote something until a request was noted: what comes after that is of others.
func (x *explainer) spoke(r requests.Request) bool {
	return max(r.To[r.App], r.Late[r.App]) > r.From[r.App]
}

// precedes reports whether a request is known that came after the answer to r. Else one may have come that is not known
// yet, such as those of a diagnosis, which asks again.
func (x *explainer) precedes(r requests.Request) bool {
	return slices.ContainsFunc(x.near, func(later requests.Request) bool {
		return len(later.From) > 0 && !later.At.Before(r.Ended())
	})
}

// until is the end of the time in which what is written may be about a request. The later, the likelier it is about
// another one.
type until int

const (
	answered until = iota // when the answer had ended
	noted                 // when the gateway noted it, a moment later
	followed              // when the next request came that is known
)

// said returns what the parts behind a site wrote while a request was answered, or until a time after it, by part.
func (x *explainer) said(spec materialise.Spec, r requests.Request, end until) map[string]string {
	said := map[string]string{}
	for part, from := range r.From {
		p, ok := spec.Part(part)
		if !ok {
			continue
		}
		to := r.To[part]
		switch end {
		case noted:
			to = min(max(to, r.Late[part]), max(to, x.next(r, part)))
		case followed:
			to = x.next(r, part)
		}
		if to == from {
			continue
		}
		if text := logfile.Between(p.Log, from, to, requests.MaxSaid); text != "" {
			said[part] = text
		}
	}
	return said
}

// next returns how long a part's log was when the first request came after the answer to r: what is written from there
// on is that one's. If none has come, it is beyond the log's end.
func (x *explainer) next(r requests.Request, part string) int64 {
	for _, later := range x.near {
		if length, ok := later.From[part]; ok && !later.At.Before(r.Ended()) {
			return length
		}
	}
	return math.MaxInt64
}

// beside reports whether a failed request was answered at the same time as another one.
func (x *explainer) beside(r requests.Request) bool {
	return slices.ContainsFunc(x.failed, func(f requests.Request) bool {
		return f.App == r.App && !f.At.After(r.Ended()) && !f.Ended().Before(r.At.Add(-lengthsLast))
	})
}

// lengthsLast is how old the lengths of logs may be that the gateway notes with a request.
const lengthsLast = 5 * time.Millisecond
