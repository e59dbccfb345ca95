package report

import (
	"cmp"
	"fmt"
	"html"
	"math"
	"slices"
	"strings"
	"time"

	"dravit/internal/kind"
	"dravit/internal/lifecycle"
	"dravit/internal/stack"
)

// colours are the report's colours: light, dark and printed.
const colours = `
:root, svg {
  --paper: #fbfaf7; --ink: #20262b; --soft: #66707a; --line: #dcd9d0; --box: #ffffff; --mark: #0f6b6b;
  --good: #2f7d4f; --bad: #b3392f; --fair: #8f6a12;
  --waiting: #d8d4c8; --preparing: #c9b27c; --starting: #7fa8b8; --answering: #0f6b6b;
}
@media (prefers-color-scheme: dark) { :root, svg {
  --paper: #16191c; --ink: #e4e6e8; --soft: #98a1a8; --line: #2e3439; --box: #1e2327; --mark: #63c2bd;
  --good: #74c48f; --bad: #ef8d84; --fair: #dcb75b;
  --waiting: #39404a; --preparing: #8a7440; --starting: #45707f; --answering: #63c2bd;
} }
@media print { :root, svg {
  --paper: #ffffff; --ink: #000000; --soft: #444444; --line: #bbbbbb; --box: #ffffff; --mark: #0f6b6b;
  --good: #2f7d4f; --bad: #b3392f; --fair: #8f6a12;
  --waiting: #dddddd; --preparing: #c9b27c; --starting: #7fa8b8; --answering: #0f6b6b;
} }
svg text { fill: var(--ink); font-size: 13px; } svg .soft { fill: var(--soft); font-size: 12px; }
svg .name { font-weight: 600; }
svg .box { fill: var(--box); stroke: var(--line); }
svg .edge { fill: none; stroke: var(--soft); stroke-width: 1.4; } svg .axis { stroke: var(--line); }
svg .good { fill: var(--good); } svg .bad { fill: var(--bad); } svg .fair { fill: var(--fair); }
svg .waiting { fill: var(--waiting); } svg .preparing { fill: var(--preparing); }
svg .starting { fill: var(--starting); } svg .answering { fill: var(--answering); }
`

const width = 1080

type canvas struct{ strings.Builder }

func (c *canvas) text(x, y float64, class, anchor, text string) {
	fmt.Fprintf(c, `<text x="%.1f" y="%.1f" class="%s" text-anchor="%s">%s</text>`, x, y, class,
		anchor, html.EscapeString(text))
}

// cut shortens a text to most characters.
func cut(text string, most int) string {
	if r := []rune(text); len(r) > most {
		return string(r[:most-1]) + "…"
	}
	return text
}

func (c *canvas) close(height float64, title string) string {
	return fmt.Sprintf(`<svg viewBox="0 0 %d %.0f" role="img" aria-label="%s">%s</svg>`, width, height,
		html.EscapeString(title), c.String())
}

func class(s lifecycle.State) string {
	switch s {
	case lifecycle.Answers:
		return "good"
	case lifecycle.Failed, lifecycle.Unwell:
		return "bad"
	}
	return "fair"
}

// node is a box of the topology.
type node struct {
	id, name, what, where string
	state                 lifecycle.State
	x, y                  float64
}

const (
	boxWidth, boxHeight = 189.0, 62.0
	rowGap, columnGap   = 16.0, 32.5
	headRoom            = 28.0
)

// topology draws which asks which: sites, gateway, web servers, runtimes, stores.
func topology(d Data) string {
	g := &graph{nodes: map[string]*node{}, drawn: map[string]bool{}}
	g.addNodes(d)
	height := g.layOut()
	if height == 0 {
		return ""
	}
	for _, s := range d.Spec.Sites {
		g.edge("site."+s.Name, "gateway")
		g.edge("gateway", s.Server)
		if s.App != "" {
			g.edge(s.Server, s.App)
		}
	}
	for _, p := range d.Spec.Parts {
		for _, use := range p.Uses {
			g.edge(p.Name, use)
		}
	}
	g.drawNodes()
	return g.close(height, "Topology of the stack "+d.Spec.Name)
}

// graph is the topology while it is drawn: boxes in columns, with lines between them.
type graph struct {
	canvas
	columns [len(columnTitles)][]*node
	nodes   map[string]*node // by id
	drawn   map[string]bool  // the edges, as "from>to"
}

var columnTitles = [...]string{"sites", "gateway", "web servers", "runtimes and servers", "stores"}

func (g *graph) add(column int, n node) {
	g.columns[column] = append(g.columns[column], &n)
	g.nodes[n.id] = &n
}

