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
	text      string
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
		return place{file, line + 1, col + 1, strings.TrimRight(lines[line], "\r")}
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
	value = func(path string, n *unstable.Node) {
		children := n.Children()
		switch n.Kind {
		case unstable.InlineTable:
			for children.Next() {
				kv := children.Node()
				value(keys(path, kv.Key()), kv.Value())
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
			value(keys(prefix, e.Key()), e.Value())
		}
	}
	return found, p.Error()
}

func join(base, key string) string {
	if base == "" {
		return key
	}
	return base + "." + key
}
