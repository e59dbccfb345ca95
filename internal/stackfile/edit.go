package stackfile

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"dravit/internal/confined"
	"dravit/internal/trouble"

	"github.com/pelletier/go-toml/v2"
)

// notEditable says that a stack file is written in a way that Dravit does not edit.
func notEditable(because string) error {
	return &trouble.Trouble{
		Code:    trouble.NotEditable,
		What:    "the stack file stays as it is",
		Because: "it is written in a way that Dravit does not edit: " + because,
		Next:    "change the part's extensions in " + Name + " by hand",
	}
}

// Edit is a changed text of one of a project's stack files.
type Edit struct {
	File string // Name or LocalName
	Text []byte
}

// EditExtensions returns the stack file with another list of extensions for a part. Everything else stays as it is written: comments, order and
// spaces. Of the two files the one that holds the list is changed. Nothing is written.
func EditExtensions(dir, part, kind string, list []string, words Vocabulary) (Edit, error) {
	return editKey(dir, part, kind, "extensions", list, words)
}

// EditWithout is EditExtensions for the list of extensions that are left out.
func EditWithout(dir, part, kind string, list []string, words Vocabulary) (Edit, error) {
	return editKey(dir, part, kind, "without", list, words)
}

func editKey(dir, part, kind, key string, list []string, words Vocabulary) (Edit, error) {
	for _, name := range []string{LocalName, Name} {
		text, err := confined.ReadFile(dir, name, maxFile)
		if err != nil {
			continue
		}
		found, err := places(name, text)
		if err != nil {
			return Edit{}, err
		}
		for _, path := range []string{"part." + part + "." + kind + "." + key, "part." + part + "." + key} {
			if at, ok := found[path]; ok {
				out, err := editList(text, offsetOf(text, at), list)
				return verified(Edit{name, out}, dir, part, kind, key, list, words, err)
			}
		}
	}
	text, err := confined.ReadFile(dir, Name, maxFile)
	if err != nil {
		return Edit{}, err
	}
	found, err := places(Name, text)
	if err != nil {
		return Edit{}, err
	}
	at, ok := found["part."+part+".kind"]
	if !ok {
		return Edit{}, notEditable(fmt.Sprintf("part %s is not in %s", part, Name))
	}
	// A line of its own after the kind's, which begins as that one does.
	start := offsetOf(text, at)
	line := strings.LastIndexByte(string(text[:start]), '\n') + 1
	prefix := string(text[line:start])
	if strings.ContainsAny(prefix, "{=[\"'") {
		return Edit{}, notEditable(fmt.Sprintf("part %s is written in one line", part))
	}
	end := skipValue(text, start)
	next := len(text)
	if i := strings.IndexByte(string(text[end:]), '\n'); i >= 0 {
		next = end + i + 1
	}
	added := prefix + key + " = " + written(list, len(prefix)+len(key+" = ")) + "\n"
	if next == len(text) && text[len(text)-1] != '\n' {
		added = "\n" + added
	}
	out := slices.Concat(text[:next], []byte(added), text[next:])
	return verified(Edit{Name, out}, dir, part, kind, key, list, words, nil)
}

// verified reads the edited text again: what it says must be what was wanted, and nothing else may have changed.
func verified(e Edit, dir, part, kind, key string, list []string, words Vocabulary, err error) (Edit, error) {
	if err != nil {
		return Edit{}, err
	}
	temp, err := os.MkdirTemp("", "dravit-edit-")
	if err != nil {
		return Edit{}, err
	}
	defer os.RemoveAll(temp)
	for _, name := range []string{Name, LocalName} {
		text, err := confined.ReadFile(dir, name, maxFile)
		if name == e.File {
			text, err = e.Text, nil
		}
		if err == nil {
			err = os.WriteFile(filepath.Join(temp, name), text, 0o600)
		}
		if err != nil && !errors.Is(err, os.ErrNotExist) {
			return Edit{}, err
		}
	}
	f, err := Read(temp, words)
	if err != nil {
		return Edit{}, notEditable(err.Error())
	}
	got := f.Parts[part].For(kind).Extensions
	if key == "without" {
		got = f.Parts[part].For(kind).Without
	}
	if !slices.Equal(got, list) {
		return Edit{}, notEditable(fmt.Sprintf("%s of part %s would read %q", key, part, got))
	}
	return e, nil
}

func offsetOf(text []byte, at place) int {
	offset := 0
	for range at.line - 1 {
		offset += strings.IndexByte(string(text[offset:]), '\n') + 1
	}
	return offset + at.col - 1
}

// width is how long a line of a list may be that Dravit writes itself.
const width = 100

// written is a list in one line, or where that is too long in several.
func written(list []string, before int) string {
	quoted := make([]string, len(list))
	for i, s := range list {
		quoted[i] = strconv.Quote(s)
	}
	if one := "[" + strings.Join(quoted, ", ") + "]"; before+len(one) <= width {
		return one
	}
	text, line := "[\n", " "
	for _, q := range quoted {
		if len(line)+len(q)+2 > width {
			text, line = text+line+"\n", " "
		}
		line += " " + q + ","
	}
	return text + line + "\n]"
}

// element is one text of an array: where it stands, and where what belongs to it ends.
type element struct {
	start, end int // of the text with its quotes
	comma      int // after the comma that follows, or end where there is none
	value      string
}

