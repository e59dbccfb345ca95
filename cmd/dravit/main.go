// Command dravit brings up the servers that a web project needs, and proves that each answers.
package main

import (
	"os"

	"dravit/internal/cli"
)

func main() { os.Exit(cli.Main()) }
