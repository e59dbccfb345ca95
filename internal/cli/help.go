package cli

import (
	"fmt"
	"regexp"
	"strings"

	"github.com/spf13/cobra"

	"dravit/internal/ui"
)

// wrapHelp makes the help of root and all its commands fit the terminal's width.
func wrapHelp(root *cobra.Command) {
	cobra.AddTemplateFunc("paragraphs", func(text string) string { return paragraphs(text, ui.Width()) })
	root.SetHelpTemplate("{{with or .Long .Short}}{{paragraphs .}}\n\n{{end}}" +
		"{{if or .Runnable .HasSubCommands}}{{.UsageString}}{{end}}")
	wrapped := fmt.Sprintf("FlagUsagesWrapped %d", ui.Width())
	root.SetUsageTemplate(strings.ReplaceAll(root.UsageTemplate(), "FlagUsages", wrapped))
}

// item is a line of a list in a help text: two spaces, a word, and after more spaces what it means.
var item = regexp.MustCompile(`^(  \S+ +)(\S.*)$`)

// paragraphs fills the lines of each paragraph up to width columns. An item of a list begins a line of its own, and
// what does not fit goes on below its meaning. A line that is indented deeper belongs to the item above it.
func paragraphs(text string, width int) string {
	var out, words []string
	head := ""
	end := func() {
		for i, l := range ui.Wrap(strings.Join(words, " "), width-len(head)) {
			if i > 0 {
				head = strings.Repeat(" ", len(head))
			}
			out = append(out, head+l)
		}
		head, words = "", nil
	}
	for line := range strings.SplitSeq(strings.TrimSpace(text), "\n") {
		switch m := item.FindStringSubmatch(line); {
		case line == "":
			end()
			out = append(out, "")
		case m != nil:
			end()
			head, words = m[1], []string{m[2]}
		default:
			words = append(words, strings.TrimSpace(line))
		}
	}
	end()
	return strings.Join(out, "\n")
}