func (g *graph) addNodes(d Data) {
	for _, s := range d.Spec.Sites {
		what := strings.TrimPrefix(strings.TrimSuffix(s.URL, "/"), "http://")
		if s.NetworkPort != 0 {
			what = fmt.Sprintf("also for others, port %d", s.NetworkPort)
		}
		g.add(0, node{id: "site." + s.Name, name: s.Name, what: what, where: "and HTTPS", state: d.siteState(s.Name)})
	}
	if len(d.Spec.Sites) > 0 {
		where := fmt.Sprintf("ports %d, %d", d.Spec.HTTPPort, d.Spec.HTTPSPort)
		g.add(1, node{
			id:    "gateway",
			name:  "gateway",
			what:  "Dravit " + d.Version,
			where: where,
			state: d.gatewayState(),
		})
	}
	for _, p := range d.Spec.Parts {
		column := 3
		switch {
		case p.Role == kind.RoleWeb:
			column = 2
		case p.Role.Store():
			column = 4
		}
		where := "a file"
		switch {
		case p.Outside != "":
			where = "outside, " + p.Address()
		case p.Want.Worker():
			where = "no port"
		case p.Port != 0 && p.Socket != "":
			where = fmt.Sprintf("socket and port %d", p.Port)
		case p.Port != 0:
			where = fmt.Sprintf("port %d", p.Port)
		case p.Socket != "":
			where = "socket"
		}
		what := strings.TrimSpace(p.Kind + " " + p.Version)
		g.add(column, node{id: p.Name, name: p.Name, what: what, where: where, state: d.stateOf(p.Name)})
	}
}

// gatewayState returns answers if a check reached the gateway for any site, and stopped otherwise.
func (d Data) gatewayState() lifecycle.State {
	for _, s := range d.Checked.Sites {
		for _, r := range s.Rungs {
			if r.Rung == kind.Reaches && r.Holds != nil && *r.Holds {
				return lifecycle.Answers
			}
		}
	}
	return lifecycle.Stopped
}

// layOut places the nodes and returns the height of the drawing, 0 if there are none.
func (g *graph) layOut() float64 {
	most := 0
	for _, column := range g.columns {
		most = max(most, len(column))
	}
	if most == 0 {
		return 0
	}
	height := headRoom + float64(most)*(boxHeight+rowGap)
	for i, column := range g.columns {
		free := height - headRoom - float64(len(column))*(boxHeight+rowGap)
		for j, n := range column {
			n.x, n.y = float64(i)*(boxWidth+columnGap), headRoom+free/2+float64(j)*(boxHeight+rowGap)
		}
	}
	return height
}

// edge draws a line between two nodes, unless it was drawn before or a node is missing.
func (g *graph) edge(from, to string) {
	a, b := g.nodes[from], g.nodes[to]
	if a == nil || b == nil || g.drawn[from+">"+to] {
		return
	}
	g.drawn[from+">"+to] = true
	x1, y1, x2, y2 := a.x+boxWidth, a.y+boxHeight/2, b.x, b.y+boxHeight/2
	bend1, bend2 := x1+(x2-x1)/2, x2-(x2-x1)/2
	if x2 < x1 { // to the same column, or back
		x2 = b.x + boxWidth
		bend1, bend2 = x1+26, x2+26
	}
	fmt.Fprintf(g, `<path class="edge" d="M%.1f %.1f C%.1f %.1f %.1f %.1f %.1f %.1f"/>`,
		x1, y1, bend1, y1, bend2, y2, x2, y2)
}

func (g *graph) drawNodes() {
	for i, column := range g.columns {
		if len(column) > 0 {
			g.text(float64(i)*(boxWidth+columnGap), 14, "soft", "start", columnTitles[i])
		}
		for _, n := range column {
			fmt.Fprintf(g, `<g><rect class="box" x="%.1f" y="%.1f" width="%.0f" height="%.0f" rx="5"/>`,
				n.x, n.y, boxWidth, boxHeight)
			fmt.Fprintf(g, `<rect class="%s" x="%.1f" y="%.1f" width="4" height="%.0f" rx="2"/>`,
				class(n.state), n.x, n.y, boxHeight)
			g.text(n.x+14, n.y+20, "name", "start", cut(n.name, 13))
			g.text(n.x+boxWidth-10, n.y+20, class(n.state), "end", string(n.state))
			g.text(n.x+14, n.y+37, "soft", "start", cut(n.what, 28))
			g.text(n.x+14, n.y+53, "soft", "start", cut(n.where, 28))
			g.WriteString("</g>")
		}
	}
}

