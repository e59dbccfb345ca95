package diagnose

import (
	"fmt"
	"slices"
	"time"

	"dravit/internal/about"
	"dravit/internal/cause"
	"dravit/internal/kind"
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
		if line := d.f.Lines[x.Place]; line != "" && x.Cause != cause.WrongPassword { // it may hold a password
			x.Evidence[len(x.Evidence)-1] = x.Place + ": " + oneLine(line)
		}
		if !fails || d.storeIsBack(x, p.App) || d.follows(x, p.Failure) {
			continue
		}
		if how := d.endedBy(&x, p.Failure); how != "" {
			x.Evidence = append(x.Evidence, "part "+p.App+": "+how+" then")
		}
		subject := about.Site(p.Site)
		i := slices.IndexFunc(d.all, func(c Cause) bool {
			return c.Cause == x.Cause && c.Subject == subject && c.What == x.What
		})
		if i < 0 {
			d.all = append(d.all, Cause{Cause: x.Cause, Subject: subject, What: x.What, Remedy: x.Remedy,
				Evidence: append([]string{}, x.Evidence...), Place: x.Place, rank: written, by: d.code(x.Part)})
			i = len(d.all) - 1
		}
		c := &d.all[i]
		c.Pages = append(c.Pages, Page{p.Method, p.Path, p.Status, p.Count, p.Last})
		c.Evidence = append(c.Evidence, d.pageSaid(p.Failure))
	}
}

// code returns a part if it runs an application's code, else "".
func (d *doctor) code(part string) string {
	if p, ok := d.partOf(part); ok && (p.Spec.Role == kind.RoleApp || p.Spec.Role == kind.RoleRuntime) {
		return part
	}
	return ""
}

// follows reports whether a page failed without a word because its application does not run, for a cause that is
// known. The cause gets the page then.
func (d *doctor) follows(x Explained, f requests.Failure) bool {
	app, ok := d.partOf(f.App)
	if !ok || x.Cause != Unexplained || app.Status.State == lifecycle.Answers {
		return false
	}
	i := slices.IndexFunc(d.all, func(c Cause) bool { return c.Subject == about.Part(f.App) })
	if i < 0 {
		return false
	}
	d.all[i].Evidence = append(d.all[i].Evidence, d.pageSaid(f))
	return true
}

// atOnce is within which time the end of an application and the failure of a page are one.
const atOnce = 3 * time.Second

// comesBack is how long an application may take to come back that ended: pages fail meanwhile.
const comesBack = 10 * time.Second

// endedBy reports how an application ended while it answered a page, or "". What is said of that end is said of the
// page then, and no longer of the part. A page that nothing else explains failed because of that end, or while the
// application was not back yet.
func (d *doctor) endedBy(x *Explained, f requests.Failure) (how string) {
	app, ok := d.partOf(f.App)
	unanswered := f.Status == 0 || f.Status == 502 // else the application answered
	if !ok || !unanswered || app.Status.LastExit == nil {
		return ""
	}
	exit := app.Status.LastExit
	after := f.Last.Sub(exit.At)
	if x.Cause == Unexplained && after > -atOnce && after < comesBack {
		x.Cause = cause.Crashed
		x.What = "part " + f.App + " ends while pages are asked for: " + exit.How
		x.Remedy = "look in what answers the page that failed first for what exits the program; have it write why"
	} else if after.Abs() > atOnce {
		return ""
	}
	same := []cause.ID{x.Cause, cause.Crashed, cause.Unwell, cause.ApplicationError}
	d.all = slices.DeleteFunc(d.all, func(c Cause) bool {
		return x.Cause != Unexplained && c.Subject == about.Part(f.App) && slices.Contains(same, c.Cause)
	})
	return exit.How
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
