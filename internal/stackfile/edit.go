package stackfile

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"dravit/internal/confined"
	"dravit/internal/trouble"
)

// notEditable returns the error which says that Dravit cannot edit a stack file that is written in this way.
func notEditable(because string) error {
	return &trouble.Trouble{
		Code:    trouble.NotEditable,
		What:    "the stack file stays as it is",
		Because: "it is written in a way that Dravit cannot edit: " + because,
		Next:    "change the part's extensions in " + Name + " by hand",
	}
}

// Edit is the changed text of one of a project's stack files.
type Edit struct {
	File string // Name or LocalName
	Text []byte
}

// EditExtensions returns the stack file with another list of extensions for a part. It keeps everything else: comments,
// order and spaces. It changes that of the two files which holds the list. It writes nothing.
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
				out, err := editList(text, at, list)
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
	// Add a line after that of kind, with the same indentation.
	line := lineStart(text, at.start)
	prefix := string(text[line:at.start])
	if strings.ContainsAny(prefix, "{=[\"'") {
		return Edit{}, notEditable(fmt.Sprintf("part %s is written in one line", part))
	}
	next := len(text)
	if i := bytes.IndexByte(text[at.end:], '\n'); i >= 0 {
		next = at.end + i + 1
	}
	added := prefix + key + " = " + written(list, len(prefix)+len(key+" = ")) + "\n"
	if next == len(text) && text[len(text)-1] != '\n' {
		added = "\n" + added
	}
	out := slices.Concat(text[:next], []byte(added), text[next:])
	return verified(Edit{Name, out}, dir, part, kind, key, list, words, nil)
}

// verified parses the edited text: it must say what was wanted, and nothing else may have changed.
func verified(e Edit, dir, part, kind, key string, list []string, words Vocabulary, err error) (Edit, error) {
	if err != nil {
		return Edit{}, err
	}
	texts := map[string][]byte{e.File: e.Text}
	for _, name := range []string{Name, LocalName} {
		if name == e.File {
			continue
		}
		text, err := confined.ReadFile(dir, name, maxFile)
		if err != nil && !errors.Is(err, os.ErrNotExist) {
			return Edit{}, err
		}
		texts[name] = text
	}
	f, err := Parse(filepath.Base(dir), texts[Name], texts[LocalName], words)
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

// lineStart returns the offset of the beginning of the line that contains an offset.
func lineStart(text []byte, offset int) int { return bytes.LastIndexByte(text[:offset], '\n') + 1 }

// width is the longest line with a list that Dravit writes.
const width = 100

// written formats a list: on one line, or on several if that is too long.
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

// editList changes the value of a key to list: it removes elements that list lacks, and adds new ones at the end.
// Comments stay.
func editList(text []byte, key place, list []string) ([]byte, error) {
	if text[key.value] != '[' {
		return nil, notEditable("its list of extensions")
	}
	var kept []element
	var cuts []cut
	for i, e := range key.elements {
		if slices.Contains(list, e.text) {
			kept = append(kept, e)
			continue
		}
		last := i == len(key.elements)-1
		cuts = append(cuts, without(text, e, last, kept))
	}
	var added []string
	for _, name := range list {
		if !slices.ContainsFunc(kept, func(e element) bool { return e.text == name }) {
			added = append(added, strconv.Quote(name))
		}
	}
	if len(added) > 0 {
		cuts = append(cuts, with(text, key, kept, added))
	}
	slices.SortStableFunc(cuts, func(a, b cut) int { return cmp.Or(a.from-b.from, a.to-b.to) })
	var out []byte
	at := 0
	for _, c := range cuts {
		if c.from < at {
			return nil, notEditable("its list of extensions")
		}
		out = append(append(out, text[at:c.from]...), c.insert...)
		at = c.to
	}
	return append(out, text[at:]...), nil
}

// cut replaces the bytes from one offset to another.
type cut struct {
	from, to int
	insert   string
}

// without removes an element and the comma after it. kept are the elements before it that stay.
func without(text []byte, e element, last bool, kept []element) cut {
	comma := commaAfter(text, e)
	from, to := e.start, comma
	for to < len(text) && (text[to] == ' ' || text[to] == '\t') {
		to++
	}
	line := lineStart(text, from)
	endsLine := to < len(text) && text[to] == '\n'
	switch alone := len(bytes.TrimSpace(text[line:from])) == 0; {
	case alone && endsLine: // the element has the line to itself, without a comment
		from, to = line, to+1
	case !alone && endsLine: // the last one on its line
		for text[from-1] == ' ' || text[from-1] == '\t' {
			from--
		}
	case last && len(kept) > 0 && comma == e.end: // the last element: the comma before it goes
		from = kept[len(kept)-1].end
	}
	return cut{from: from, to: to}
}

// with adds elements after those that are kept, each on its own line if these have their own.
func with(text []byte, key place, kept []element, added []string) cut {
	if len(kept) == 0 {
		return cut{key.value + 1, key.value + 1, strings.Join(added, ", ")}
	}
	last := kept[len(kept)-1]
	indent := string(text[lineStart(text, last.start):last.start])
	if strings.TrimSpace(indent) != "" {
		return cut{last.end, last.end, ", " + strings.Join(added, ", ")}
	}
	comma := commaAfter(text, last)
	at, insert := comma, "\n"+indent+strings.Join(added, ",\n"+indent)
	if comma == last.end {
		return cut{at, at, "," + insert}
	}
	rest, _, hasNext := bytes.Cut(text[comma:], []byte("\n"))
	if hasNext && bytes.HasPrefix(bytes.TrimSpace(rest), []byte("#")) {
		at = comma + len(rest) // put it after the comment on its line
	}
	return cut{at, at, insert + ","}
}

// commaAfter returns the offset after the comma that follows an element, across spaces, line ends and comments, or the
// element's end if none follows.
func commaAfter(text []byte, e element) int {
	for at := e.end; at < len(text); at++ {
		switch text[at] {
		case ',':
			return at + 1
		case '#':
			end := bytes.IndexByte(text[at:], '\n')
			if end < 0 {
				return e.end
			}
			at += end
		case ' ', '\t', '\r', '\n':
		default:
			return e.end
		}
	}
	return e.end
}