// timeline draws the last start: a bar for each part, until it answered.
func timeline(d Data) string {
	if len(d.Starts) == 0 {
		return ""
	}
	last := d.Starts[len(d.Starts)-1]
	const left, row, top = 150.0, 30.0, 34.0
	names := slices.Clone(last.Begun)
	end := float64(max(last.Took, 1))
	begin := func(name string) time.Time {
		if spans := last.Spans[name]; len(spans) > 0 {
			return spans[0].From
		}
		return last.At
	}
	slices.SortStableFunc(names, func(a, b string) int { return begin(a).Compare(begin(b)) })
	scale := (width - left - 90) / end
	var c canvas
	step := tick(end)
	height := top + float64(len(names))*row + 34
	for ms := 0.0; ms <= end; ms += step {
		x := left + ms*scale
		fmt.Fprintf(&c, `<line class="axis" x1="%.1f" y1="%.1f" x2="%.1f" y2="%.1f"/>`, x, top-8, x, height-30)
		c.text(x, 16, "soft", "middle", milliseconds(ms))
	}
	for i, name := range names {
		y := top + float64(i)*row
		c.text(0, y+15, "name", "start", cut(name, 18))
		done := 0.0
		for _, s := range last.Spans[name] {
			from, to := float64(s.From.Sub(last.At).Microseconds())/1000, float64(s.To.Sub(last.At).Microseconds())/1000
			if s.To.IsZero() {
				to = end
			}
			done = max(done, to)
			title := fmt.Sprintf("%s: %s %s, from %s to %s", name, s.Phase, s.For, milliseconds(from), milliseconds(to))
			fmt.Fprintf(&c, `<rect class="%s" x="%.1f" y="%.1f" width="%.1f" height="20"><title>%s</title></rect>`,
				s.Phase, left+from*scale, y, max(1, (to-from)*scale), html.EscapeString(title))
			if s.For != "" && (to-from)*scale > 60 {
				c.text(left+(from+to)/2*scale, y+14, "soft", "middle", "for "+cut(s.For, 12))
			}
		}
		c.text(left+done*scale+6, y+15, "soft", "start", milliseconds(done))
	}
	x := left
	for _, phase := range []lifecycle.Phase{lifecycle.PhaseWaiting, lifecycle.PhasePreparing,
		lifecycle.PhaseStarting, lifecycle.PhaseAnswering} {
		fmt.Fprintf(&c, `<rect class="%s" x="%.1f" y="%.1f" width="12" height="12"/>`, phase, x, height-17)
		c.text(x+18, height-7, "soft", "start", string(phase))
		x += 110
	}
	return c.close(height, "The last start of the stack "+d.Spec.Name)
}

// tick returns a round distance between the marks of an axis, so that there are at most eight.
func tick(end float64) float64 {
	raw := end / 8
	power := math.Pow(10, math.Floor(math.Log10(raw)))
	for _, m := range []float64{1, 2, 5, 10} {
		if m*power >= raw {
			return m * power
		}
	}
	return 10 * power
}

// history draws how long the last starts of the whole stack took.
func history(d Data) string {
	var whole []stack.StartRecord
	for _, s := range d.Starts {
		if s.All {
			whole = append(whole, s)
		}
	}
	if len(whole) == 0 {
		return ""
	}
	longest := slices.MaxFunc(whole, func(a, b stack.StartRecord) int { return cmp.Compare(a.Took, b.Took) }).Took
	const left, top, high = 60.0, 12.0, 110.0
	var c canvas
	step := tick(float64(max(longest, 1)) * 2)
	for ms := 0.0; ms <= float64(longest); ms += step {
		y := top + high - ms/float64(longest)*high
		fmt.Fprintf(&c, `<line class="axis" x1="%.1f" y1="%.1f" x2="%d" y2="%.1f"/>`, left, y, width, y)
		c.text(left-8, y+4, "soft", "end", milliseconds(ms))
	}
	bar := math.Min(28, (width-left)/float64(len(whole)))
	for i, s := range whole {
		tall := math.Max(1, float64(s.Took)/float64(max(longest, 1))*high)
		fmt.Fprintf(&c, `<rect class="answering" x="%.1f" y="%.1f" width="%.1f" height="%.1f"><title>%s: `+
			`%s</title></rect>`, left+float64(i)*bar+1, top+high-tall, bar-2, tall,
			s.At.Local().Format("2006-01-02 15:04"), milliseconds(float64(s.Took)))
	}
	c.text(left, top+high+18, "soft", "start", whole[0].At.Local().Format("2 January 15:04"))
	if len(whole) > 1 {
		c.text(math.Max(left+float64(len(whole))*bar, left+260), top+high+18, "soft", "end",
			whole[len(whole)-1].At.Local().Format("2 January 15:04"))
	}
	return c.close(top+high+26, "How long the last starts took")
}
