// Canal serves the demo API of the Osterbeck Canal. It is what "wicketway demo"
// runs, as a program of its own.
package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"os/signal"
	"syscall"

	"github.com/wicketway/wicketway/examples/canal/demo"
)

func main() {
	listen := flag.String("listen", "127.0.0.1:8080", "address to listen on")
	data := flag.String("data", "", "folder for the data (default: a temporary one)")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if err := demo.Run(ctx, *listen, *data, os.Stdout, demo.Logger(os.Stderr)); err != nil {
		fmt.Fprintln(os.Stderr, "canal:", err)
		os.Exit(1)
	}
}
