package debian

import (
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"

	"dravit/internal/pattern"
)

// Source is a repository, as a package client is configured for one (sources.list(5)).
type Source struct {
	Address    string
	Suite      string
	Components []string
	Keys       [][]byte // of its own; nil: those that the client trusts for all
	Expired    bool     // one that has expired is taken, too
}

// Clients returns the repositories that the machine's own package client uses, in their order, and the keys that it
// trusts for all. root is the file system, of the machine or recorded. What it cannot read it leaves out.
func Clients(root fs.FS) (sources []Source, keys [][]byte) {
	lists, _ := fs.Glob(root, "etc/apt/sources.list.d/*") // the pattern is well-formed
	slices.Sort(lists)
	for _, name := range append([]string{"etc/apt/sources.list"}, lists...) {
		text, err := fs.ReadFile(root, name)
		if err != nil {
			continue
		}
		switch path.Ext(name) {
		case ".list":
			sources = append(sources, lines(root, string(text))...)
		case ".sources":
			sources = append(sources, stanzas(root, string(text))...)
		}
	}
	rings, _ := fs.Glob(root, "etc/apt/trusted.gpg.d/*")
	for _, name := range append(rings, "etc/apt/trusted.gpg") {
		if ext := path.Ext(name); ext == ".asc" || ext == ".gpg" {
			if text, err := fs.ReadFile(root, name); err == nil {
				keys = append(keys, text)
			}
		}
	}
	return sources, keys
}

// lines reads the form with one line a source: deb [signed-by=FILE] ADDRESS SUITE COMPONENT...
func lines(root fs.FS, text string) []Source {
	var all []Source
	for line := range strings.Lines(text) {
		line, _, _ = strings.Cut(line, "#")
		m := pattern.Of(`^\s*deb\s+(?:\[([^\]]*)\]\s+)?(\S+)\s+(\S+)((?:\s+\S+)*)`).FindStringSubmatch(line)
		if m == nil || strings.HasSuffix(m[3], "/") {
			continue // the form without components has another layout
		}
		s := Source{Address: m[2], Suite: m[3], Components: strings.Fields(m[4])}
		for option := range strings.FieldsSeq(m[1]) {
			name, value, _ := strings.Cut(option, "=")
			switch strings.ToLower(name) {
			case "signed-by":
				s.Keys = keysOf(root, strings.ReplaceAll(value, ",", " "))
			case "check-valid-until":
				s.Expired = value == "no"
			}
		}
		all = append(all, s)
	}
	return all
}

// stanzas reads the form with fields.
func stanzas(root fs.FS, text string) []Source {
	var all []Source
	for _, stanza := range pattern.Of(`\n[ \t]*\n`).Split(text, -1) {
		f := map[string]string{}
		key := ""
		for line := range strings.Lines(stanza) {
			switch {
			case strings.HasPrefix(line, "#"):
			case strings.HasPrefix(line, " ") || strings.HasPrefix(line, "\t"):
				line = strings.TrimRight(strings.TrimPrefix(line, " "), "\n")
				if line == "." {
					line = "" // an empty line of a key
				}
				f[key] += "\n" + line
			default:
				name, value, _ := strings.Cut(line, ":")
				key = strings.ToLower(strings.TrimSpace(name))
				f[key] = strings.TrimSpace(value)
			}
		}
		if !slices.Contains(strings.Fields(f["types"]), "deb") || f["enabled"] == "no" {
			continue
		}
		for _, address := range strings.Fields(f["uris"]) {
			for _, suite := range strings.Fields(f["suites"]) {
				if !strings.HasSuffix(suite, "/") {
					all = append(all, Source{address, suite, strings.Fields(f["components"]),
						keysOf(root, f["signed-by"]), f["check-valid-until"] == "no"})
				}
			}
		}
	}
	return all
}

// keysOf returns the keys of a field: in itself, or in files that it names.
func keysOf(root fs.FS, field string) [][]byte {
	if strings.Contains(field, "-----BEGIN") {
		return [][]byte{[]byte(field)}
	}
	var all [][]byte
	for file := range strings.FieldsSeq(field) {
		if text, err := fs.ReadFile(root, strings.TrimPrefix(file, "/")); err == nil {
			all = append(all, text)
		}
	}
	return all
}

// Here is the file system of this machine.
func Here() fs.FS { return os.DirFS("/") }
