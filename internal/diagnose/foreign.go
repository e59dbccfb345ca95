package diagnose

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"dravit/internal/cause"
	"dravit/internal/kind"
	"dravit/internal/pattern"
	"dravit/internal/project"
)

// foreignServices tells servers that are not of the stack from its own stores: a client that is refused writes the same
// of both.
func (d *doctor) foreignServices() {
	for i := range d.all {
		c := &d.all[i]
		if c.Cause != cause.StoreElsewhere && c.Cause != cause.ForeignService && c.Cause != cause.CertificateExpired {
			continue
		}
		at := ""
		if d.mailHost(c) {
			continue
		}
		a, ok := addressIn(c.What + "\n" + strings.Join(c.Evidence, "\n"))
		if !ok && c.Cause == cause.ForeignService {
			c.Remedy = strings.Replace(c.Remedy, "correct its address", "correct the address that "+
				cmp.Or(c.Place, "it")+" asks", 1)
			if a, ok = urlIn(d.f.Lines[c.Place]); ok {
				at = c.Place
			}
		}
		if !ok || c.Cause == cause.StoreElsewhere && (a.local() || !strings.Contains(a.host, ".") ||
			d.meansStore(*c, a)) {
			continue
		}
		at = cmp.Or(d.from(a), at)
		c.Cause = cause.ForeignService
		c.What = fmt.Sprintf("the application asks %s, which is not of this stack: %s", a, howForeign(c.Evidence))
		who := "ask whoever runs the service"
		if a.local() {
			who = "start what is to answer there"
		}
		c.Remedy = "correct that address, or " + who
		if at != "" {
			c.Place = at
			if d.f.Lines[at] == "" { // else the line was shown
				c.Evidence = append(c.Evidence, "the address is in "+at)
			}
			c.Remedy = "correct the address in " + at + ", or " + who
		}
	}
}

// mailHost makes a cause one of mail, if a variable for mail holds the name that it is about.
func (d *doctor) mailHost(c *Cause) bool {
	a, ok := addressIn(c.What + "\n" + strings.Join(c.Evidence, "\n"))
	if !ok || a.local() {
		return false
	}
	i := slices.IndexFunc(d.f.Variables, func(v project.Variable) bool {
		return ofMail().MatchString(v.Name) && holdsWord(v.Value, a.host)
	})
	if i < 0 {
		return false
	}
	v := d.f.Variables[i]
	c.Cause, c.What = cause.MailRefused, "mail is not accepted: no machine has the name "+a.host
	c.Evidence = append(c.Evidence, fmt.Sprintf("%s is %s in %s:%d", v.Name, v.Value, v.File, v.Line))
	return true
}

var ofMail = pattern.New(`(?:^|_)(?:E?MAIL|MAILER|SMTP)(?:_|$)`)

// meansStore reports whether an address that is not of this machine was meant to be that of a store: a variable with
// the name of a store holds it, or a store's own client wrote the error.
func (d *doctor) meansStore(c Cause, a address) bool {
	if _, ok := d.storeByVariable(c, []string{a.host}); ok {
		return true
	}
	text := withoutPaths(strings.Join(c.Evidence, "\n"))
	return slices.ContainsFunc(d.f.Kinds, func(k *kind.Traits) bool {
		return k.Clients != nil && k.Databases && k.Clients().MatchString(text)
	})
}

// from returns the place in the project's files that has an address, or "".
func (d *doctor) from(a address) string {
	for _, v := range d.f.Variables {
		if holdsWord(v.Value, a.host) {
			return fmt.Sprintf("%s:%d", v.File, v.Line)
		}
	}
	i := slices.IndexFunc(d.f.Mentions, func(m project.Mention) bool { return m.Word == a.host })
	if i < 0 {
		return ""
	}
	return fmt.Sprintf("%s:%d", d.f.Mentions[i].File, d.f.Mentions[i].Line)
}

// howForeign says what was wrong with a service, in a few words.
func howForeign(evidence []string) string {
	text := strings.ToLower(strings.Join(evidence, "\n"))
	for _, x := range []struct{ words, means string }{
		{"expired", "its certificate has expired"},
		{"notfound", "no machine has its name"}, {"resolve", "no machine has its name"},
		{"not known", "no machine has its name"}, {"name resolution", "no machine has its name"},
		{"getaddrinfo", "no machine has its name"}, {"eai_again", "its name is not answered now"},
		{"refused", "nothing accepts there"}, {"timed out", "it gives no answer in time"},
		{"timedout", "it gives no answer in time"}, {"certificate", "its certificate is not trusted"},
	} {
		if strings.Contains(text, x.words) {
			return x.means
		}
	}
	return "it does not answer"
}
