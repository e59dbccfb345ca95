package stackfile

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"dravit/internal/pattern"
	"dravit/internal/setting"
	"dravit/internal/suffix"
	"dravit/internal/version"
)

// Vocabulary says which kinds exist and which keys of a part each understands, apart from those that all do.
type Vocabulary map[string][]string

// everyKind are the keys that a part of any kind may have.
var everyKind = []string{"kind", "version", "uses"}

// Fault is one thing wrong with a stack file.
type Fault struct {
	File string `json:"file"`
	Line int    `json:"line"`   // from 1; 0 where no line is at fault
	Col  int    `json:"column"` // from 1, in bytes
	Text string `json:"text"`   // the line itself
	What string `json:"what"`
	Hint string `json:"hint,omitempty"`
}

// Faults are all faults of a stack file, in the order of their lines. It is the error that Read returns for a bad file.
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

// ErrNone says that a folder and those above it hold no stack file.
var ErrNone = errors.New("no " + Name + " here or in a folder above")

// Find returns the nearest folder, from dir upwards, that holds a stack file.
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

// Read reads the stack file of a project's folder together with its local overrides. A bad file gives Faults.
func Read(dir string, words Vocabulary) (*File, error) {
	r := reader{words: words, places: map[string]place{}}
	tree, err := r.load(filepath.Join(dir, Name), Name)
	if err != nil {
		return nil, err
	}
	local, err := r.load(filepath.Join(dir, LocalName), LocalName)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	if len(r.faults) > 0 { // not TOML: nothing more can be said
		return nil, r.faults
	}
	if local != nil {
		tree = r.merge("", "", tree, local).(map[string]any)
	}
	f := r.file(tree)
	if f.Name == "" {
		f.Name = nameOf(filepath.Base(dir))
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

// nameOf makes a stack's name of a folder's.
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

func (r *reader) load(path, shown string) (map[string]any, error) {
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	tree := map[string]any{}
	err = toml.Unmarshal(data, &tree)
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

// merge lays local values over the shared ones. Tables merge key by key; sites and the like, lists of tables, by their names.
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

// fault notes a fault at a path, or at the nearest table above it.
func (r *reader) fault(path, what, hint string) {
	at, ok := r.places[path]
	for p := path; !ok && p != ""; at, ok = r.places[p] {
		i := strings.LastIndexByte(p, '.')
		p = p[:max(i, 0)]
	}
	if !ok {
		at.file = Name
	}
	r.faults = append(r.faults, Fault{File: at.file, Line: at.line, Col: at.col, Text: at.text, What: what, Hint: hint})
}

func (r *reader) file(tree map[string]any) *File {
	f := &File{}
	r.table("", "", tree, reflect.ValueOf(f).Elem(), nil)
	r.check(f)
	return f
}

// table fills a struct from a TOML table. sort is the table's name in notBuilt; also maps keys that the caller reads itself.
func (r *reader) table(path, sort string, tree map[string]any, into reflect.Value, also func(key string) bool) {
	fields, names := map[string]int{}, []string{}
	for i := range into.NumField() {
		if key := into.Type().Field(i).Tag.Get("toml"); key != "-" {
			fields[key] = i
			names = append(names, key)
		}
	}
	for _, key := range slices.Sorted(maps.Keys(tree)) {
		at := join(path, key)
		i, ok := fields[key]
		switch {
		case ok:
			r.value(at, tree[key], into.Field(i), into.Type().Field(i).Tag)
		case also != nil && also(key):
		case slices.Contains(notBuilt[sort], key):
			r.fault(at, fmt.Sprintf("%q is not built yet", key), "this version of Dravit does not understand it; take it out for now")
		default:
			r.fault(at, fmt.Sprintf("unknown key %q", key), nearest(key, names))
		}
	}
	for key, i := range fields {
		if _, ok := tree[key]; !ok && into.Type().Field(i).Tag.Get("required") != "" {
			r.fault(path, fmt.Sprintf("%s has no %q", title(path), key), "")
		}
	}
}

// title names a table for a message: part.app -> "part app", site.0 -> "this site".
func title(path string) string {
	kind, name, _ := strings.Cut(path, ".")
	if _, err := strconv.Atoi(name); err == nil {
		return "this " + kind
	}
	return strings.TrimSpace(kind + " " + name)
}

func (r *reader) value(at string, v any, into reflect.Value, tag reflect.StructTag) {
	wrong := func(want string) { r.fault(at, fmt.Sprintf("%s must be %s, not %s", last(at), want, sortOf(v)), "") }
	switch into.Interface().(type) {
	case Texts:
		if s, ok := v.(string); ok {
			v = []any{s}
		}
		r.texts(at, v, into, tag, "a text or a list of texts")
		return
	case []string:
		r.texts(at, v, into, tag, "a list of texts")
		return
	case map[string]Text:
		r.textMap(at, v, into, tag)
		return
	case map[string]Part:
		tree, ok := v.(map[string]any)
		if !ok {
			wrong("a table")
			return
		}
		parts := map[string]Part{}
		for _, name := range slices.Sorted(maps.Keys(tree)) {
			parts[name] = r.part(join(at, name), name, tree[name])
		}
		into.Set(reflect.ValueOf(parts))
		return
	case map[string]Require:
		tree, ok := v.(map[string]any)
		if !ok {
			wrong("a table")
			return
		}
		all := map[string]Require{}
		for _, name := range slices.Sorted(maps.Keys(tree)) {
			all[name] = r.require(join(at, name), name, tree[name])
		}
		into.Set(reflect.ValueOf(all))
		return
	case []Site:
		list, ok := v.([]any)
		if !ok || !tables(list) {
			wrong("a list of tables, written [[site]]")
			return
		}
		sites := make([]Site, len(list))
		for i, item := range list {
			r.table(fmt.Sprintf("%s.%d", at, i), "site", item.(map[string]any), reflect.ValueOf(&sites[i]).Elem(), nil)
		}
		into.Set(reflect.ValueOf(sites))
		return
	case *Requirements:
		tree, ok := v.(map[string]any)
		if !ok {
			wrong("a table such as { settings = { memory_limit = \">= 128M\" } }")
			return
		}
		q := &Requirements{}
		r.table(at, "requirements", tree, reflect.ValueOf(q).Elem(), nil)
		for i, path := range q.Writable {
			if !filepath.IsLocal(path) {
				r.fault(fmt.Sprintf("%s.writable.%d", at, i), fmt.Sprintf("%q lies outside the project", path), "a path relative to the project")
			}
		}
		into.Set(reflect.ValueOf(q))
		return
	case *Expect:
		tree, ok := v.(map[string]any)
		if !ok {
			wrong("a table such as { path = \"/\", status = 200 }")
			return
		}
		e := &Expect{}
		r.table(at, "expect", tree, reflect.ValueOf(e).Elem(), nil)
		into.Set(reflect.ValueOf(e))
		return
	}
	switch into.Kind() {
	case reflect.String:
		s, ok := v.(string)
		if !ok {
			wrong("a text")
			return
		}
		if p := tag.Get("pattern"); p != "" && !pattern.Of(p).MatchString(s) || strings.ContainsAny(s, "\x00\n\r") {
			r.fault(at, fmt.Sprintf("%q cannot be %s", s, article(last(at))), cmp.Or(tag.Get("hint"), patternHint(p)))
			return
		}
		var err error
		switch tag.Get("check") {
		case "version":
			_, err = version.ParseConstraint(s)
		case "suffix":
			err = suffix.Refuse(s)
		case "expression":
			var re *regexp.Regexp
			if re, err = regexp.Compile(s); err == nil && re.NumSubexp() == 0 {
				err = fmt.Errorf("%q has no group around the version: v([0-9.]+)", s)
			}
		}
		if err != nil {
			r.fault(at, err.Error(), "")
			return
		}
		into.SetString(s)
	case reflect.Int:
		n, ok := v.(int64)
		if !ok {
			wrong("a whole number")
			return
		}
		low, _ := strconv.ParseInt(tag.Get("minimum"), 10, 64)
		high, _ := strconv.ParseInt(tag.Get("maximum"), 10, 64)
		if n < low || n > high {
			r.fault(at, fmt.Sprintf("%s must be between %d and %d, not %d", last(at), low, high, n), "")
			return
		}
		into.SetInt(n)
	case reflect.Bool:
		b, ok := v.(bool)
		if !ok {
			wrong("true or false")
			return
		}
		into.SetBool(b)
	}
}

func (r *reader) texts(at string, v any, into reflect.Value, tag reflect.StructTag, want string) {
	list, ok := v.([]any)
	out := []string{}
	for i, item := range list {
		s, isText := item.(string)
		ok = ok && isText
		if p := tag.Get("items"); isText && p != "" && !pattern.Of(p).MatchString(s) {
			r.fault(fmt.Sprintf("%s.%d", at, i), fmt.Sprintf("%q cannot be in %s", s, last(at)), patternHint(p))
		}
		if slices.Contains(out, s) {
			r.fault(fmt.Sprintf("%s.%d", at, i), fmt.Sprintf("%q stands in %s twice", s, last(at)), "")
		}
		out = append(out, s)
	}
	if !ok {
		r.fault(at, fmt.Sprintf("%s must be %s, not %s", last(at), want, sortOf(v)), "")
		return
	}
	into.Set(reflect.ValueOf(out).Convert(into.Type()))
}

func (r *reader) textMap(at string, v any, into reflect.Value, tag reflect.StructTag) {
	tree, ok := v.(map[string]any)
	if !ok {
		r.fault(at, fmt.Sprintf("%s must be a table, not %s", last(at), sortOf(v)), "")
		return
	}
	out := map[string]Text{}
	// A dot in a setting's name (date.timezone) makes a table of it unless it is quoted: both are taken.
	var walk func(prefix, path string, tree map[string]any)
	walk = func(prefix, path string, tree map[string]any) {
		for _, key := range slices.Sorted(maps.Keys(tree)) {
			name, p := join(prefix, key), join(path, key)
			if p := tag.Get("keys"); p != "" && !pattern.Of(p).MatchString(name) {
				r.fault(join(path, key), fmt.Sprintf("%q cannot be the name of a setting", name), "")
				continue
			}
			switch x := tree[key].(type) {
			case map[string]any:
				if tag.Get("keys") != "" {
					walk(name, p, x)
					continue
				}
				r.fault(p, fmt.Sprintf("%s must be a text, not a table", name), "")
			case string:
				if strings.ContainsAny(x, "\x00\n\r") && tag.Get("keys") != "" {
					r.fault(p, fmt.Sprintf("%s must be one line", name), "")
				}
				out[name] = Text(x)
			case int64, float64, bool:
				out[name] = Text(fmt.Sprint(x))
			default:
				r.fault(p, fmt.Sprintf("%s must be a text, a number or true or false, not %s", name, sortOf(x)), "")
			}
		}
	}
	walk("", at, tree)
	for _, name := range slices.Sorted(maps.Keys(out)) {
		if _, err := setting.Parse(string(out[name])); err != nil && tag.Get("check") == "demand" {
			r.fault(join(at, name), err.Error(), "such as \">= 128M\", or a value alone")
		}
	}
	into.Set(reflect.ValueOf(out))
}

var toolName = pattern.New(`^[A-Za-z0-9][A-Za-z0-9._+-]{0,63}$`)

// require reads what is demanded of a command-line program: a version alone, or a table.
func (r *reader) require(at, name string, v any) Require {
	if !toolName().MatchString(name) {
		r.fault(at, fmt.Sprintf("%q cannot be a program's name", name), "its file name on PATH")
	}
	var out Require
	switch v := v.(type) {
	case string:
		if _, err := version.ParseConstraint(v); err != nil {
			r.fault(at, err.Error(), "")
		}
		out.Version = v
	case map[string]any:
		r.table(at, "require", v, reflect.ValueOf(&out).Elem(), nil)
	default:
		r.fault(at, fmt.Sprintf("%s must be a version or a table, not %s", name, sortOf(v)), `such as ">= 2.30", or { version = ">= 1", ask = "--version", pattern = "v([0-9.]+)" }`)
	}
	return out
}

var partName = pattern.New(`^[A-Za-z][A-Za-z0-9_-]{0,31}$`)

func (r *reader) part(at, name string, v any) Part {
	p := Part{}
	tree, ok := v.(map[string]any)
	if !ok {
		r.fault(at, fmt.Sprintf("part %s must be a table, written [part.%s]", name, name), "")
		return p
	}
	if !partName().MatchString(name) {
		r.fault(at, fmt.Sprintf("%q cannot be a part's name", name), "letters, digits, - and _, at most 32, a letter first")
	}
	var kinds []string
	r.table(at, "part", tree, reflect.ValueOf(&p).Elem(), func(key string) bool {
		_, isKind := r.words[key]
		if isKind {
			kinds = append(kinds, key)
		}
		return isKind
	})
	for i, kind := range p.Kind {
		if _, ok := r.words[kind]; !ok {
			path := fmt.Sprintf("%s.kind.%d", at, i)
			known := slices.Sorted(maps.Keys(r.words))
			hint := nearest(kind, known)
			if hint == "" {
				hint = "the kinds are " + strings.Join(known, ", ")
			}
			r.fault(path, fmt.Sprintf("unknown kind %q", kind), hint)
		}
	}
	if p.Kind != nil && len(p.Kind) == 0 {
		r.fault(join(at, "kind"), "kind must not be an empty list", "")
	}
	// What this machine's override of the kind has no use for may stand in the shared file all the same.
	narrowed := func(key string) bool { return r.places[join(at, "kind")].file != r.places[join(at, key)].file }
	for key := range tree {
		if !slices.Contains(kinds, key) && !r.understood(p.Kind, key) && !narrowed(key) {
			r.fault(join(at, key), fmt.Sprintf("a part of kind %s has no %q", strings.Join(p.Kind, " or "), key), r.keysHint(p.Kind, key))
		}
	}
	for _, kind := range kinds {
		sub, path := Part{}, join(at, kind)
		own, ok := tree[kind].(map[string]any)
		if !ok {
			r.fault(path, fmt.Sprintf("%s must be a table, written [part.%s.%s]", kind, name, kind), "")
			continue
		}
		if !slices.Contains(p.Kind, kind) && narrowed(kind) {
			continue
		}
		if !slices.Contains(p.Kind, kind) {
			r.fault(path, fmt.Sprintf("part %s is never of kind %s", name, kind), "its kind is "+strings.Join(p.Kind, " or "))
		}
		sub.Kind = Texts{kind}
		own = maps.Clone(own)
		if _, ok := own["kind"]; ok {
			r.fault(join(path, "kind"), fmt.Sprintf("%q stands already in the table's name", "kind"), "")
		}
		own["kind"] = kind
		r.table(path, "part", own, reflect.ValueOf(&sub).Elem(), nil)
		for key := range own {
			if !r.understood(sub.Kind, key) {
				r.fault(join(path, key), fmt.Sprintf("a part of kind %s has no %q", kind, key), r.keysHint(sub.Kind, key))
			}
		}
		if p.Of == nil {
			p.Of = map[string]Part{}
		}
		p.Of[kind] = sub
	}
	if _, has := tree["command"]; len(p.Kind) == 1 && p.Kind[0] == "custom" && !has && p.For("custom").Command == "" {
		r.fault(at, fmt.Sprintf("part %s has no \"command\"", name), "a custom part says what to run: command = \"./server --port {port}\"")
	}
	return p
}

// understood tells whether one of the kinds has the key. Keys that are no part's at all were reported before.
func (r *reader) understood(kinds []string, key string) bool {
	if slices.Contains(everyKind, key) || !slices.Contains(partKeys(), key) || len(kinds) == 0 {
		return true
	}
	for _, kind := range kinds {
		keys, known := r.words[kind]
		if !known || slices.Contains(keys, key) {
			return true
		}
	}
	return false
}

func (r *reader) keysHint(kinds []string, key string) string {
	var has []string
	for _, kind := range kinds {
		has = append(has, r.words[kind]...)
	}
	return nearest(key, append(has, everyKind...))
}

func partKeys() []string {
	var keys []string
	t := reflect.TypeFor[Part]()
	for i := range t.NumField() {
		keys = append(keys, t.Field(i).Tag.Get("toml"))
	}
	return keys
}

func last(path string) string { return path[strings.LastIndexByte(path, '.')+1:] }

func article(noun string) string {
	if strings.ContainsRune("aeiou", rune(noun[0])) {
		return "an " + noun
	}
	return "a " + noun
}

func sortOf(v any) string {
	switch v := v.(type) {
	case string:
		return strconv.Quote(v)
	case int64, float64, bool:
		return fmt.Sprint(v)
	case []any:
		if tables(v) && len(v) > 0 {
			return "a list of tables"
		}
		return "a list"
	case map[string]any:
		return "a table"
	}
	return "a date"
}

func patternHint(pattern string) string {
	switch {
	case strings.Contains(pattern, "61"):
		return "small letters, digits and -, as in a host name, at most 63"
	case pattern == "^/":
		return "it begins with /"
	case pattern == `\S`:
		return "it must not be empty"
	case pattern != "":
		return "letters, digits and _"
	}
	return "it must be one line"
}

// nearest offers the known word that the unknown one was probably meant to be.
func nearest(word string, known []string) string {
	best, least := "", 3
	if len(word) <= 3 {
		least = 2
	}
	for _, k := range known {
		if d := distance(strings.ToLower(word), k); d < least {
			best, least = k, d
		}
	}
	if best == "" {
		return ""
	}
	return fmt.Sprintf("did you mean %q?", best)
}

// distance counts the insertions, deletions, replacements and swaps of neighbours between two words (Damerau-Levenshtein).
func distance(a, b string) int {
	prev2, prev := []int{}, make([]int, len(b)+1)
	for j := range prev {
		prev[j] = j
	}
	for i := range a {
		row := make([]int, len(b)+1)
		row[0] = i + 1
		for j := range b {
			cost := 1
			if a[i] == b[j] {
				cost = 0
			}
			row[j+1] = min(prev[j+1]+1, row[j]+1, prev[j]+cost)
			if i > 0 && j > 0 && a[i] == b[j-1] && a[i-1] == b[j] {
				row[j+1] = min(row[j+1], prev2[j-1]+1)
			}
		}
		prev2, prev = prev, row
	}
	return prev[len(b)]
}
