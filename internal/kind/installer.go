package kind

import (
	"slices"
	"strings"
)

// Installers are the programs that install a system's own packages, in the order in which they are looked for, and how
// each is told to.
var Installers = []Installer{
	{"apt-get", "sudo apt-get install"},
	{"dnf", "sudo dnf install"},
	{"pacman", "sudo pacman -S"},
	{"zypper", "sudo zypper install"},
	{"apk", "sudo apk add"},
	{"brew", "brew install"},
}

// Installer installs a system's own packages.
type Installer struct {
	Program string // its name
	Command string // before the names of packages
}

// Install returns the command by which an installer installs programs of these kinds, or "" if it is not known.
func Install(installer string, kinds []*Traits) string {
	i := slices.IndexFunc(Installers, func(x Installer) bool { return x.Program == installer })
	if i < 0 || len(kinds) == 0 {
		return ""
	}
	words := []string{Installers[i].Command}
	for _, t := range kinds {
		names := t.System[installer]
		if names == "" {
			return ""
		}
		if !slices.Contains(words, names) {
			words = append(words, names)
		}
	}
	return strings.Join(words, " ")
}
