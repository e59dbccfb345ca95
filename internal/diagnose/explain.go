package diagnose

import (
	"fmt"
	"strings"

	"dravit/internal/cause"
	"dravit/internal/kind"
	"dravit/internal/pattern"
)

// Evidence is what is known of a request that may have failed.
type Evidence struct {
	Status int       // of the answer; 0: there was none, or no whole one
	Failed bool      // the server's side failed, whatever the parts wrote
	Parts  []Speaker // the part that ran the application's code first, then the web server, then what it uses
}

// Speaker is a part with what it wrote while a request was answered.
type Speaker struct {
	Spec   kind.Part
	Traits kind.Traits
	Said   string
}

// Explained is why a request failed.
type Explained struct {
	Cause    cause.ID
	What     string
	Remedy   string
	Evidence []string
	Place    string // FILE:LINE of the project's own code, or ""
	Part     string // that said so, or ""
}

// Explain says why a request failed, from what was written while it was answered. fails is false if nothing shows that
// it did: warnings, slow pages and statuses below 500 alone are no failures.
func Explain(e Evidence) (x Explained, fails bool) {
	for i, p := range e.Parts {
		if found, ok := p.explain(e.Failed || i == 0 && p.Spec.Role == kind.RoleRuntime); ok {
			return found, true
		}
	}
	if !e.Failed {
		return Explained{}, false
	}
	return unexplained(e), true
}

// explain finds a symptom in what a part wrote. errors says whether an error of its application's is one, whatever the
// error is.
func (p Speaker) explain(errors bool) (x Explained, ok bool) {
	thrown, threw := exceptionIn(p.Said, p.Spec)
	where := shortPath(p.Spec.Log)
	for _, s := range p.Traits.Symptoms {
		if general[s.Cause] {
			continue
		}
		means, remedy, at := s.Find(p.Said, p.Spec.Name)
		if at < 0 {
			continue
		}
		x = Explained{Cause: s.Cause, What: means, Remedy: remedy, Part: p.Spec.Name, Place: thrown.place,
			Evidence: []string{where + ": " + lineAt(p.Said, at)}}
		if corrected[s.Cause] && x.Place != "" {
			x.Remedy = "correct " + x.Place
		}
		return x.placed(), true
	}
	if !threw || !errors {
		return x, false
	}
	x = Explained{Cause: cause.ApplicationError, What: ownCode + thrown.what,
		Place: thrown.place, Part: p.Spec.Name, Evidence: []string{where + ": " + lineAt(p.Said, thrown.at)},
		Remedy: "correct the code: " + where + " has all that it wrote"}
	if x.Place != "" {
		x.Remedy = "correct " + x.Place
	}
	return x.placed(), true
}

// ownCode is how a sentence about an error of the project's own code begins.
const ownCode = "the application's own code fails: "

// general are causes that say no more than that there was an error.
var general = map[cause.ID]bool{cause.ApplicationError: true}

// corrected are causes that go away when the line is corrected that is their place.
var corrected = map[cause.ID]bool{cause.ApplicationError: true, cause.ScriptSyntax: true}

// placed adds to the evidence where the project's own code is concerned.
func (x Explained) placed() Explained {
	if x.Place != "" {
		x.Evidence = append(x.Evidence, "in "+x.Place)
	}
	return x
}

// Unexplained is the cause of a page that failed without a word.
const Unexplained = cause.PageFailed

// unexplained says what is known of a failure that nothing explains.
func unexplained(e Evidence) Explained {
	x := Explained{Cause: Unexplained,
		What: fmt.Sprintf("a page ends with status %d, and nothing says why", e.Status)}
	switch e.Status {
	case 0:
		x.What = "the application ends without a whole answer, and nothing says why"
	case 502, 503:
		x.What = "the application closes the connection without an answer, and nothing says why"
	case 504:
		x.What = "the application gives no answer in time, and nothing says why"
	}
	for _, p := range e.Parts {
		for _, line := range last(withoutNotes(p.Said), 3) {
			x.Evidence = append(x.Evidence, shortPath(p.Spec.Log)+": "+strings.TrimSpace(line))
		}
		if x.Part == "" && len(x.Evidence) > 0 {
			x.Part = p.Spec.Name
		}
	}
	x.Remedy = "have the application write its errors to its output, then ask for the page again"
	if len(e.Parts) == 0 {
		return x
	}
	app := e.Parts[0]
	if said := last(withoutNotes(app.Said), 1); len(said) > 0 && tells().MatchString(said[0]) {
		x.What = fmt.Sprintf("a page ends with status %d, and the application wrote: %s", e.Status, oneLine(said[0]))
		x.Remedy = "correct what that is about; where the code catches the error, have it write its stack, too"
	}
	return x
}

// tells matches a line of an application's that says what went wrong, rather than what was asked for.
var tells = pattern.New(`(?i)\berror\b|fail|exception|cannot|can't|could not|couldn't|unable|denied|undefined|` +
	`invalid|refused|fatal|missing|not found|unexpected`)

// withoutNotes returns a log without the lines in which the keeper notes when it starts and stops a part.
func withoutNotes(log string) string {
	var b strings.Builder
	for line := range strings.Lines(log) {
		if !strings.HasPrefix(line, "dravit: ") {
			b.WriteString(line)
		}
	}
	return b.String()
}
