package environment

import (
	"fmt"
	"strings"

	"dravit/internal/shell"
)

// Formats are the forms in which Format writes an environment.
var Formats = []string{"sh", "fish", "powershell", "dotenv"}

// Format writes variables, each given as NAME=value, as a shell or a program reads them. The folders are put before
// those of PATH; dotenv, whose readers know no PATH, leaves them out. The format is one of Formats.
func Format(format string, vars, folders []string) (string, error) {
	var b strings.Builder
	path := joined(folders)
	for _, v := range vars {
		name, value, _ := strings.Cut(v, "=")
		switch format {
		case "sh":
			fmt.Fprintf(&b, "export %s=%s\n", name, shell.Quote(value))
		case "fish":
			fmt.Fprintf(&b, "set -gx %s %s\n", name, fishQuote(value))
		case "powershell":
			fmt.Fprintf(&b, "$env:%s = %s\n", name, powershellQuote(value))
		case "dotenv":
			fmt.Fprintf(&b, "%s=%s\n", name, DotenvQuote(value))
		default:
			return "", fmt.Errorf("there is no format %q; the formats are %s", format, strings.Join(Formats, ", "))
		}
	}
	if len(folders) == 0 {
		return b.String(), nil
	}
	switch format {
	case "sh":
		fmt.Fprintf(&b, "export PATH=%s:\"$PATH\"\n", shell.Quote(path))
	case "fish":
		b.WriteString("set -gx PATH")
		for _, f := range folders {
			b.WriteString(" " + fishQuote(f))
		}
		b.WriteString(" $PATH\n")
	case "powershell":
		fmt.Fprintf(&b, "$env:PATH = %s + $env:PATH\n", powershellQuote(path+":"))
	}
	return b.String(), nil
}

// fishQuote quotes a text for fish (fishshell.com, "Quotes": \ and ' are the only special characters).
func fishQuote(text string) string {
	return "'" + strings.NewReplacer(`\`, `\\`, "'", `\'`).Replace(text) + "'"
}

// powershellQuote quotes a text for PowerShell, which takes typographic apostrophes for the straight one
// (learn.microsoft.com, "about_Quoting_Rules").
func powershellQuote(text string) string {
	var b strings.Builder
	b.WriteByte('\'')
	for _, r := range text {
		if strings.ContainsRune("'\u2018\u2019\u201a\u201b", r) {
			b.WriteRune(r)
		}
		b.WriteRune(r)
	}
	b.WriteByte('\'')
	return b.String()
}
