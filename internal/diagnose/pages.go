package diagnose

import (
	"fmt"
	"slices"
	"time"

	"dravit/internal/about"
	"dravit/internal/cause"
	"dravit/internal/lifecycle"
	"dravit/internal/requests"
)

// PageFacts is a page that failed lately and was not mended since, with what was written then.
type PageFacts struct {
	requests.Failure
	Evidence Evidence
}

// Page is a page that failed.
type Page struct {
	Method string    `json:"method"`
	Path   string    `json:"path"`   // without its query
	Status int       `json:"status"` // the last one; 0: no whole answer
	Count  int       `json:"count"`
	Last   time.Time `json:"last"`
}

// pages adds the causes of pages that failed, with the pages.
func (d *doctor) pages() {
	for _, p := range d.f.Pages {
		x, fails := Explain(p.Evidence)
		if line := d.f.Lines[x.Place]; line != "" {
			x.Evidence[len(x.Evidence)-1] = x.Place + ": " + oneLine(line)
		}
		if !fails || d.storeIsBack(x, p.App) {
			continue
		}
		subject := about.Site(p.Site)
		i := slices.IndexFunc(d.all, func(c Cause) bool {
			return c.Cause == x.Cause && c.Subject == subject && c.What == x.What
		})
		if i < 0 {
			d.all = append(d.all, Cause{Cause: x.Cause, Subject: subject, What: x.What, Remedy: x.Remedy,
				Evidence: append([]string{}, x.Evidence...), Place: x.Place, rank: written})
			i = len(d.all) - 1
		}
		c := &d.all[i]
		c.Pages = append(c.Pages, Page{p.Method, p.Path, p.Status, p.Count, p.Last})
		c.Evidence = append(c.Evidence, d.pageSaid(p.Failure))
	}
}

// pageSaid says how often a page failed, and when last.
func (d *doctor) pageSaid(f requests.Failure) string {
	how := fmt.Sprintf("with status %d", f.Status)
	if f.Status == 0 {
		how = "without a whole answer"
	}
	return fmt.Sprintf("%s %s ended %s %s, %s ago", f.Method, f.Path, how, times(f.Count),
		max(0, d.f.Now.Sub(f.Last)).Round(time.Second))
}

// storeIsBack reports whether a page failed for want of a store of the stack's that answers now, at the address that
// the application asked for.
func (d *doctor) storeIsBack(x Explained, app string) bool {
	if x.Cause != cause.StoreElsewhere {
		return false
	}
	p, ok := d.partOf(app)
	return ok && slices.ContainsFunc(p.Spec.Uses, func(name string) bool {
		store, ok := d.partOf(name)
		return ok && store.Status.State == lifecycle.Answers && speaksOfAddress(x, store.Spec)
	})
}
