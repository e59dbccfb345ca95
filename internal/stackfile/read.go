package stackfile

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"dravit/internal/confined"
	"dravit/internal/pattern"
	"dravit/internal/trouble"
)

// Vocabulary lists the kinds, with the words that a stack file may use for a part of each.
type Vocabulary map[string]Words

// Words are what a kind understands.
type Words struct {
	Keys   []string // of a part's table, apart from those of every kind
	Fields []string // of {part.FIELD}, apart from PlaceholderFields
}

// everyKind are the keys that a part of any kind may have.
var everyKind = []string{"kind", "version", "uses"}

// Fault is one fault of a stack file.
type Fault struct {
	File string `json:"file"`
	Line int    `json:"line"`   // from 1; 0 if no line is at fault
	Col  int    `json:"column"` // from 1, in bytes
	Text string `json:"text"`   // the line itself
	What string `json:"what"`
	Hint string `json:"hint,omitempty"`
}

// Faults are all faults of a stack file, in the order of their lines. Read returns them as its error.
type Faults []Fault

func (f Faults) Error() string {
	var b strings.Builder
	for i, x := range f {
		if i > 0 {
			b.WriteByte('\n')
		}
		fmt.Fprintf(&b, "%s:%d:%d: %s", x.File, x.Line, x.Col, x.What)
	}
	return b.String()
}

// ErrNone says that neither a folder nor one above it has a stack file.
var ErrNone = &trouble.Trouble{
	Code:    trouble.NoStack,
	What:    "there is no stack here",
	Because: "no " + Name + " here or in a folder above",
	Next:    "dravit propose, which looks at what is here; dravit demo shows a stack",
}

// Find returns the nearest folder, from dir upwards, that has a stack file.
func Find(dir string) (string, error) {
	for at := dir; ; at = filepath.Dir(at) {
		if info, err := os.Stat(filepath.Join(at, Name)); err == nil && info.Mode().IsRegular() {
			return at, nil
		}
		if at == filepath.Dir(at) {
			return "", ErrNone
		}
	}
}

// Read reads the stack file in a project's folder, with its local overrides. The error for a faulty file is Faults.
func Read(dir string, words Vocabulary) (*File, error) {
	r := reader{words: words, places: map[string]place{}}
	text, err := r.contents(dir, Name)
	if err != nil {
		return nil, err
	}
	local, err := r.contents(dir, LocalName)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	return r.parse(filepath.Base(dir), text, local)
}

// Parse is Read for texts: of the stack file, and of its local overrides, which are nil if there are none. A stack
// without a name gets that of the folder.
func Parse(folder string, text, local []byte, words Vocabulary) (*File, error) {
	r := reader{words: words, places: map[string]place{}}
	return r.parse(folder, text, local)
}

func (r *reader) parse(folder string, text, local []byte) (*File, error) {
	var tree, over map[string]any
	var err error
	if len(r.faults) == 0 {
		if tree, err = r.load(Name, text); err != nil {
			return nil, err
		}
	}
	if local != nil {
		if over, err = r.load(LocalName, local); err != nil {
			return nil, err
		}
	}
	if len(r.faults) > 0 { // a text is no TOML, so there is nothing more to check
		return nil, r.faults
	}
	if over != nil {
		tree = r.merge("", "", tree, over).(map[string]any)
	}
	f := r.file(tree)
	if f.Name == "" {
		f.Name = nameOf(folder)
	}
	if len(r.faults) > 0 {
		slices.SortStableFunc(r.faults, func(a, b Fault) int {
			return 2*strings.Compare(a.File, b.File) + sign(a.Line-b.Line)
		})
		return nil, r.faults
	}
	return f, nil
}

func sign(n int) int { return max(-1, min(1, n)) }

// nameOf returns a stack's name for the name of a folder.
func nameOf(folder string) string {
	name := strings.Trim(pattern.Of(`[^a-z0-9]+`).ReplaceAllString(strings.ToLower(folder), "-"), "-")
	if len(name) > 63 {
		name = strings.Trim(name[:63], "-")
	}
	if name == "" {
		return "stack"
	}
	return name
}

type reader struct {
	words  Vocabulary
	places map[string]place
	faults Faults
}

// maxFile is how large a stack file may be, in bytes.
const maxFile = 256 << 10

// contents reads one of the two files of a stack. If there is none, the error says so; if it cannot be read, contents
// adds a fault and returns nil.
func (r *reader) contents(dir, shown string) ([]byte, error) {
	data, err := confined.ReadFile(dir, shown, maxFile)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		r.faults = append(r.faults, Fault{
			File: shown,
			Line: 1,
			Col:  1,
			What: "the file cannot be read: " + err.Error(),
		})
		return nil, nil
	}
	return data, err
}

