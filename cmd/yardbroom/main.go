// Yardbroom keeps a directory of accounts tidy.
package main

import (
	"os"

	"yardbroom/internal/cli"
)

func main() { os.Exit(cli.Program()) }
