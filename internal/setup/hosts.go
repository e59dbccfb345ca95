package setup

import (
	"errors"
	"os"
	"slices"
	"strings"

	"dravit/internal/kind"
)

const (
	hostsBegin = "# Dravit, names of "
	hostsEnd   = "# Dravit, end of names of "
	hostsHint  = ": dravit names hosts off takes them out"
	hostsTorn  = "; the line before had no end"
)

// HostsFile returns the path of the system's hosts file.
func (p Place) HostsFile() string { return p.path("etc", "hosts") }

// Hosts returns the steps that write the names to a block of the hosts file, in place of an earlier block. It leaves
// wildcards out, which a hosts file does not know. Without names, the steps remove the block and leave every other byte
// as it is.
func (p Place) Hosts(names []string) ([]Step, error) {
	text, err := os.ReadFile(p.HostsFile())
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, err
	}
	return p.write(p.HostsFile(), hostsWith(string(text), p.User, names))
}

// HostsNames returns the names in the block.
func (p Place) HostsNames() []string {
	text, _ := os.ReadFile(p.HostsFile())
	_, block, _ := cutBlock(string(text), p.User)
	var names []string
	for line := range strings.Lines(block) {
		if f := strings.Fields(line); len(f) == 2 && f[0] == kind.Host {
			names = append(names, f[1])
		}
	}
	return names
}

func hostsWith(text, user string, names []string) string {
	before, _, after := cutBlock(text, user)
	names = slices.DeleteFunc(slices.Clone(names), func(n string) bool { return strings.HasPrefix(n, "*") })
	if len(names) == 0 {
		return before + after
	}
	slices.Sort(names)
	var b strings.Builder
	b.WriteString(before)
	torn := ""
	if before != "" && !strings.HasSuffix(before, "\n") {
		b.WriteString("\n")
		torn = hostsTorn
	}
	b.WriteString(hostsBegin + user + hostsHint + torn + "\n")
	for _, address := range []string{kind.Host, "::1"} {
		for _, n := range slices.Compact(names) {
			b.WriteString(address + " " + n + "\n")
		}
	}
	b.WriteString(hostsEnd + user + "\n")
	b.WriteString(after)
	return b.String()
}

// cutBlock removes a user's block from the text of a hosts file. A block without an end counts as none.
func cutBlock(text, user string) (before, block, after string) {
	at, begin := 0, -1
	for line := range strings.Lines(text) {
		bare := strings.TrimRight(line, "\r\n")
		switch {
		case strings.HasPrefix(bare, hostsBegin+user+hostsHint):
			begin = at
		case bare == hostsEnd+user && begin >= 0:
			before, block, after = text[:begin], text[begin:at], text[at+len(line):]
			if head, _, _ := strings.Cut(block, "\n"); strings.HasSuffix(head, hostsTorn) {
				before = strings.TrimSuffix(before, "\n")
			}
			return before, block, after
		}
		at += len(line)
	}
	return text, "", ""
}
