// Command latch is the command-line client of Oaken Latch.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"

	"oakenlatch/cli"
)

func main() {
	ctx, cancel := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer cancel()
	os.Exit(cli.Main(ctx, os.Args[1:]))
}
