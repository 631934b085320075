// Kestrix writes, checks, replays and serves configuration for reverse proxying.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"

	"kestrix/internal/cli"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	go func() {
		<-ctx.Done()
		stop() // a second Ctrl-C ends the program at once
	}()
	code := cli.Main(ctx, &cli.Env{Stdin: os.Stdin, Stdout: os.Stdout, Stderr: os.Stderr, Getenv: os.Getenv}, os.Args[1:])
	stop()
	os.Exit(code)
}
