package stackfile

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"dravit/internal/pattern"
	"dravit/internal/setting"
	"dravit/internal/suffix"
	"dravit/internal/version"
)

// table fills a struct from a TOML table. sort is what the table describes, for hints. also reports whether the caller
// reads a key itself.
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
			r.value(at, tree[key], into.Field(i), keyRules[into.Type()][key])
		case also != nil && also(key):
		default:
			r.fault(at, fmt.Sprintf("unknown key %q", key), keyHint(sort, key, names))
		}
	}
	for key := range fields {
		if _, ok := tree[key]; !ok && keyRules[into.Type()][key].required {
			r.fault(path, fmt.Sprintf("%s has no %q", title(path), key), "")
		}
	}
}

// keyHint returns what an unknown key is called in a stack file, else the known key that was probably meant, else all
// known keys.
func keyHint(sort, key string, names []string) string {
	words := map[string]map[string]string{"": topWords, "part": partWords, "site": siteWords}[sort]
	known := slices.Sorted(slices.Values(names))
	return cmp.Or(called(words, key), nearest(key, names), "the keys here are "+strings.Join(known, ", "))
}

// title returns a table's name for a message: "part app" for part.app, "this site" for site.0.
func title(path string) string {
	kind, name, _ := strings.Cut(path, ".")
	if _, err := strconv.Atoi(name); err == nil {
		return "this " + kind
	}
	return strings.TrimSpace(kind + " " + name)
}

// value reads one value into a field of a struct.
func (r *reader) value(at string, v any, into reflect.Value, rule keyRule) {
	switch into.Interface().(type) {
	case Texts:
		if s, ok := v.(string); ok {
			v = []any{s}
		}
		r.texts(at, v, into, rule, "a text or a list of texts")
		return
	case []string:
		r.texts(at, v, into, rule, "a list of texts")
		return
	case map[string]Text:
		r.textMap(at, v, into, rule)
		return
	case map[string]PartConfig:
		into.Set(reflect.ValueOf(named(r, at, v, r.part)))
		return
	case map[string]Require:
		into.Set(reflect.ValueOf(named(r, at, v, r.require)))
		return
	case []SiteConfig:
		into.Set(reflect.ValueOf(tableList[SiteConfig](r, at, v, "site")))
		return
	case []TaskConfig:
		into.Set(reflect.ValueOf(tableList[TaskConfig](r, at, v, "task")))
		return
	case *bool:
		r.flag(at, v, into)
		return
	case *Dotenv:
		into.Set(reflect.ValueOf(r.dotenv(at, v)))
		return
	case *Proof:
		into.Set(reflect.ValueOf(r.proof(at, v)))
		return
	case *Requirements:
		into.Set(reflect.ValueOf(r.requirements(at, v)))
		return
	case *Expect:
		into.Set(reflect.ValueOf(r.expect(at, v)))
		return
	}
	switch into.Kind() {
	case reflect.String:
		r.text(at, v, into, rule)
	case reflect.Int:
		r.number(at, v, into, rule)
	case reflect.Bool:
		r.flag(at, v, into)
	}
}

// wrong adds the fault that a value has the wrong type.
func (r *reader) wrong(at, want string, v any) {
	r.fault(at, fmt.Sprintf("%s must be %s, not %s", last(at), want, sortOf(v)), "")
}

// named reads a table of tables, each with a name that the developer chose.
func named[T any](r *reader, at string, v any, read func(at, name string, v any) T) map[string]T {
	tree, ok := v.(map[string]any)
	if !ok {
		r.wrong(at, "a table", v)
		return nil
	}
	all := map[string]T{}
	for _, name := range slices.Sorted(maps.Keys(tree)) {
		all[name] = read(join(at, name), name, tree[name])
	}
	return all
}

// tableList reads a list of tables, each written [[sort]].
func tableList[T any](r *reader, at string, v any, sort string) []T {
	list, ok := v.([]any)
	if !ok || !tables(list) {
		r.wrong(at, "a list of tables, written [["+sort+"]]", v)
		return nil
	}
	all := make([]T, len(list))
	for i, item := range list {
		r.table(fmt.Sprintf("%s.%d", at, i), sort, item.(map[string]any), reflect.ValueOf(&all[i]).Elem(), nil)
	}
	return all
}

