// Package settings reads what a user tells Dravit about this machine: settings.toml in Dravit's folder.
package settings

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

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
	// Settings are settings of servers that a stack file may decide here beside those that it may everywhere:
	// "mariadb.plugin_load_add".
	Settings []string `toml:"settings" json:"settings,omitempty"`
	// Ask holds, for programs by name, the arguments with which they print their version, separated by spaces.
	Ask map[string]string `toml:"ask" json:"ask,omitempty"`
	// Sources are where programs come from that the machine lacks.
	Sources []Source `toml:"source" json:"source,omitempty"`
	// Launch is how programs of Debian-format packages are started: loader or namespace. "": in the first way that
	// serves.
	Launch string `toml:"launch" json:"launch,omitempty"`
}

// Source is a registry or repository of packages.
type Source struct {
	Format  string `toml:"format" json:"format"`   // npm or debian
	Address string `toml:"address" json:"address"` // "": the one of the machine's own client
	Off     bool   `toml:"off" json:"off,omitempty"`

	// Of the Debian format:

	Suites     []string `toml:"suites" json:"suites,omitempty"`         // nil: those of the machine's own client
	Components []string `toml:"components" json:"components,omitempty"` // nil: main
	Keyring    string   `toml:"keyring" json:"keyring,omitempty"`       // a file; "": of the machine's own client
	Expired    bool     `toml:"expired" json:"expired,omitempty"`       // also after its list has expired
	Unsigned   bool     `toml:"unsigned" json:"unsigned,omitempty"`     // nobody signs it; for a folder only
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
	if because := s.wrongSource(); because != "" {
		return s, fault(file, because)
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

// wrongSource says what is wrong with the sources, or "".
func (s Settings) wrongSource() string {
	if s.Launch != "" && s.Launch != "loader" && s.Launch != "namespace" {
		return fmt.Sprintf("launch = %q is not known; it is loader or namespace", s.Launch)
	}
	registries := 0
	for _, x := range s.Sources {
		switch x.Format {
		case "npm":
			registries++
			if x.Suites != nil || x.Components != nil || x.Keyring != "" || x.Expired || x.Unsigned {
				return "a source of format npm has none of suites, components, keyring, expired and unsigned"
			}
		case "debian":
			if x.Address != "" && len(x.Suites) == 0 {
				return "the source " + x.Address + " names no suites"
			}
			if x.Keyring != "" && !filepath.IsAbs(x.Keyring) {
				return fmt.Sprintf("the keyring %q is not absolute", x.Keyring)
			}
			if x.Unsigned && !strings.HasPrefix(x.Address, "file:///") {
				return "unsigned = true is for a folder, an address that begins with file:///"
			}
		default:
			return fmt.Sprintf("a source of format %q is not known; the formats are: debian, npm", x.Format)
		}
	}
	if registries > 1 {
		return "it has several sources of format npm, and Dravit takes one"
	}
	return ""
}
