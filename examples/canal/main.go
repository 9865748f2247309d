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
	metrics := flag.String("metrics", "127.0.0.1:0", "address of the numbers for Prometheus (port 0: a free one)")
	data := flag.String("data", "", "folder for the data (default: a temporary one)")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if err := demo.Run(ctx, demo.Settings{Listen: *listen, Metrics: *metrics, Data: *data}, os.Stdout, demo.Logger(os.Stderr)); err != nil {
		fmt.Fprintln(os.Stderr, "canal:", err)
		os.Exit(1)
	}
}
