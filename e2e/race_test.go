//go:build race

package e2e

func init() { buildFlags = []string{"-race"} }