// load parses one of the two files of a stack. If the text is no TOML, it adds a fault and returns nil.
func (r *reader) load(shown string, data []byte) (map[string]any, error) {
	if line := tooDeep(data); line > 0 {
		r.faults = append(r.faults, Fault{
			File: shown,
			Line: line,
			Col:  1,
			What: "this is nested too deep for a stack file",
		})
		return nil, nil
	}
	if bytes.HasPrefix(data, byteOrderMark) {
		r.faults = append(r.faults, Fault{File: shown, Line: 1, Col: 1, What: "the file begins with a byte order mark",
			Hint: "save it as UTF-8 without one"})
		return nil, nil
	}
	tree := map[string]any{}
	err := toml.Unmarshal(data, &tree)
	var bad *toml.DecodeError
	if errors.As(err, &bad) {
		row, col := bad.Position()
		text := ""
		if lines := strings.Split(string(data), "\n"); row >= 1 && row <= len(lines) {
			text = lines[row-1]
		}
		what := "this is not TOML: " + strings.TrimPrefix(bad.Error(), "toml: ")
		r.faults = append(r.faults, Fault{File: shown, Line: row, Col: col, Text: text, What: what})
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	found, err := places(shown, data)
	if err != nil {
		return nil, err
	}
	if shown == Name {
		r.places = found
		return tree, nil
	}
	for path, at := range found {
		r.places["local:"+path] = at
	}
	return tree, nil
}

// byteOrderMark is what some editors put before UTF-8 text (U+FEFF).
var byteOrderMark = []byte("\xef\xbb\xbf")

// maxDepth is how many keys or brackets deep a value of a stack file may be. The deepest real one is at 5.
const maxDepth = 30

// tooDeep returns the first line that nests deeper than maxDepth, or 0. It runs before the parser.
func tooDeep(data []byte) int {
	line := 0
	for text := range bytes.Lines(data) {
		line++
		key, _, _ := bytes.Cut(text, []byte("="))
		if bytes.Count(key, []byte(".")) > maxDepth || bytes.Count(text, []byte("[")) > 200 ||
			bytes.Count(text, []byte("{")) > 200 {
			return line
		}
	}
	return 0
}

// merge overrides the shared values by the local ones. Tables merge key by key, lists of tables by the names in them.
func (r *reader) merge(path, from string, base, over any) any {
	if at, ok := r.places["local:"+from]; ok {
		r.places[path] = at
	}
	switch over := over.(type) {
	case map[string]any:
		into, ok := base.(map[string]any)
		if !ok {
			into = map[string]any{}
		}
		for _, key := range slices.Sorted(maps.Keys(over)) {
			into[key] = r.merge(join(path, key), join(from, key), into[key], over[key])
		}
		return into
	case []any:
		into, ok := base.([]any)
		if !ok || !tables(over) || !tables(into) {
			for i := range over {
				r.merge(fmt.Sprintf("%s.%d", path, i), fmt.Sprintf("%s.%d", from, i), nil, over[i])
			}
			return over
		}
		for i, item := range over {
			name := item.(map[string]any)["name"]
			at := slices.IndexFunc(into, func(x any) bool { return name != nil && x.(map[string]any)["name"] == name })
			if at < 0 {
				into = append(into, nil)
				at = len(into) - 1
			}
			into[at] = r.merge(fmt.Sprintf("%s.%d", path, at), fmt.Sprintf("%s.%d", from, i), into[at], item)
		}
		return into
	}
	return over
}

func tables(list []any) bool {
	return !slices.ContainsFunc(list, func(x any) bool { _, ok := x.(map[string]any); return !ok })
}

const (
	maxFaults = 100 // how many faults of one file are reported
	maxLine   = 300 // how many bytes of a line are shown
)

// fault adds a fault at a path, or at the nearest table above it.
func (r *reader) fault(path, what, hint string) {
	at, ok := r.places[path]
	for p := path; !ok && p != ""; at, ok = r.places[p] {
		i := strings.LastIndexByte(p, '.')
		p = p[:max(i, 0)]
	}
	if !ok {
		at.file = Name
	}
	if len(r.faults) >= maxFaults {
		return
	}
	x := Fault{File: at.file, Line: at.line, Col: at.col, Text: at.text, What: what, Hint: hint}
	if len(x.Text) > maxLine { // the file may consist of one huge line
		x.Text = strings.ToValidUTF8(x.Text[:maxLine], "")
		x.Col = min(x.Col, maxLine)
	}
	r.faults = append(r.faults, x)
}

func (r *reader) file(tree map[string]any) *File {
	f := &File{}
	r.table("", "", tree, reflect.ValueOf(f).Elem(), nil)
	r.check(f)
	return f
}

var toolName = pattern.New(`^[A-Za-z0-9][A-Za-z0-9._+-]{0,63}$`)

var partName = pattern.New(`^[A-Za-z][A-Za-z0-9_-]{0,31}$`)
