package diagnose

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"dravit/internal/about"
	"dravit/internal/cause"
	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/lifecycle"
)

// entrance examines the gateway.
func (d *doctor) entrance() {
	if d.f.Stopped || len(d.f.Sites) == 0 {
		return
	}
	switch g := d.f.Gateway; {
	case g.Holder != "":
		d.add(seen, cause.GatewayPortTaken, about.Gateway, "another program uses the gateway's port",
			fmt.Sprintf("stop it (dravit ports %d), then dravit start", g.Port),
			fmt.Sprintf("port %d is held by %s", g.Port, g.Holder))
	case !g.Runs && d.unfinished(): // a start that is not over has not come to it
	case !g.Runs:
		d.add(seen, cause.GatewayDown, about.Gateway, "the gateway does not run",
			"dravit start").Fix = []string{"dravit", "start"}
	}
}

// unfinished reports whether the last start is not over, as something failed in it.
func (d *doctor) unfinished() bool {
	return slices.ContainsFunc(d.all, func(c Cause) bool {
		return c.Cause == cause.SeedFailed || c.Cause == cause.TaskFailed
	})
}

// wrote searches for symptoms in what a part behind a site wrote: while the site was asked just now, else since it
// answered last.
func (d *doctor) wrote(symptoms []kind.Symptom, s SiteFacts, p PartFacts, subject about.Subject) bool {
	name := p.Spec.Name
	return d.words(symptoms, s.NowLogs[name], subject, name, p.LogFile) ||
		d.words(symptoms, s.SinceLogs[name], subject, name, p.LogFile)
}

// site finds out why a site does not answer.
func (d *doctor) site(s SiteFacts) {
	subject := about.Site(s.Spec.Name)
	fell := health.FirstMiss(s.Rungs)
	if fell == nil || d.f.Stopped {
		return
	}
	switch fell.Rung {
	case kind.Resolves:
		d.siteName(s, subject, fell.Miss())
		return
	case kind.Reaches, kind.Routed:
		if len(d.of(about.Gateway)) == 0 && !d.unfinished() {
			d.add(likely, cause.GatewayDown, about.Gateway, "the gateway does not lead to the site "+s.Spec.Name,
				"dravit start", fell.Miss()).Fix = []string{"dravit", "start"}
		}
		return
	}
	app, hasApp := d.partOf(s.Spec.App)
	server, hasServer := d.partOf(s.Spec.Server)
	if hasServer && server.Status.State != lifecycle.Answers ||
		hasApp && app.Status.State != lifecycle.Answers && app.Status.State != lifecycle.Unwell {
		return // that part is the cause, and has been reported
	}
	// If a store does not answer, it is the cause of what the page says about stores; the page may still show another
	// error.
	var behind []cause.ID
	for _, use := range app.Spec.Uses {
		if p, ok := d.partOf(use); ok && p.Status.State != lifecycle.Answers {
			behind = []cause.ID{cause.StoreElsewhere, cause.WrongPassword, cause.ApplicationError}
		}
	}
	if d.documentRoot(s, subject) {
		return
	}
	found := false
	if hasApp {
		symptoms := slices.DeleteFunc(slices.Clone(app.Traits.Symptoms), func(x kind.Symptom) bool {
			return slices.Contains(behind, x.Cause)
		})
		found = d.words(symptoms, s.Page, subject, app.Spec.Name, "the page at "+s.Spec.URL)
		if !found && behind == nil {
			found = d.wrote(symptoms, s, app, subject)
		}
	}
	if hasServer && !found {
		found = d.wrote(server.Traits.Symptoms, s, server, subject)
	}
	if !found && behind == nil {
		d.answer(s, subject, fell)
	}
}

// siteName says what is wrong with a host name that does not resolve to this machine.
func (d *doctor) siteName(s SiteFacts, subject about.Subject, said string) {
	if i := slices.IndexFunc(s.Resolves, func(a netip.Addr) bool { return !a.IsLoopback() }); i >= 0 {
		d.add(seen, cause.NameElsewhere, subject, "the name "+s.Spec.Host+" resolves to another machine",
			"remove it from /etc/hosts or the resolver; or dravit names hosts on, which corrects it",
			"the system's resolver says "+s.Resolves[i].String())
		return
	}
	d.add(seen, cause.NameUnknown, subject, unknownName+s.Spec.Host,
		"dravit names hosts on, or dravit names resolver on", said)
}

// unknownName is how a sentence about a name begins that the system's resolver does not know.
const unknownName = "the system's resolver does not know the name "

// documentRoot reports whether the document root is missing or closed, which explains the site's failure.
func (d *doctor) documentRoot(s SiteFacts, subject about.Subject) bool {
	switch r := s.Root; {
	case r.Path == "":
		return false
	case r.Missing:
		d.add(seen, cause.RootGone, subject, "the document root of the site "+s.Spec.Name+" is gone",
			"create it again, or correct root in dravit.toml", r.Path+" does not exist")
		return true
	case r.Closed != "":
		d.add(seen, cause.RootClosed, subject, "the files of the site "+s.Spec.Name+" may not be read",
			"chmod -R u+rX '"+r.Closed+"'", r.Closed+" is closed").Fix = []string{"chmod", "-R", "u+rX", r.Closed}
		return true
	}
	return false
}

// answer explains an answer by its status and text alone: no log and no page said more.
func (d *doctor) answer(s SiteFacts, subject about.Subject, fell *health.Result) {
	said := fell.Miss()
	switch {
	case s.Spec.App == "" && s.Root.PHP && (s.Status == 403 || s.Status == 404):
		d.add(seen, cause.SiteWithoutApp, subject,
			"the document root of the site "+s.Spec.Name+" contains index.php, and no part runs it",
			"app = \"PART\" in the table of the site in dravit.toml, with the name of a part of kind php", said)
	case s.Root.Path != "" && !s.Root.Index && (s.Status == 403 || s.Status == 404):
		d.add(seen, cause.IndexMissing, subject, "the document root of the site "+s.Spec.Name+" has no index",
			"create index.php or index.html there, or name another root in dravit.toml",
			s.Root.Path+" has neither index.php nor index.html", said)
	case fell.Rung == kind.Matches && s.Spec.Expect != nil && s.Spec.Expect.Text != "" &&
		!strings.Contains(s.Page, s.Spec.Expect.Text):
		d.add(likely, cause.TextMissing, subject, "the page does not contain the expected text",
			"correct the page, or the key expect in dravit.toml", said)
	case s.Status >= 500:
		d.add(likely, cause.ApplicationError, subject, "the application answers with an error",
			"dravit logs "+cmp.Or(s.Spec.App, s.Spec.Server), said)
	case s.Status >= 400:
		d.add(likely, cause.StatusUnexpected, subject, fmt.Sprintf("the site answers with status %d", s.Status),
			"correct the application, or the key expect in dravit.toml", said)
	default:
		d.add(likely, cause.Unwell, subject, "the site "+how(fell), "dravit check, and dravit logs", said)
	}
}
