package apache

import (
	"slices"
	"strings"

	"dravit/internal/directives"
	"dravit/internal/kind"
)

// includes are for files that a site includes into its virtual host (httpd.apache.org, "Directive Quick Reference").
var includes = &kind.IncludeRules{
	Read: directives.Lines,
	Refused: []string{"listen", "include", "includeoptional", "loadmodule", "loadfile", "define", "user", "group",
		"pidfile", "serverroot", "defaultruntimedir", "mutex", "scoreboardfile", "coredumpdirectory", "<virtualhost",
		"<directorymatch", "<macro", "use"},
	Texts: []string{"rewritecond", "rewritebase", "rewriteengine", "rewriteoptions", "redirect", "redirectmatch",
		"redirectpermanent", "redirecttemp", "<location", "<locationmatch", "<if", "<elseif", "<filesmatch", "<files",
		"header", "requestheader", "setenv", "setenvif", "setenvifnocase", "setenvifexpr", "errordocument",
		"fallbackresource", "directoryindex", "addtype", "addhandler", "addcharset", "addencoding", "addoutputfilter",
		"addoutputfilterbytype", "serveralias", "servername", "serverpath", "serveradmin", "proxypass",
		"proxypassreverse", "proxypassmatch", "proxypassreversecookiepath", "sethandler", "expiresbytype",
		"expiresdefault", "substitute", "require", "browsermatch", "</location", "</directory", "</if", "</files",
		"logformat", "limitrequestbody", "indexignore", "options"},
	Dynamic: []string{"alias", "scriptalias", "documentroot", "customlog", "errorlog"},
	Opens:   opens,
}

// opens returns what would let Apache serve any folder that a rule names: rights that a section for addresses gives go
// before those of folders.
func opens(all []directives.Directive) *directives.Directive {
	var sections []string
	for _, d := range all {
		switch {
		case strings.HasPrefix(d.Name, "</"):
			sections = sections[:max(0, len(sections)-1)]
		case strings.HasPrefix(d.Name, "<"):
			sections = append(sections, d.Name)
		case (d.Name == "require" || d.Name == "allow" || d.Name == "satisfy" || d.Name == "authmerging") &&
			!slices.Contains(sections, "<directory"):
			return &d
		}
	}
	return nil
}
