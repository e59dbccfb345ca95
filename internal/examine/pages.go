package examine

import (
	"context"
	"io"
	"maps"
	"net/http"
	"slices"
	"strings"
	"time"

	"dravit/internal/diagnose"
	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/logfile"
	"dravit/internal/materialise"
	"dravit/internal/requests"
)

const (
	askedAgain = 8                      // failed pages that are asked again, at most
	askFor     = health.Deadline        // no further page is asked for after that time
	lateWords  = 200 * time.Millisecond // how long after an answer its error may take to reach a log
	apart      = 20 * time.Millisecond  // between a page that fails and the next: its words are its own
)

// Pages returns the pages of a stack that failed lately and fail still, as far as that can be found out without harm:
// one that anybody can ask for is asked for again, and what is answered well now is left out. They are asked one after
// the other, or nobody could tell which of them wrote what. What failed before the last start counts only if it fails
// again.
func Pages(ctx context.Context, kinds kind.List, spec materialise.Spec, open []requests.Failure) []diagnose.PageFacts {
	var out []diagnose.PageFacts
	began, asked := time.Now(), 0
	for _, f := range open {
		found := unknown
		if f.Plain && f.Method == http.MethodGet && asked < askedAgain && time.Since(began) < askFor {
			asked++
			found = judge(ctx, kinds, spec, f)
			time.Sleep(apart)
		}
		if found == fails || found == unknown && !f.Before {
			out = append(out, diagnose.PageFacts{Failure: f, Evidence: EvidenceOf(kinds, spec, f)})
		}
	}
	return out
}

// EvidenceOf returns what the failure of a page is judged by.
func EvidenceOf(kinds kind.List, spec materialise.Spec, f requests.Failure) diagnose.Evidence {
	failed := requests.Request{Status: f.Status}.Failed()
	names := []string{f.App, f.Server}
	if failed { // else what a store wrote is of somebody else, or of no matter
		names = append(names, slices.Sorted(maps.Keys(f.Said))...)
	}
	e := diagnose.Evidence{Status: f.Status, Failed: failed}
	for i, name := range names {
		p, ok := spec.Part(name)
		if traits := kinds.TraitsOf(p.Kind); ok && traits != nil && slices.Index(names, name) == i {
			e.Parts = append(e.Parts, diagnose.Speaker{Spec: p, Traits: *traits, Said: f.Said[name]})
		}
	}
	return e
}

// verdict is what asking for a page again has shown.
type verdict int

const (
	unknown verdict = iota // it was not asked, or the answer says nothing
	works
	fails
)

// judge asks for a page that failed, and finds out whether it still does.
func judge(ctx context.Context, kinds kind.List, spec materialise.Spec, f requests.Failure) verdict {
	i := slices.IndexFunc(spec.Sites, func(x materialise.Site) bool { return x.Name == f.Site })
	if i < 0 {
		return works // the site is gone
	}
	from := map[string]int64{}
	for part := range f.Said {
		if p, ok := spec.Part(part); ok {
			from[part] = logfile.Size(p.Log)
		}
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet,
		strings.TrimSuffix(spec.Sites[i].URL, "/")+f.Path, nil)
	if err != nil {
		return unknown
	}
	req.Header.Set(health.CheckHeader, health.Again)
	client := health.Client(health.Dial("tcp", kind.Loopback(spec.HTTPPort)))
	client.Timeout = health.Deadline
	resp, err := client.Do(req)
	if err != nil {
		return unknown
	}
	_, err = io.Copy(io.Discard, io.LimitReader(resp.Body, maxPage))
	resp.Body.Close()
	switch {
	case err != nil || resp.StatusCode >= 300 && resp.StatusCode < 500: // a log-in, say, is asked for instead
		return unknown
	case resp.StatusCode >= 500:
		return fails
	}
	time.Sleep(lateWords)
	now := f
	now.Status, now.Said = resp.StatusCode, map[string]string{}
	for part, offset := range from {
		p, _ := spec.Part(part)
		now.Said[part], _ = logfile.Since(p.Log, offset, requests.MaxSaid)
	}
	if _, failed := diagnose.Explain(EvidenceOf(kinds, spec, now)); failed {
		return fails
	}
	return works
}
