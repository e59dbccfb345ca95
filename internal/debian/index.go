// Package debian reads Debian-format package repositories: what a source's list of files is signed with, which packages
// it has, what they depend on, and what is in them. It fetches nothing and writes nothing.
package debian

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"slices"
	"sort"
	"strconv"
	"strings"
)

// Package is a package of a repository (Debian Policy, chapter 5).
type Package struct {
	Name      string `json:"name"`
	Version   string `json:"version"`
	Arch      string `json:"arch"`
	Depends   string `json:"-"` // with Pre-Depends
	Provides  string `json:"-"`
	File      string `json:"file"` // below the repository's address
	SHA256    string `json:"sha256"`
	Bytes     int64  `json:"size_bytes"`
	Installed int64  `json:"-"`       // bytes that its files take, about
	Base      string `json:"address"` // of the repository
}

// Index is a parsed list of packages in a compact form: a line for each package and for each name that a package
// provides, in the order of their names. Reading one needs no parsing, and finding a name a few comparisons.
type Index struct {
	text  string
	lines []int32 // where each begins
	base  string
}

// longestField is how long one line of a list of packages may be, in bytes.
const longestField = 4 << 20

// Parse reads a list of packages ("Packages") and returns its compact form.
func Parse(in io.Reader) ([]byte, error) {
	var lines []string
	scan := bufio.NewScanner(in)
	scan.Buffer(make([]byte, 1<<16), longestField)
	fields := map[string]string{}
	key := ""
	flush := func() error {
		if len(fields) == 0 {
			return nil
		}
		more, err := compact(fields)
		lines = append(lines, more...)
		clear(fields)
		return err
	}
	for scan.Scan() {
		line := scan.Bytes()
		switch {
		case len(bytes.TrimSpace(line)) == 0:
			if err := flush(); err != nil {
				return nil, err
			}
		case line[0] == ' ' || line[0] == '\t':
			if key != "" {
				fields[key] += " " + string(bytes.TrimSpace(line))
			}
		default:
			name, value, ok := bytes.Cut(line, []byte(":"))
			if !ok {
				return nil, fmt.Errorf("%.40q is no field of a package", line)
			}
			if key = wanted[string(name)]; key != "" {
				fields[key] = string(bytes.TrimSpace(value))
			}
		}
	}
	if err := errors.Join(scan.Err(), flush()); err != nil {
		return nil, err
	}
	slices.Sort(lines)
	return []byte(strings.Join(lines, "")), nil
}

// wanted are the fields that are kept, by the same names.
var wanted = map[string]string{"Package": "Package", "Version": "Version", "Architecture": "Architecture",
	"Pre-Depends": "Pre-Depends", "Depends": "Depends", "Provides": "Provides", "Filename": "Filename", "Size": "Size",
	"Installed-Size": "Installed-Size", "SHA256": "SHA256"}

// compact returns the line of a package, and one for each name that it provides.
func compact(f map[string]string) ([]string, error) {
	depends := strings.Trim(f["Pre-Depends"]+", "+f["Depends"], ", ")
	fields := []string{
		f["Package"],
		f["Version"],
		f["Architecture"],
		depends,
		f["Provides"],
		f["Filename"],
		f["SHA256"],
		f["Size"],
		f["Installed-Size"],
	}
	for _, field := range fields {
		if strings.ContainsAny(field, "\t\n") {
			return nil, fmt.Errorf("the package %q has a tab in a field", f["Package"])
		}
	}
	if f["Package"] == "" || f["Version"] == "" || !isSHA256(f["SHA256"]) || f["Filename"] == "" {
		return nil, fmt.Errorf("the package %q has no version, file or SHA256", f["Package"])
	}
	lines := []string{strings.Join(fields, "\t") + "\n"}
	for _, group := range Relations(f["Provides"]) {
		lines = append(lines, group[0].Name+"\t="+f["Package"]+"\t"+group[0].Version+"\n")
	}
	return lines, nil
}

// isSHA256 reports whether a text is a SHA-256 in hexadecimal digits: it names files, too.
func isSHA256(text string) bool {
	sum, err := hex.DecodeString(text)
	return err == nil && len(sum) == sha256.Size
}

// Open reads the compact form that Parse returned. base is the address of its repository.
func Open(data []byte, base string) Index {
	x := Index{text: string(data), base: base, lines: make([]int32, 0, len(data)/200)}
	for at := 0; at < len(x.text); {
		x.lines = append(x.lines, int32(at)) //nolint:gosec // no list of packages has 2 GB
		end := strings.IndexByte(x.text[at:], '\n')
		if end < 0 {
			break
		}
		at += end + 1
	}
	return x
}

// line returns one line, without its end.
func (x Index) line(i int) string {
	text := x.text[x.lines[i]:]
	if end := strings.IndexByte(text, '\n'); end >= 0 {
		text = text[:end]
	}
	return text
}

// named calls visit for the lines of a name.
func (x Index) named(name string, visit func(rest string)) {
	first := sort.Search(len(x.lines), func(i int) bool {
		at, _, _ := strings.Cut(x.line(i), "\t")
		return at >= name
	})
	for i := first; i < len(x.lines); i++ {
		at, rest, _ := strings.Cut(x.line(i), "\t")
		if at != name {
			return
		}
		visit(rest)
	}
}

// Provider is a package that provides a name.
type Provider struct {
	Package string
	Version string // of the name; "": none
}

// Find returns the packages of a name, and those that provide it.
func (x Index) Find(name string) (packages []Package, providers []Provider) {
	x.named(name, func(rest string) {
		if by, ok := strings.CutPrefix(rest, "="); ok {
			by, version, _ := strings.Cut(by, "\t")
			providers = append(providers, Provider{by, version})
			return
		}
		if f := strings.Split(rest, "\t"); len(f) == 8 {
			p := Package{Name: name, Version: f[0], Arch: f[1], Depends: f[2], Provides: f[3], File: f[4], SHA256: f[5],
				Base: x.base}
			p.Bytes, _ = strconv.ParseInt(f[6], 10, 64) // unknown: 0
			p.Installed, _ = strconv.ParseInt(f[7], 10, 64)
			p.Installed <<= 10
			packages = append(packages, p)
		}
	})
	return packages, providers
}

// Names returns the names of packages that begin with a prefix.
func (x Index) Names(prefix string) []string {
	var names []string
	first := sort.Search(len(x.lines), func(i int) bool { return x.line(i) >= prefix })
	for i := first; i < len(x.lines) && strings.HasPrefix(x.line(i), prefix); i++ {
		name, rest, _ := strings.Cut(x.line(i), "\t")
		if !strings.HasPrefix(rest, "=") && (names == nil || names[len(names)-1] != name) {
			names = append(names, name)
		}
	}
	return names
}