func (r *reader) requirements(at string, v any) *Requirements {
	tree, ok := v.(map[string]any)
	if !ok {
		r.wrong(at, `a table such as { settings = { memory_limit = ">= 128M" } }`, v)
		return nil
	}
	q := &Requirements{}
	r.table(at, "requirements", tree, reflect.ValueOf(q).Elem(), nil)
	r.writable(at, q.Writable)
	return q
}

func (r *reader) proof(at string, v any) *Proof {
	tree, ok := v.(map[string]any)
	if !ok {
		r.wrong(at, `a table such as { command = "./works.sh" }`, v)
		return nil
	}
	p := &Proof{}
	r.table(at, "proof", tree, reflect.ValueOf(p).Elem(), nil)
	switch {
	case (p.Command == "") == (p.File == ""):
		r.fault(at, "a proof has either a command or a file", "")
	case p.Within != "" && p.File == "":
		r.fault(at+".within", "only a proof with a file has within", "")
	case p.File != "" && !filepath.IsLocal(p.File):
		r.fault(at+".file", fmt.Sprintf("the file %q is outside the project", p.File),
			"use a path relative to the project")
	}
	return p
}

// dotenv reads the name of a file, or a table with the keys of a file of the project's own.
func (r *reader) dotenv(at string, v any) *Dotenv {
	d := &Dotenv{}
	into := reflect.ValueOf(d).Elem()
	switch v := v.(type) {
	case string:
		r.text(at, v, into.FieldByName("File"), keyRules[into.Type()]["file"])
	case map[string]any:
		r.table(at, "dotenv", v, into, nil)
		if list, ok := v["keys"].([]any); ok && len(list) == 0 {
			r.fault(at+".keys", "keys names no variable", "such as [\"DB_HOST\", \"DB_PORT\"]")
		}
	default:
		r.wrong(at, `a file, or a table such as { file = ".env", keys = ["DB_PORT"] }`, v)
	}
	return d
}

func (r *reader) expect(at string, v any) *Expect {
	tree, ok := v.(map[string]any)
	if !ok {
		r.wrong(at, `a table such as { path = "/", status = 200 }`, v)
		return nil
	}
	e := &Expect{}
	r.table(at, "expect", tree, reflect.ValueOf(e).Elem(), nil)
	return e
}

func (r *reader) text(at string, v any, into reflect.Value, rule keyRule) {
	s, ok := v.(string)
	if !ok {
		r.wrong(at, "a text", v)
		return
	}
	if p := rule.pattern; p != "" && !pattern.Of(p).MatchString(s) || strings.ContainsAny(s, "\x00\n\r") {
		r.fault(at, fmt.Sprintf("%q cannot be %s", s, article(last(at))),
			cmp.Or(rule.hint, "it must be one line"))
		return
	}
	if err := checkText(rule.check, s); err != nil {
		r.fault(at, err.Error(), "")
		return
	}
	into.SetString(s)
}

// checkText tests a text as the rule's check says.
func checkText(check, s string) error {
	switch check {
	case "version":
		if s != "" && strings.TrimSpace(s) == "" {
			return errors.New("the version is empty: remove the key to allow any version")
		}
		_, err := version.ParseConstraint(s)
		return err
	case "ask":
		if !slices.Contains(WaysToAsk, s) {
			return fmt.Errorf(
				"a program is not asked with %q: one of %s; for another way on this machine: [ask] in "+
					"Dravit's settings.toml",
				s, strings.Join(WaysToAsk, ", "),
			)
		}
	case "suffix":
		return suffix.Refuse(s)
	case "server":
		_, err := ParseServer(s)
		return err
	case "duration":
		if d, err := time.ParseDuration(s); err != nil || d <= 0 {
			return fmt.Errorf("%q is no duration, such as 90s or 5m", s)
		}
	case "expression":
		re, err := regexp.Compile(s)
		if err == nil && re.NumSubexp() == 0 {
			err = fmt.Errorf("%q has no group around the version: v([0-9.]+)", s)
		}
		return err
	}
	return nil
}

