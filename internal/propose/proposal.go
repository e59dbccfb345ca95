// Package propose looks at a folder and proposes its stack file. It reads the folder's own files, within limits, and
// runs nothing of it.
package propose

import (
	"fmt"
	"maps"
	"slices"
	"strings"
)

// Certainty says how sure a line of a proposal is.
type Certainty string

const (
	Certain Certainty = "certain" // a manifest, a lock file or the code says so
	Likely  Certainty = "likely"  // configuration says so, or the usual place of a file
	Unsure  Certainty = "unsure"  // somebody should look at it
)

// Evidence is what a line of a proposal follows from.
type Evidence struct {
	File string `json:"file"`           // relative to the folder; "": what is usual, or the folder itself
	Line int    `json:"line,omitempty"` // 0: the file as a whole
	Says string `json:"says"`           // requires pdo_mysql
}

func (e Evidence) String() string {
	if e.File == "" {
		return e.Says
	}
	if e.Line > 0 {
		return fmt.Sprintf("%s:%d %s", e.File, e.Line, e.Says)
	}
	return e.File + " " + e.Says
}

// Line is one line of the proposed file.
type Line struct {
	Key string `json:"key"`
	// Value is a string, a bool, a list of strings, or a table of them.
	Value     any        `json:"value"`
	Evidence  []Evidence `json:"evidence"`
	Certainty Certainty  `json:"certainty"`
}

// Table is one table of the proposed file: [part.app], [[site]].
type Table struct {
	// Path is part.app, site, task, env, requires, or "" for the top of the file.
	Path  string `json:"path"`
	Lines []Line `json:"lines"`
	// Notes stand above the table in the file.
	Notes []string `json:"notes,omitempty"`
}

func (t *Table) add(key string, value any, c Certainty, evidence ...Evidence) {
	t.Lines = append(t.Lines, Line{key, value, evidence, c})
}

// Proposal is a proposed stack file.
type Proposal struct {
	// Shape is what the folder looks like: Django, plain files.
	Shape  string  `json:"shape"`
	Tables []Table `json:"tables"`
	// Wishes are the extensions that the code would use, and can do without.
	Wishes []string `json:"-"`
	// Notes are what a reader should know: evidence that lost, what is not sure, what has to be done by hand.
	Notes []string `json:"notes"`
}

// table returns the table of a path, which it adds if it is missing.
func (p *Proposal) table(path string) *Table {
	for i := range p.Tables {
		if p.Tables[i].Path == path {
			return &p.Tables[i]
		}
	}
	return p.append(path)
}

// append adds another table.
func (p *Proposal) append(path string) *Table {
	p.Tables = append(p.Tables, Table{Path: path})
	return &p.Tables[len(p.Tables)-1]
}

func (p *Proposal) note(format string, values ...any) {
	p.Notes = append(p.Notes, fmt.Sprintf(format, values...))
}

// Text returns the proposed file. Every text that comes from the folder is escaped.
func (p *Proposal) Text() string {
	var b strings.Builder
	b.WriteString(
		"# Proposed by dravit propose from what is in this folder. Each line says what it follows from.\n",
	)
	for _, n := range p.Notes {
		comment(&b, n)
	}
	for _, t := range p.Tables {
		b.WriteString("\n" + t.Text())
	}
	return b.String()
}

// Text returns the table as the file has it.
func (t Table) Text() string {
	var b strings.Builder
	for _, n := range t.Notes {
		comment(&b, n)
	}
	switch t.Path {
	case "":
	case "site", "task":
		b.WriteString("[[" + t.Path + "]]\n")
	default:
		b.WriteString("[" + t.Path + "]\n")
	}
	for _, l := range t.Lines {
		writeLine(&b, l)
	}
	return b.String()
}

// commentColumn is where the comments of lines begin, if the lines leave room.
const commentColumn = 40

func writeLine(b *strings.Builder, l Line) {
	text := l.Key + " = " + literal(l.Value)
	var said []string
	for _, e := range l.Evidence {
		said = append(said, plain(e.String()))
	}
	if n := len(said); l.Certainty == Unsure && n > 0 {
		said[n-1] += "; unsure"
	}
	beside := strings.Join(said, "; ")
	switch gap := max(1, commentColumn-len(text)); {
	case beside == "":
	case len(text)+gap+len(beside) <= width && len(said) <= 3:
		text += strings.Repeat(" ", gap) + "# " + beside
	default:
		for _, s := range said {
			comment(b, s)
		}
	}
	b.WriteString(text + "\n")
}

// width is the longest line of a note.
const width = 100

func comment(b *strings.Builder, text string) {
	line := "#"
	for _, w := range strings.Fields(plain(text)) {
		if len(line)+1+len(w) > width && line != "#" {
			b.WriteString(line + "\n")
			line = "#"
		}
		line += " " + w
	}
	b.WriteString(line + "\n")
}

// plain replaces what a comment of TOML must not hold.
func plain(text string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f || r >= 0x80 && r < 0xa0 {
			return ' '
		}
		return r
	}, strings.ToValidUTF8(text, "?"))
}

// literal writes a value as TOML (toml.io, "String").
func literal(value any) string {
	switch v := value.(type) {
	case bool:
		return fmt.Sprint(v)
	case []string:
		var all []string
		for _, s := range v {
			all = append(all, quote(s))
		}
		return "[" + strings.Join(all, ", ") + "]"
	case map[string]string:
		var all []string
		for _, key := range slices.Sorted(maps.Keys(v)) {
			all = append(all, key+" = "+quote(v[key]))
		}
		return "{ " + strings.Join(all, ", ") + " }"
	case string:
		return quote(v)
	}
	return fmt.Sprint(value)
}

func quote(s string) string {
	var b strings.Builder
	b.WriteByte('"')
	for _, r := range strings.ToValidUTF8(s, "?") {
		switch {
		case r == '"' || r == '\\':
			b.WriteByte('\\')
			b.WriteRune(r)
		case r < ' ' || r == 0x7f || r >= 0x80 && r < 0xa0:
			fmt.Fprintf(&b, `\u%04X`, r)
		default:
			b.WriteRune(r)
		}
	}
	b.WriteByte('"')
	return b.String()
}
