// Yardbroom keeps a directory of accounts tidy.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"

	"yardbroom/internal/cli"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	context.AfterFunc(ctx, stop) // a second Ctrl-C ends the program at once
	status := cli.Main(ctx, os.Args, os.Stdin, os.Stdout, os.Stderr)
	stop()
	os.Exit(status)
}
