package cli

import (
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"dravit/internal/environment"
	"dravit/internal/stack"
)

// words returns what may come next. given are the arguments before.
type words func(cmd *cobra.Command, given []string) []string

// of returns words of the stack that the flags name.
func (a *app) of(choose func(w stack.Words) []string) words { return a.asked(false, choose) }

// asked is of; with servers, it also asks the stack's servers.
func (a *app) asked(servers bool, choose func(w stack.Words) []string) words {
	return func(cmd *cobra.Command, _ []string) []string {
		s, err := a.stack()
		if err != nil {
			return nil
		}
		return choose(s.Words(cmd.Context(), servers))
	}
}

// ofMachine returns words of this machine.
func (a *app) ofMachine(choose func(m *stack.Machine) []string) words {
	return func(*cobra.Command, []string) []string {
		m, err := a.machine()
		if err != nil {
			return nil
		}
		return choose(m)
	}
}

// once is words for the first argument only.
func once(w words) words {
	return func(cmd *cobra.Command, given []string) []string {
		if len(given) > 0 {
			return nil
		}
		return w(cmd, given)
	}
}

// complete has shells complete the names that a stack and this machine have: after commands, and after options. What
// is not listed here completes files, or words that its command knows itself.
func (a *app) complete(root *cobra.Command) {
	parts := a.of(func(w stack.Words) []string { return w.Parts })
	sites := a.of(func(w stack.Words) []string { return w.Sites })
	both := a.of(func(w stack.Words) []string { return append(slices.Clone(w.Parts), w.Sites...) })
	databases := a.of(func(w stack.Words) []string { return w.Databases })
	stacks := a.ofMachine((*stack.Machine).StackNames)
	marks := a.of(func(w stack.Words) []string { return w.Marks })
	tasks := a.of(func(w stack.Words) []string { return w.Tasks })
	supplied := a.ofMachine((*stack.Machine).SuppliedKinds)
	others := a.asked(true, func(w stack.Words) []string { return w.Others })
	for path, w := range map[string]words{
		"start": none, "status": none, "plan": none, "diagnose": none, "propose": none,
		"restart": parts, "stop": parts, "remove": parts, "logs": parts, "check": both,
		"flush": a.of(func(w stack.Words) []string { return w.Stores }),
		"task":  once(tasks), "db rewind": once(marks), "db copy": once(stacks), "db drop": once(others),
		"db mark": none, "db add": none, "db query": none, "db tables": none, "db access": none,
		"supply":        once(a.ofMachine((*stack.Machine).Suppliable)),
		"supply verify": once(supplied), "supply discard": once(supplied),
	} {
		c, _, err := root.Find(strings.Fields(path))
		if err == nil && c != root {
			c.ValidArgsFunction = w.complete
		}
	}
	ofFlag := map[string]words{
		"stack": stacks, "part": parts, "database": others, "trace": sites, "reachable": both, "unreachable": both,
		"upgrade": parts, "delete": marks,
		"format": func(*cobra.Command, []string) []string { return environment.Formats },
	}
	var each func(c *cobra.Command)
	each = func(c *cobra.Command) {
		for name, w := range ofFlag {
			if f := c.Flag(name); f == nil || c.LocalFlags().Lookup(name) == nil {
				continue
			}
			if name == "part" && c.Name() == "db" {
				w = databases
			}
			_ = c.RegisterFlagCompletionFunc(name, w.complete) // it fails only if there is no such option
		}
		for _, sub := range c.Commands() {
			each(sub)
		}
	}
	each(root)
}

// none completes nothing, not even files.
func none(*cobra.Command, []string) []string { return nil }

// complete returns the words in the form of cobra, without those that were given.
func (w words) complete(cmd *cobra.Command, given []string, _ string) ([]string, cobra.ShellCompDirective) {
	all := slices.Clone(w(cmd, given))
	return slices.DeleteFunc(all, func(word string) bool { return slices.Contains(given, word) }),
		cobra.ShellCompDirectiveNoFileComp
}
