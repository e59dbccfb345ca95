// Command hello prints one line: the least that a Go program takes.
package main

import "fmt"

func main() { fmt.Println("hello") }
