// Arithmon is a shared point database for Modbus devices.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"
	_ "time/tzdata" // for machines that have no time zones

	"arithmon/internal/app/cli"
	"arithmon/web"
)

// version is set by the build.
var version = "development"

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	env := cli.Env{Out: os.Stdout, Err: os.Stderr, In: os.Stdin, Getenv: os.Getenv, Console: web.Console(), Version: version}
	os.Exit(cli.Run(ctx, env, os.Args[1:]))
}
