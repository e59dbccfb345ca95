package ui

import (
	"fmt"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"

	"dravit/internal/cause"
	"dravit/internal/requests"
)

// failedPages says how many pages failed lately. What they fail of, a diagnosis says.
func (u *UI) failedPages(open []requests.Failure) {
	if len(open) == 0 {
		return
	}
	u.say("")
	u.say(u.paint(yellow, plural(len(open), "page")+" failed in the last 10 minutes") +
		u.dim(", the last one "+duration(time.Since(open[0].Last))+" ago: dravit diagnose says why"))
}

// PageFailed writes that a page has failed, and why.
func (u *UI) PageFailed(f requests.Failure) { u.say(u.pageFailed(f)) }

func (u *UI) pageFailed(f requests.Failure) string {
	return u.paint(red, f.Last.Local().Format("15:04:05")+"  "+printable(f.Method+" "+f.Path)+" failed") +
		"  " + u.paint(yellow, string(f.Cause)) + "  " + printable(f.What) + u.dim(place(f))
}

func place(f requests.Failure) string {
	if f.Place == "" {
		return ""
	}
	return " (" + printable(f.Place) + ")"
}

// RequestHead writes what stands in the columns of Request.
func (u *UI) RequestHead(width int) {
	u.say(u.dim(fmt.Sprintf("%-12s  %-*s  status  %8s  %8s  request", "time", width, "site", "took", "bytes")))
}

// Request writes one request. width is that of the column with the site, why says why it failed, or is "".
func (u *UI) Request(r requests.Request, width int, why cause.ID) {
	status := fmt.Sprint(r.Status)
	because := ""
	if why != "" {
		because = "  " + u.paint(yellow, string(why))
	}
	switch {
	case r.Status == 0 && r.Left:
		status = u.dim("left")
	case r.Failed() && r.Status == 0:
		status = u.paint(red, "none")
	case r.Failed():
		status = u.paint(red, status)
	case r.Status >= 400:
		status = u.paint(yellow, status)
	}
	status += strings.Repeat(" ", len("status")-ansi.StringWidth(status))
	u.say(u.dim(r.At.Local().Format("15:04:05.000")+"  "+fmt.Sprintf("%-*s", width, r.Site)) + "  " + status + "  " +
		fmt.Sprintf("%8s  %8s  ", milliseconds(r.MS), pageBytes(r.Bytes)) + printable(r.Method+" "+r.Path) + because)
}

// pageBytes returns the size of a page for people.
func pageBytes(n int64) string {
	if n < 1000 {
		return fmt.Sprintf("%d B", n)
	}
	return bytesText(n)
}
