package stackfile

import (
	"bytes"
	"fmt"
	"strings"

	"github.com/pelletier/go-toml/v2/unstable"
)

// place says where a key is written. Lines and columns count from 1, columns in bytes.
type place struct {
	file      string
	line, col int
	text      string // the whole line

	// Offsets of a key with a value, in bytes: the last part of the key, the value, and the value's end.
	start, value, end int
	elements          []element // the entries of the value, if that is a list
}

// element is one entry of a list: its offset in bytes, and its text if it is one.
type element struct {
	start, end int
	text       string
}

// places returns where every key of a document is written, by its path: "part.app.version", "site.0.name".
func places(file string, data []byte) (map[string]place, error) {
	l := locator{
		file:   file,
		data:   data,
		lines:  strings.Split(string(data), "\n"),
		found:  map[string]place{},
		arrays: map[string]int{},
	}
	p := unstable.Parser{}
	p.Reset(data)
	table := ""
	for p.NextExpression() {
		e := p.Expression()
		switch e.Kind {
		case unstable.Table:
			table = l.keys("", e.Key())
		case unstable.ArrayTable:
			table = l.arrayTable(e.Key())
		case unstable.KeyValue:
			l.keyValue(table, e)
		}
	}
	return l.found, p.Error()
}

// locator notes the place of every key while the file is parsed from its top.
type locator struct {
	file  string
	data  []byte
	lines []string
	found map[string]place

	// arrays has the index of the newest table of each array of tables.
	arrays map[string]int
}

func (l *locator) at(n *unstable.Node) place {
	start := int(n.Raw.Offset)
	line := bytes.Count(l.data[:start], []byte("\n"))
	col := start - (bytes.LastIndexByte(l.data[:start], '\n') + 1)
	return place{file: l.file, line: line + 1, col: col + 1, text: strings.TrimRight(l.lines[line], "\r")}
}

// keys joins the parts of a dotted key below base, and notes the place of each that is new.
func (l *locator) keys(base string, it unstable.Iterator) string {
	for it.Next() {
		base = join(base, string(it.Node().Data))
		if n, ok := l.arrays[base]; ok { // inside the newest table of an array
			base = fmt.Sprintf("%s.%d", base, n)
		}
		if _, ok := l.found[base]; !ok {
			l.found[base] = l.at(it.Node())
		}
	}
	return base
}

// arrayTable notes a new table of an array and returns its path, which ends with its index.
func (l *locator) arrayTable(it unstable.Iterator) string {
	var names []string
	var last *unstable.Node
	for it.Next() {
		last = it.Node()
		names = append(names, string(last.Data))
	}
	path := ""
	for i, name := range names {
		path = join(path, name)
		if n, ok := l.arrays[path]; ok && i < len(names)-1 {
			path = fmt.Sprintf("%s.%d", path, n)
		}
	}
	n, ok := l.arrays[path]
	if ok {
		n++
	}
	l.arrays[path] = n
	table := fmt.Sprintf("%s.%d", path, n)
	l.found[table] = l.at(last)
	if _, ok := l.found[path]; !ok {
		l.found[path] = l.at(last)
	}
	return table
}

// keyValue notes where the value of a key is, and the keys inside it.
func (l *locator) keyValue(base string, kv *unstable.Node) {
	path := l.keys(base, kv.Key())
	x := l.found[path]
	x.start, x.value = around(l.data, kv.Key())
	x.end = int(kv.Raw.Offset + kv.Raw.Length)
	x.elements = elementsOf(kv.Value())
	l.found[path] = x
	l.value(path, kv.Value())
}

func (l *locator) value(path string, n *unstable.Node) {
	children := n.Children()
	switch n.Kind {
	case unstable.InlineTable:
		for children.Next() {
			l.keyValue(path, children.Node())
		}
	case unstable.Array:
		for i := 0; children.Next(); i++ {
			l.value(fmt.Sprintf("%s.%d", path, i), children.Node())
		}
	}
}

// around returns the offsets of the last part of a key and of the value after it (TOML 1.0, "Key/Value Pair").
func around(data []byte, key unstable.Iterator) (last, value int) {
	end := 0
	for key.Next() {
		raw := key.Node().Raw
		last, end = int(raw.Offset), int(raw.Offset+raw.Length)
	}
	return last, len(data) - len(bytes.TrimLeft(data[end:], " \t="))
}

func elementsOf(list *unstable.Node) []element {
	var all []element
	if list.Kind != unstable.Array {
		return nil
	}
	for children := list.Children(); children.Next(); {
		n := children.Node()
		from := int(n.Raw.Offset)
		all = append(all, element{start: from, end: from + int(n.Raw.Length), text: string(n.Data)})
	}
	return all
}

func join(base, key string) string {
	if base == "" {
		return key
	}
	return base + "." + key
}