// editList changes the array that is the value of the key at an offset: what the list does not have is taken out, what it has more is added
// at the end. Comments stay.
func editList(text []byte, key int, list []string) ([]byte, error) {
	open, elements, err := scanArray(text, key)
	if err != nil {
		return nil, err
	}
	var kept []element
	cut := slices.Clone(text)
	var drop [][2]int
	for i, e := range elements {
		if slices.Contains(list, e.value) {
			kept = append(kept, e)
			continue
		}
		from, to := e.start, e.comma
		for to < len(text) && (text[to] == ' ' || text[to] == '\t') {
			to++
		}
		line := strings.LastIndexByte(string(text[:from]), '\n') + 1
		switch alone := strings.TrimSpace(string(text[line:from])) == ""; {
		case alone && to < len(text) && text[to] == '\n': // its own line, without a comment
			from, to = line, to+1
		case !alone && to < len(text) && text[to] == '\n': // the last of its line
			for text[from-1] == ' ' || text[from-1] == '\t' {
				from--
			}
		case i == len(elements)-1 && len(kept) > 0 && e.comma == e.end: // the last of a line: the comma before it goes
			from = kept[len(kept)-1].end
		}
		drop = append(drop, [2]int{from, to})
	}
	var added []string
	for _, name := range list {
		if !slices.ContainsFunc(kept, func(e element) bool { return e.value == name }) {
			added = append(added, strconv.Quote(name))
		}
	}
	insertAt, insert := open+1, strings.Join(added, ", ")
	if len(kept) > 0 && len(added) > 0 {
		last := kept[len(kept)-1]
		insertAt, insert = last.end, ", "+insert
		line := strings.LastIndexByte(string(text[:last.start]), '\n') + 1
		if indent := string(text[line:last.start]); strings.TrimSpace(indent) == "" { // one a line
			insertAt, insert = last.comma, "\n"+indent+strings.Join(added, ",\n"+indent)
			if last.comma == last.end {
				insert = "," + insert
			} else {
				insert += ","
				if i := strings.IndexByte(string(text[last.comma:]), '\n'); i >= 0 && strings.HasPrefix(strings.TrimSpace(string(text[last.comma:last.comma+i])), "#") {
					insertAt = last.comma + i // after the comment on its line
				}
			}
		}
	}
	var out []byte
	at := 0
	edits := drop
	if len(added) > 0 {
		edits = append([][2]int{{insertAt, insertAt}}, drop...)
	}
	slices.SortStableFunc(edits, func(a, b [2]int) int { return a[0] - b[0] })
	for _, d := range edits {
		if d[0] < at {
			return nil, notEditable("its list of extensions")
		}
		out = append(out, cut[at:d[0]]...)
		if d == [2]int{insertAt, insertAt} {
			out = append(out, insert...)
		}
		at = d[1]
	}
	return append(out, cut[at:]...), nil
}

// scanArray finds the texts of the array that is the value of the key at an offset (TOML 1.0, "Array").
func scanArray(text []byte, key int) (open int, elements []element, err error) {
	refuse := notEditable("its list of extensions")
	at := skipKey(text, key)
	if at < 0 || at >= len(text) || text[at] != '[' {
		return 0, nil, refuse
	}
	open = at
	for at++; at < len(text); {
		switch c := text[at]; {
		case c == ']':
			return open, elements, nil
		case c == '#':
			at = lineEnd(text, at)
		case c == ',':
			at++
			if n := len(elements); n > 0 {
				elements[n-1].comma = at
			}
		case c == '"' || c == '\'':
			end := stringEnd(text, at)
			if end < 0 {
				return 0, nil, refuse
			}
			var v struct{ X string }
			if err := toml.Unmarshal(slices.Concat([]byte("X = "), text[at:end]), &v); err != nil {
				return 0, nil, refuse
			}
			elements = append(elements, element{at, end, end, v.X})
			at = end
		default:
			at++
		}
	}
	return 0, nil, refuse
}

// skipKey returns where the value of the key at an offset begins.
func skipKey(text []byte, at int) int {
	i := strings.IndexByte(string(text[at:]), '=')
	if i < 0 {
		return -1
	}
	for at += i + 1; at < len(text) && (text[at] == ' ' || text[at] == '\t'); at++ {
	}
	return at
}

// skipValue returns where the value of the key at an offset ends.
func skipValue(text []byte, key int) int {
	depth := 0
	for at := skipKey(text, key); at >= 0 && at < len(text); {
		switch c := text[at]; {
		case c == '"' || c == '\'':
			if at = stringEnd(text, at); at < 0 {
				return len(text)
			}
		case c == '[':
			depth++
			at++
		case c == ']':
			depth--
			at++
		case c == '#':
			at = lineEnd(text, at)
		case c == '\n' && depth == 0:
			return at
		default:
			at++
		}
	}
	return len(text)
}

func lineEnd(text []byte, at int) int {
	if i := strings.IndexByte(string(text[at:]), '\n'); i >= 0 {
		return at + i
	}
	return len(text)
}

// stringEnd returns the end of the one-line string that begins at an offset, -1 where it has none.
func stringEnd(text []byte, at int) int {
	quote := text[at]
	for i := at + 1; i < len(text) && text[i] != '\n'; i++ {
		switch {
		case text[i] == '\\' && quote == '"':
			i++
		case text[i] == quote:
			return i + 1
		}
	}
	return -1
}
