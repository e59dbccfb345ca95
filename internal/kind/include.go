package kind

import (
	"slices"
	"strings"

	"dravit/internal/directives"
)

// IncludeRules say what a file of the project may contain that a site includes into the configuration of a web server.
type IncludeRules struct {
	// Read splits the text of the file.
	Read func(text string) []directives.Directive
	// Refused are directives that such a file may not have: they listen, load code into the server or read other files
	// as configuration.
	Refused []string
	// Texts are directives whose words are addresses, patterns and texts. The words of all others may name files.
	Texts []string
	// Named are directives of Texts of which some words name files: those after one of these words.
	Named map[string][]string
	// Dynamic are directives that would open a file by the value of a variable, and Anchors variables with which such a
	// name may begin.
	Dynamic, Anchors []string
	// Opens returns the directive that would open folders that the configuration around it closes, or nil. If Opens is
	// nil, there is no such directive.
	Opens func(all []directives.Directive) *directives.Directive
}

// Refuses reports whether a directive is refused.
func (r *IncludeRules) Refuses(d directives.Directive) bool {
	return slices.Contains(r.Refused, d.Name)
}

// Files returns the words of a directive that name files or folders by an absolute path, or with .. in it, and those
// that begin with a variable, which may hold anything.
func (r *IncludeRules) Files(d directives.Directive) (files, dynamic []string) {
	texts := slices.Contains(r.Texts, d.Name)
	for i, w := range d.Args {
		if _, path, ok := strings.Cut(w, "unix:"); ok {
			files = append(files, path)
			continue
		}
		named := !texts || i > 0 && slices.Contains(r.Named[d.Name], d.Args[i-1])
		if named && strings.HasPrefix(w, "/") || slices.Contains(strings.Split(w, "/"), "..") {
			files = append(files, w)
		}
		if strings.ContainsAny(w[:min(1, len(w))], "$%") && (slices.Contains(r.Dynamic, d.Name) || named && texts) &&
			!slices.ContainsFunc(r.Anchors, func(a string) bool { return strings.HasPrefix(w, a) }) {
			dynamic = append(dynamic, w)
		}
	}
	return files, dynamic
}
