package report

import (
	"encoding/xml"
	"fmt"

	"dravit/internal/health"
	"dravit/internal/kind"
	"dravit/internal/stack"
)

// The JUnit report has a suite for each part and site, with a case for each rung. An advisory rung is no failure.
type junitSuites struct {
	XMLName xml.Name     `xml:"testsuites"`
	Suites  []junitSuite `xml:"testsuite"`
}

type junitSuite struct {
	Name     string      `xml:"name,attr"`
	Tests    int         `xml:"tests,attr"`
	Failures int         `xml:"failures,attr"`
	Skipped  int         `xml:"skipped,attr"`
	Time     string      `xml:"time,attr"` // seconds
	Cases    []junitCase `xml:"testcase"`
}

type junitCase struct {
	Class   string        `xml:"classname,attr"`
	Name    string        `xml:"name,attr"`
	Time    string        `xml:"time,attr"`
	Failure *junitFailure `xml:"failure,omitempty"`
	Skipped *struct{}     `xml:"skipped,omitempty"`
}

type junitFailure struct {
	Message string `xml:"message,attr"`
}

// JUnit returns the result of a check in the form that build servers read.
func JUnit(name string, c stack.Checked) string {
	var all junitSuites
	add := func(class string, rungs []health.Result) {
		s := junitSuite{Name: class, Tests: len(rungs)}
		sum := 0.0
		for _, r := range rungs {
			x := junitCase{Class: class, Name: string(r.Rung), Time: fmt.Sprintf("%.4f", r.MS/1000)}
			sum += r.MS
			switch {
			case r.Holds == nil || !*r.Holds && r.Advisory:
				x.Skipped = &struct{}{}
				s.Skipped++
			case !*r.Holds:
				x.Failure = &junitFailure{"expected " + r.Expected + ", got " + r.Got}
				s.Failures++
			}
			s.Cases = append(s.Cases, x)
		}
		s.Time = fmt.Sprintf("%.4f", sum/1000)
		all.Suites = append(all.Suites, s)
	}
	for _, p := range c.Parts {
		add(name+".part."+p.Name, p.Rungs)
	}
	for _, x := range c.Sites {
		add(name+".site."+x.Name, x.Rungs)
	}
	for _, d := range c.DeepChecks {
		add(name+"."+d.Subject.String()+".deep", []health.Result{{
			Rung:     kind.RungName(d.Check),
			Holds:    d.Holds,
			MS:       d.MS,
			Expected: d.Expected,
			Got:      d.Got,
		}})
	}
	text, _ := xml.MarshalIndent(all, "", "  ") // plain texts and numbers cannot fail
	return xml.Header + string(text) + "\n"
}