func (r *reader) number(at string, v any, into reflect.Value, rule keyRule) {
	n, ok := v.(int64)
	if !ok {
		r.wrong(at, "a whole number", v)
		return
	}
	if n < int64(rule.minimum) || n > int64(rule.maximum) {
		r.fault(at, fmt.Sprintf("%s must be between %d and %d, not %d", last(at), rule.minimum, rule.maximum, n), "")
		return
	}
	into.SetInt(n)
}

func (r *reader) flag(at string, v any, into reflect.Value) {
	b, ok := v.(bool)
	if !ok {
		r.wrong(at, "true or false", v)
		return
	}
	if into.Kind() == reflect.Pointer {
		into.Set(reflect.ValueOf(&b))
		return
	}
	into.SetBool(b)
}

// maxItems is how many entries a list of texts may have.
const maxItems = 1000

func (r *reader) texts(at string, v any, into reflect.Value, rule keyRule, want string) {
	list, ok := v.([]any)
	if len(list) > maxItems {
		r.fault(at, fmt.Sprintf("%s has %d entries, and may have %d", last(at), len(list), maxItems), "")
		return
	}
	out, seen := []string{}, map[string]bool{}
	for i, item := range list {
		s, isText := item.(string)
		ok = ok && isText
		if p := rule.items; isText && p != "" && !pattern.Of(p).MatchString(s) {
			r.fault(fmt.Sprintf("%s.%d", at, i), fmt.Sprintf("%q cannot be in %s", s, last(at)), rule.hint)
		}
		if seen[s] {
			r.fault(fmt.Sprintf("%s.%d", at, i), fmt.Sprintf("%q is in %s twice", s, last(at)), "")
		}
		seen[s] = true
		out = append(out, s)
	}
	if !ok {
		r.wrong(at, want, v)
		return
	}
	into.Set(reflect.ValueOf(out).Convert(into.Type()))
}

