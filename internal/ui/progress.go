package ui

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"

	"dravit/internal/lifecycle"
	"dravit/internal/stack"
	"dravit/internal/trouble"
)

// Progress shows a start under way.
type Progress struct {
	u     *UI
	began time.Time
	said  map[string]lifecycle.State
	busy  map[string]string
	tick  *time.Ticker
	stage lifecycle.Stage
	lines chan any // a lifecycle.Progress or a stack.TaskEvent
	ended chan struct{}
	task  string // the task that runs, or ""
}

// Progress begins to show a start. End must be called.
func (u *UI) Progress() *Progress {
	p := &Progress{u: u, began: time.Now(),
		said: map[string]lifecycle.State{},
		busy: map[string]string{}, tick: time.NewTicker(100 * time.Millisecond),
		lines: make(chan any), ended: make(chan struct{})}
	go p.run()
	return p
}

// Report shows one change.
func (p *Progress) Report(e lifecycle.Progress) { p.lines <- e }

// Task shows one step of a task.
func (p *Progress) Task(e stack.TaskEvent) { p.lines <- e }

// End stops showing progress.
func (p *Progress) End() {
	close(p.lines)
	<-p.ended
	p.tick.Stop()
}

func (p *Progress) run() {
	defer close(p.ended)
	for {
		select {
		case e, ok := <-p.lines:
			p.erase()
			if !ok {
				return
			}
			switch e := e.(type) {
			case lifecycle.Progress:
				if e.Stage != "" {
					p.stage = e.Stage
				}
				if e.Part != nil {
					p.take(*e.Part)
				}
			case stack.TaskEvent:
				p.takeTask(e)
			}
		case <-p.tick.C:
			p.show()
		}
	}
}

// take writes a line for each part that has settled, and shows the others in the last line.
func (p *Progress) take(s lifecycle.Status) {
	if s.State == lifecycle.Answers && s.Since.Before(p.began) {
		return // it was running before
	}
	switch s.State {
	case lifecycle.Answers, lifecycle.Failed, lifecycle.Unwell, lifecycle.Pausing:
		delete(p.busy, s.Name)
		if p.said[s.Name] == s.State {
			return
		}
		p.said[s.Name] = s.State
		fmt.Fprintf(p.u.Err, "%s  %-12s  %-20s  %s\n", p.u.dim(fmt.Sprintf("%7s", duration(time.Since(p.began)))),
			s.Name, strings.TrimSpace(s.Kind+" "+s.Version), p.u.state(s.State))
	default:
		p.busy[s.Name] = string(s.State)
	}
}

// takeTask writes a line of a task's output on a terminal, and a line for its end.
func (p *Progress) takeTask(e stack.TaskEvent) {
	p.task = e.Task
	switch {
	case e.Ended != nil:
		p.task = ""
		state := p.u.paint(green, "done")
		if e.Ended.Failed() {
			state = p.u.paint(red, "failed")
		}
		fmt.Fprintf(p.u.Err, "%s  %-12s  %-20s  %s\n", p.u.dim(fmt.Sprintf("%7s", duration(time.Since(p.began)))),
			e.Task, "task", state)
	case e.Size > 0:
		p.task = fmt.Sprintf("%s (%d %% of %s)", e.Task, 100*e.Done/e.Size, bytesText(e.Size))
	case p.u.live:
		fmt.Fprintf(p.u.Err, "%s  %s\n", p.u.dim(fmt.Sprintf("%7s  %-12s", "", e.Task)),
			ansi.Truncate(printable(e.Line), max(20, Width()-25), "..."))
	}
}

func (p *Progress) show() {
	if !p.u.live || len(p.busy) == 0 && p.stage != lifecycle.StageSites && p.task == "" {
		return
	}
	words := []string{}
	if p.task != "" {
		words = append(words, "running "+p.task)
	} else if len(p.busy) == 0 {
		words = append(words, "asking the sites")
	}
	for _, name := range slices.Sorted(maps.Keys(p.busy)) {
		words = append(words, p.busy[name]+" "+name)
	}
	text := fmt.Sprintf("%7s  %s", duration(time.Since(p.began)), trouble.List(words))
	if len(text) > 79 {
		text = text[:76] + "..."
	}
	p.erase()
	fmt.Fprint(p.u.Err, p.u.dim(text))
}

func (p *Progress) erase() {
	if p.u.live {
		fmt.Fprint(p.u.Err, eraseLine())
	}
}
