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

// Settings is the file. A file that is not there is an empty one.
type Settings struct {
	// Programs are folders to look for programs in, beside PATH and the usual ones. Absolute.
	Programs []string `toml:"programs" json:"programs"`
	// Extensions are folders to look for PHP extension files in, beside those of the PHPs that are found. Absolute.
	Extensions []string `toml:"extensions" json:"extensions"`
	// HTTP and HTTPS are the ports that the gateway takes where they are free. 0: 80 and 443 where this user may, else
	// others.
	HTTP  int `toml:"http" json:"http"`
	HTTPS int `toml:"https" json:"https"`
	// Outside are folders and files beside projects that stack files may name, or reach through links. Absolute.
	Outside []string `toml:"outside" json:"outside,omitempty"`
	// Suffixes are what host names may end with though it is not reserved for private use.
	Suffixes []string `toml:"suffixes" json:"suffixes,omitempty"`
	// Ask is how programs of these names are asked for their version: arguments, with spaces between.
	Ask map[string]string `toml:"ask" json:"ask,omitempty"`
}

// fault says what is wrong with the file.
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
	for name, port := range map[string]int{"http": s.HTTP, "https": s.HTTPS} {
		if port < 0 || port > 65535 || port != 0 && s.HTTP == s.HTTPS {
			return s, fault(file, fmt.Sprintf("%s = %d is no port of its own", name, port))
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