func (r *reader) textMap(at string, v any, into reflect.Value, rule keyRule) {
	tree, ok := v.(map[string]any)
	if !ok {
		r.wrong(at, "a table", v)
		return
	}
	out := map[string]Text{}
	// A dot in a setting's name (date.timezone) makes a table unless the name is quoted. Both forms are accepted.
	var walk func(prefix, path string, tree map[string]any)
	walk = func(prefix, path string, tree map[string]any) {
		for _, key := range slices.Sorted(maps.Keys(tree)) {
			name, p := join(prefix, key), join(path, key)
			if p := rule.keys; p != "" && !pattern.Of(p).MatchString(name) {
				r.fault(join(path, key), fmt.Sprintf("%q cannot be the name of a setting", name), "")
				continue
			}
			switch x := tree[key].(type) {
			case map[string]any:
				if rule.keys != "" {
					walk(name, p, x)
					continue
				}
				r.fault(p, fmt.Sprintf("%s must be a text, not a table", name), "")
			case string:
				if strings.ContainsAny(x, "\x00\n\r") && rule.keys != "" {
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
		if _, err := setting.Parse(string(out[name])); err != nil && rule.check == "demand" {
			r.fault(join(at, name), err.Error(), "such as \">= 128M\", or a value alone")
		}
	}
	into.Set(reflect.ValueOf(out))
}

// require reads the demand for a command-line program: a version, or a table.
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
		r.fault(at, fmt.Sprintf("%s must be a version or a table, not %s", name, sortOf(v)),
			`such as ">= 2.30", or { version = ">= 1", ask = "--version", pattern = "v([0-9.]+)" }`)
	}
	return out
}

func (r *reader) part(at, name string, v any) PartConfig {
	p := PartConfig{}
	tree, ok := v.(map[string]any)
	if !ok {
		r.fault(at, fmt.Sprintf("part %s must be a table, written [part.%s]", name, name), "")
		return p
	}
	if !partName().MatchString(name) {
		r.fault(at, fmt.Sprintf("%q cannot be a part's name", name),
			"letters, digits, - and _, at most 32, a letter first")
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
			hint := cmp.Or(called(kindWords, kind), nearest(kind, known))
			hint = strings.TrimPrefix(hint+"; the kinds are "+strings.Join(known, ", "), "; ")
			r.fault(path, fmt.Sprintf("unknown kind %q", kind), hint)
		}
	}
	if p.Kind != nil && len(p.Kind) == 0 {
		r.fault(join(at, "kind"), "kind must not be an empty list", "")
	}
	// dravit.local.toml may narrow kind; keys of the other kinds may stay in dravit.toml.
	narrowed := func(key string) bool { return r.places[join(at, "kind")].file != r.places[join(at, key)].file }
	for key := range tree {
		if !slices.Contains(kinds, key) && !r.understood(p.Kind, key) && !narrowed(key) {
			r.fault(join(at, key), fmt.Sprintf("a part of kind %s has no %q", strings.Join(p.Kind, " or "), key),
				r.keysHint(p.Kind, key))
		}
	}
	for _, kind := range kinds {
		sub, path := PartConfig{}, join(at, kind)
		own, ok := tree[kind].(map[string]any)
		if !ok {
			r.fault(path, fmt.Sprintf("%s must be a table, written [part.%s.%s]", kind, name, kind), "")
			continue
		}
		if !slices.Contains(p.Kind, kind) && narrowed(kind) {
			continue
		}
		if !slices.Contains(p.Kind, kind) {
			r.fault(path, fmt.Sprintf("part %s is never of kind %s", name, kind),
				"its kind is "+strings.Join(p.Kind, " or "))
		}
		sub.Kind = Texts{kind}
		own = maps.Clone(own)
		if _, ok := own["kind"]; ok {
			r.fault(join(path, "kind"), fmt.Sprintf("%q is already in the table's name", "kind"), "")
		}
		own["kind"] = kind
		r.table(path, "part", own, reflect.ValueOf(&sub).Elem(), nil)
		for key := range own {
			if !r.understood(sub.Kind, key) {
				r.fault(join(path, key), fmt.Sprintf("a part of kind %s has no %q", kind, key),
					r.keysHint(sub.Kind, key))
			}
		}
		if p.Of == nil {
			p.Of = map[string]PartConfig{}
		}
		p.Of[kind] = sub
	}
	if _, has := tree["command"]; len(p.Kind) == 1 && slices.Contains(r.words[p.Kind[0]].Keys, "command") && !has &&
		p.For(p.Kind[0]).Command == "" {
		r.fault(at, fmt.Sprintf("part %s has no \"command\"", name),
			"a part of kind "+p.Kind[0]+
				" says what to run: command = \"./server --port {port}\"; the port is in PORT, too")
	}
	return p
}

// understood reports whether one of the kinds has the key. Keys that no part has were reported before.
func (r *reader) understood(kinds []string, key string) bool {
	if slices.Contains(everyKind, key) || !slices.Contains(partKeys(), key) || len(kinds) == 0 {
		return true
	}
	for _, kind := range kinds {
		words, known := r.words[kind]
		if !known || slices.Contains(words.Keys, key) {
			return true
		}
	}
	return false
}

func (r *reader) keysHint(kinds []string, key string) string {
	if key == "command" && slices.Contains(kinds, "php") {
		return "a PHP program that runs by itself, such as a worker or a server of its own, is kind = \"custom\""
	}
	var has []string
	for _, kind := range kinds {
		has = append(has, r.words[kind].Keys...)
	}
	return cmp.Or(called(partWords, key), nearest(key, append(has, everyKind...)))
}

func partKeys() []string {
	var keys []string
	t := reflect.TypeFor[PartConfig]()
	for i := range t.NumField() {
		keys = append(keys, t.Field(i).Tag.Get("toml"))
	}
	return keys
}

func last(path string) string { return path[strings.LastIndexByte(path, '.')+1:] }
