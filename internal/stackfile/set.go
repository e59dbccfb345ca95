package stackfile

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"dravit/internal/confined"
)

// Change is a key of the stack file with another value.
type Change struct {
	// Table is the path of its table: part.app, part.app.settings, env; "" is the file's top.
	Table string `json:"table"`
	Key   string `json:"key"`
	// Value is a text, a number, a bool, a list of texts, or a table of those.
	Value any `json:"value"`
}

// TOML returns the change as a stack file of its own would say it.
func (c Change) TOML() []string {
	line := c.Key + " = " + valueText(c.Value)
	if c.Table == "" {
		return []string{line}
	}
	return []string{"[" + c.Table + "]", line}
}

// valueText returns a value as TOML (toml.io, 1.0.0).
func valueText(v any) string {
	switch v := v.(type) {
	case string:
		return strconv.Quote(v)
	case []string:
		quoted := make([]string, len(v))
		for i, s := range v {
			quoted[i] = strconv.Quote(s)
		}
		return "[" + strings.Join(quoted, ", ") + "]"
	case map[string]any:
		var keys, all []string
		for k := range v {
			keys = append(keys, k)
		}
		slices.Sort(keys)
		for _, k := range keys {
			all = append(all, k+" = "+valueText(v[k]))
		}
		return "{ " + strings.Join(all, ", ") + " }"
	}
	return fmt.Sprint(v)
}

// Set returns the stack file with changes. It keeps everything else: comments, order and spaces. It changes that of the
// two files which has the key already, else the project's. It writes nothing; the error says why the file cannot be
// edited, or is none any more with the change.
func Set(dir string, changes []Change, words Vocabulary) ([]Edit, error) {
	texts, was := map[string][]byte{}, map[string][]byte{}
	for _, name := range []string{Name, LocalName} {
		text, err := confined.ReadFile(dir, name, maxFile)
		if err != nil && (name == Name || !errors.Is(err, os.ErrNotExist)) {
			return nil, err
		}
		texts[name], was[name] = text, text
	}
	for _, c := range changes {
		name := Name
		if found, err := places(LocalName, texts[LocalName]); err == nil {
			if _, ok := found[join(c.Table, c.Key)]; ok {
				name = LocalName
			}
		}
		out, err := set(name, texts[name], c)
		if err != nil {
			return nil, err
		}
		texts[name] = out
	}
	if _, err := Parse(filepath.Base(dir), texts[Name], texts[LocalName], words); err != nil {
		return nil, notEditable(err.Error())
	}
	var edits []Edit
	for _, name := range []string{Name, LocalName} {
		if !bytes.Equal(texts[name], was[name]) {
			edits = append(edits, Edit{name, texts[name]})
		}
	}
	return edits, nil
}

// set makes a change in a text, and checks that it is the only one.
func set(name string, text []byte, c Change) ([]byte, error) {
	found, err := places(name, text)
	if err != nil {
		return nil, err
	}
	path := join(c.Table, c.Key)
	line := c.Key + " = " + valueText(c.Value)
	var out []byte
	if at, ok := found[path]; ok && at.value > 0 {
		out = slices.Concat(text[:at.value], []byte(valueText(c.Value)), text[at.end:])
	} else if out, err = insert(text, found, c, line); err != nil {
		return nil, err
	}
	want, err := withKey(text, c)
	if err != nil {
		return nil, err
	}
	var got map[string]any
	if err := toml.Unmarshal(out, &got); err != nil || !reflect.DeepEqual(got, want) {
		return nil, notEditable("the change of " + path + " would change more")
	}
	return out, nil
}

// insert adds a line to a table, which it makes if the file has none.
func insert(text []byte, found map[string]place, c Change, line string) ([]byte, error) {
	if c.Table == "" {
		at := firstTable(text)
		return slices.Concat(text[:at], []byte(line+"\n"), gap(text[at:]), text[at:]), nil
	}
	table, ok := found[c.Table]
	switch {
	case ok && table.value > 0 && text[table.value] == '{': // in one line
		end := bytes.LastIndexByte(text[:table.end], '}')
		if end < table.value {
			return nil, notEditable(c.Table)
		}
		inside := strings.TrimSpace(string(text[table.value+1 : end]))
		if inside != "" {
			inside += ", "
		}
		return slices.Concat(text[:table.value], []byte("{ "+inside+line+" }"), text[end+1:]), nil
	case ok && strings.TrimSpace(table.text) != "" && strings.HasPrefix(strings.TrimSpace(table.text), "["):
		after := table.line
		if kind, ok := found[c.Table+".kind"]; ok && kind.value > 0 { // a part begins with its kind
			after = 1 + bytes.Count(text[:kind.end], []byte("\n"))
		}
		return afterLine(text, after, line), nil
	}
	// a table below a part goes into the part's own, in one line
	if base, key, nested := cutLast(c.Table); nested && !ok {
		if at, has := found[base]; has && (at.value > 0 || strings.HasPrefix(strings.TrimSpace(at.text),
			"["+base+"]")) {
			return insert(text, found, Change{Table: base, Key: key}, key+" = { "+line+" }")
		}
	}
	if ok {
		return nil, notEditable(c.Table + " is written in parts")
	}
	end := ""
	if len(text) > 0 && text[len(text)-1] != '\n' {
		end = "\n"
	}
	return slices.Concat(text, []byte(end+"\n["+c.Table+"]\n"+line+"\n")), nil
}

func cutLast(path string) (base, key string, ok bool) {
	i := strings.LastIndexByte(path, '.')
	if i < 0 {
		return "", path, false
	}
	return path[:i], path[i+1:], true
}

// afterLine adds a line after the one with a number, which counts from 1, with its indentation.
func afterLine(text []byte, number int, line string) []byte {
	at := 0
	for range number {
		i := bytes.IndexByte(text[at:], '\n')
		if i < 0 {
			return slices.Concat(text, []byte("\n"+line+"\n"))
		}
		at += i + 1
	}
	return slices.Concat(text[:at], []byte(line+"\n"), text[at:])
}

// firstTable returns the offset before the first table, and before the comments and empty lines in front of it.
func firstTable(text []byte) int {
	at, before := 0, 0
	for line := range bytes.Lines(text) {
		trimmed := bytes.TrimSpace(line)
		if bytes.HasPrefix(trimmed, []byte("[")) {
			return before
		}
		at += len(line)
		if len(trimmed) > 0 && trimmed[0] != '#' {
			before = at
		}
	}
	return at
}

// gap returns an empty line unless there is one.
func gap(rest []byte) []byte {
	if len(rest) == 0 || rest[0] == '\n' || rest[0] == '\r' {
		return nil
	}
	return []byte("\n")
}

// withKey returns a document with a change.
func withKey(text []byte, c Change) (map[string]any, error) {
	doc := map[string]any{}
	if err := toml.Unmarshal(text, &doc); err != nil {
		return nil, err
	}
	at := doc
	if c.Table != "" {
		for key := range strings.SplitSeq(c.Table, ".") {
			next, ok := at[key].(map[string]any)
			if !ok {
				if at[key] != nil {
					return nil, notEditable(c.Table + " is no table")
				}
				next = map[string]any{}
				at[key] = next
			}
			at = next
		}
	}
	var value map[string]any
	if err := toml.Unmarshal([]byte("x = "+valueText(c.Value)), &value); err != nil {
		return nil, err
	}
	at[c.Key] = value["x"]
	return doc, nil
}
