package kind

import (
	"encoding/json"
	"os"

	"dravit/internal/stackfile"
)

// Defaults is embedded by kinds and stands for what they do not have: keys, a program, exports, configuration files.
type Defaults struct{}

func (Defaults) Keys() []string                     { return nil }
func (Defaults) Programs() []string                 { return nil }
func (Defaults) Fit(stackfile.Part, Program) string { return "" }
func (Defaults) Exports(Part) Exports               { return Exports{} }
func (Defaults) Files(Part) ([]File, error)         { return nil, nil }

// ConfigFile is the configuration of a part that the dravit program itself runs.
func ConfigFile(name string, config any) ([]File, error) {
	text, err := json.MarshalIndent(config, "", "  ")
	return []File{{Name: name, Text: string(text) + "\n", Mode: 0o600}}, err
}

// ReadConfig reads what ConfigFile wrote.
func ReadConfig(file string, config any) error {
	text, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	return json.Unmarshal(text, config)
}
