package stack

import (
	"os"
	"path/filepath"
	"slices"
	"strings"

	"dravit/internal/environment"
	"dravit/internal/home"
	"dravit/internal/kind"
	"dravit/internal/shell"
)

// Shell returns the command that starts the user's interactive shell in the stack's environment, and its environment.
// user is the user's own environment, and part as for Environment. The shell reads its usual files first, and its
// prompt begins with the stack's name.
func (s *Stack) Shell(part string, user []string) (command, env []string, err error) {
	env, err = s.Environment(part, user)
	if err != nil {
		return nil, nil, err
	}
	vars, folders, err := s.Variables(part)
	if err != nil {
		return nil, nil, err
	}
	program := kind.Getenv(user, "SHELL")
	if program == "" {
		program = "/bin/sh"
	}
	// The shell's own files may set PATH and variables anew: set them again afterwards.
	again, err := environment.Format("sh", vars, folders)
	if err != nil {
		return nil, nil, err
	}
	prompt := "PS1=" + shell.Quote(s.Name+"> ") + "\"$PS1\"\n"
	dir := s.Home.Stack(s.ID, "shell")
	write := func(name, text string) error { return home.WriteFile(filepath.Join(dir, name), []byte(text), 0o600) }
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, nil, err
	}
	switch filepath.Base(program) {
	case "bash":
		err = write("bashrc", "[ ! -r ~/.bashrc ] || . ~/.bashrc\n"+again+prompt)
		return []string{program, "--rcfile", filepath.Join(dir, "bashrc"), "-i"}, env, err
	case "zsh":
		err = write(".zshrc", "ZDOTDIR=\"$HOME\"\n[ ! -r ~/.zshrc ] || . ~/.zshrc\n"+again+prompt)
		return []string{program, "-i"}, append(env, "ZDOTDIR="+dir), err
	case "fish":
		if again, err = environment.Format("fish", vars, folders); err != nil {
			return nil, nil, err
		}
		name := strings.ReplaceAll(s.Name, "'", "")
		prompt = "functions -q fish_prompt; and functions -c fish_prompt dravit_prompt\n" +
			"function fish_prompt; echo -n '" + name + "> '; functions -q dravit_prompt; and dravit_prompt; end\n"
		return []string{program, "-i", "-C", again + prompt}, env, nil
	}
	err = write("shrc", "[ ! -r ~/.profile ] || . ~/.profile\n"+again+prompt)
	env = slices.DeleteFunc(env, func(v string) bool { return strings.HasPrefix(v, "ENV=") })
	return []string{program, "-i"}, append(env, "ENV="+filepath.Join(dir, "shrc")), err // POSIX sh, "ENV"
}
