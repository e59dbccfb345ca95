package kind

import (
	"context"
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"syscall"

	"dravit/internal/cause"
	"dravit/internal/pattern"
	"dravit/internal/stackfile"
)

// Defaults is embedded by kinds that lack keys, a program, exports or configuration files.
type Defaults struct{}

func (Defaults) Fit(stackfile.PartConfig, Program) string { return "" }
func (Defaults) Exports(Part) Exports                     { return Exports{} }
func (Defaults) Files(Part) ([]File, error)               { return nil, nil }
func (Defaults) Folders(Part) []string                    { return nil }
func (Defaults) Test(Part) Command                        { return Command{} }
func (Defaults) DeepChecks(Part) []DeepCheck              { return nil }
func (Defaults) LastWords(string) string                  { return "" }

func (Defaults) Inspect(context.Context,
	string, func(string, ...string) (string, error)) (string, map[string]string, error) {
	return "", nil, errors.ErrUnsupported
}

// StoreDefaults is embedded by stores that start with an empty folder and need no accounts.
type StoreDefaults struct{ Defaults }

func (StoreDefaults) Template(Part) string                              { return "" }
func (StoreDefaults) Fill(context.Context, Part, string) error          { return nil }
func (StoreDefaults) Upgrade(context.Context, Part, string) error       { return errors.ErrUnsupported }
func (StoreDefaults) Clean(Part, func(pid int, name string) bool) error { return nil }
func (StoreDefaults) Prepare(context.Context, Part) error               { return nil }

func (StoreDefaults) AddUser(context.Context, Part, Account) error { return errors.ErrUnsupported }
func (StoreDefaults) DropUser(context.Context, Part, string) error { return errors.ErrUnsupported }
func (StoreDefaults) Users(context.Context, Part) ([]string, error) {
	return nil, errors.ErrUnsupported
}

func (StoreDefaults) Sessions(context.Context, Part) ([]Session, int, string, error) {
	return nil, 0, "", errors.ErrUnsupported
}

// RuntimeDefaults is embedded by runtimes whose modules belong to the project's own packages.
type RuntimeDefaults struct{}

func (RuntimeDefaults) ModuleFolders(Program) []string    { return nil }
func (RuntimeDefaults) ReadModules(string) []Module       { return nil }
func (RuntimeDefaults) Clients(string) []string           { return nil }
func (RuntimeDefaults) ExtensionName(entry string) string { return entry }
func (RuntimeDefaults) OfOneProcess(string) bool          { return false }

func (RuntimeDefaults) LoadedModules(context.Context, Part) (Proof, error) {
	return Proof{}, errors.ErrUnsupported
}

func (RuntimeDefaults) Debug(context.Context, Part) (string, error) { return "", errors.ErrUnsupported }

// ConfigFile returns the configuration file of a part that the dravit program itself runs.
func ConfigFile(name string, config any) ([]File, error) {
	text, err := json.MarshalIndent(config, "", "  ")
	return []File{{Name: name, Text: string(text) + "\n", Mode: 0o600}}, err
}

// OwnSymptoms match what the parts that the dravit program itself runs write when something is wrong.
func OwnSymptoms() []Symptom {
	return []Symptom{
		When(cause.PortTaken, pattern.New(`(listen tcp [^\n]*: bind: address already in use)`),
			"the port was taken: $1", "dravit start, which uses another port unless it is pinned"),
	}
}

// OwnCommand returns the command of a part that the dravit program itself runs, with the file that ConfigFile returned.
func OwnCommand(p Part, config string) Command {
	return Command{
		Path: p.Self,
		Args: []string{"internal", "serve", p.Kind, filepath.Join(p.Conf, config)},
		Dir:  p.Conf,
		Env:  p.Env,
		Stop: syscall.SIGTERM,
	}
}

// ReadConfig reads the file that ConfigFile returned.
func ReadConfig(file string, config any) error {
	text, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	return json.Unmarshal(text, config)
}
