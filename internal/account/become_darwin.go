package account

import "os"

func program() (string, func(), error) {
	path, err := os.Executable()
	return path, func() {}, err
}

func reachable() error { return nil }
