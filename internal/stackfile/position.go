package stackfile

import (
	"bytes"
	"fmt"
	"strings"

	"github.com/pelletier/go-toml/v2/unstable"
)

// place is where a key stands. Lines and columns count from 1, columns in bytes.
type place struct {
	file      string
	line, col int
	text      string // of the line

	// Of a key with a value, in bytes from the beginning of the file: the last part of the key, the value, and its end.
	start, value, end int
	elements          []element // of the value, if it is a list
}

// element is one entry of a list: where it stands in the file, in bytes, and its text, if it is one.
type element struct {
	start, end int
	text       string
}

// places finds where every key of a document stands, under its path: "part.app.version", "site.0.name".
func places(file string, data []byte) (map[string]place, error) {
	found := map[string]place{}
	lines := strings.Split(string(data), "\n")
	p := unstable.Parser{}
	p.Reset(data)
	at := func(n *unstable.Node) place {
		start := int(n.Raw.Offset)
		line := bytes.Count(data[:start], []byte("\n"))
		col := start - (bytes.LastIndexByte(data[:start], '\n') + 1)
		return place{file: file, line: line + 1, col: col + 1, text: strings.TrimRight(lines[line], "\r")}
	}
	prefix, arrays := "", map[string]int{}
	// keys joins the parts of a dotted key, noting the place of each step.
	keys := func(base string, it unstable.Iterator) string {
		for it.Next() {
			base = join(base, string(it.Node().Data))
			if n, ok := arrays[base]; ok { // inside the newest table of an array
				base = fmt.Sprintf("%s.%d", base, n)
			}
			if _, ok := found[base]; !ok {
				found[base] = at(it.Node())
			}
		}
		return base
	}
	var value func(path string, n *unstable.Node)
	// keyValue notes where the value of a key is, and what is in it.
	keyValue := func(base string, kv *unstable.Node) {
		path := keys(base, kv.Key())
		x := found[path]
		x.start, x.value = around(data, kv.Key())
		x.end = int(kv.Raw.Offset + kv.Raw.Length)
		x.elements = elementsOf(kv.Value())
		found[path] = x
		value(path, kv.Value())
	}
	value = func(path string, n *unstable.Node) {
		children := n.Children()
		switch n.Kind {
		case unstable.InlineTable:
			for children.Next() {
				keyValue(path, children.Node())
			}
		case unstable.Array:
			for i := 0; children.Next(); i++ {
				value(fmt.Sprintf("%s.%d", path, i), children.Node())
			}
		}
	}
	for p.NextExpression() {
		e := p.Expression()
		switch e.Kind {
		case unstable.Table:
			prefix = keys("", e.Key())
		case unstable.ArrayTable:
			path, it := "", e.Key()
			var names []string
			var last *unstable.Node
			for it.Next() {
				last = it.Node()
				names = append(names, string(last.Data))
			}
			for i, name := range names {
				path = join(path, name)
				if n, ok := arrays[path]; ok && i < len(names)-1 {
					path = fmt.Sprintf("%s.%d", path, n)
				}
			}
			n, ok := arrays[path]
			if ok {
				n++
			}
			arrays[path] = n
			prefix = fmt.Sprintf("%s.%d", path, n)
			found[prefix] = at(last)
			if _, ok := found[path]; !ok {
				found[path] = at(last)
			}
		case unstable.KeyValue:
			keyValue(prefix, e)
		}
	}
	return found, p.Error()
}

// around returns the offsets of the last part of a key, and of the value that follows it after an equals sign between
// spaces (TOML 1.0, "Key/Value Pair").
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
