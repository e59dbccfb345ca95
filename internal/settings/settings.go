// Package settings reads what a user tells Dravit about this machine: settings.toml in Dravit's folder.
package settings

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/pelletier/go-toml/v2"

	"dravit/internal/home"
	"dravit/internal/trouble"
)

// Name is the file's name in Dravit's folder.
const Name = "settings.toml"

// Settings is the content of the file. A missing file is an empty one.
type Settings struct {
	// Programs are folders with programs, beside PATH and the usual folders. They are absolute.
	Programs []string `toml:"programs" json:"programs"`
	// Extensions are folders with PHP extension files, beside those of the PHPs that are found. They are absolute.
	Extensions []string `toml:"extensions" json:"extensions"`
	// HTTP and HTTPS are the gateway's ports, if they are free. 0: 80 and 443 if this user may open them, else others.
	HTTP  int `toml:"http" json:"http"`
	HTTPS int `toml:"https" json:"https"`
	// Outside are files and folders outside projects that stack files may name, or reach through links. They are
	// absolute.
	Outside []string `toml:"outside" json:"outside,omitempty"`
	// Suffixes are allowed endings of host names that are not reserved for private use.
	Suffixes []string `toml:"suffixes" json:"suffixes,omitempty"`
	// Ask holds, for programs by name, the arguments with which they print their version, separated by spaces.
	Ask map[string]string `toml:"ask" json:"ask,omitempty"`
	// Sources are where programs come from that the machine lacks.
	Sources []Source `toml:"source" json:"source,omitempty"`
}

// Source is a registry of packages.
type Source struct {
	Format  string `toml:"format" json:"format"`   // npm
	Address string `toml:"address" json:"address"` // "": the one of the machine's own client
	Off     bool   `toml:"off" json:"off,omitempty"`
}

// fault says what is wrong with the file, or "".
func fault(file, what string) error {
	return &trouble.Trouble{
		Code:    trouble.BadSettings,
		What:    "Dravit's settings have a fault",
		Because: what,
		Next:    "correct " + file,
	}
}

// Read reads the settings. An unknown key or a relative folder is trouble.BadSettings.
func Read(h *home.Home) (Settings, error) {
	var s Settings
	file := h.Path(Name)
	f, err := os.Open(file)
	if errors.Is(err, fs.ErrNotExist) {
		return s, nil
	}
	if err != nil {
		return s, err
	}
	defer f.Close()
	if err := toml.NewDecoder(f).DisallowUnknownFields().Decode(&s); err != nil {
		var strict *toml.StrictMissingError
		if errors.As(err, &strict) {
			return s, fault(file, "unknown key:\n"+strict.String())
		}
		return s, fault(file, err.Error())
	}
	if len(s.Sources) > 1 {
		return s, fault(file, "it has several sources, and Dravit takes one")
	}
	for _, x := range s.Sources {
		if x.Format != "npm" {
			return s, fault(file, fmt.Sprintf("a source of format %q is not known; the formats are: npm", x.Format))
		}
	}
	for name, port := range map[string]int{"http": s.HTTP, "https": s.HTTPS} {
		if port < 0 || port > 65535 || port != 0 && s.HTTP == s.HTTPS {
			return s, fault(file, fmt.Sprintf("%s = %d cannot be the gateway's port", name, port))
		}
	}
	for _, folders := range [][]string{s.Programs, s.Extensions, s.Outside} {
		for i, dir := range folders {
			if !filepath.IsAbs(dir) {
				return s, fault(file, fmt.Sprintf("the folder %q is not absolute", dir))
			}
			folders[i] = filepath.Clean(dir)
		}
	}
	return s, nil
}
