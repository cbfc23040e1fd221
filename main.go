// Vivid Strain finds the highest load of video streams that a media device
// plays smoothly, and says what runs out first.
package main

import (
	"os"

	"vividstrain/cli"
)

func main() { os.Exit(cli.Main(os.Args, os.Stdin, os.Stdout, os.Stderr)) }
