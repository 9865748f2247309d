// Canal serves the demo API of the Osterbeck Canal. It is what "wicketway demo"
// runs, as a program of its own.
package main

import (
	"context"
	"flag"
	"fmt"
	"log/slog"
	"os"
	"os/signal"
	"syscall"

	"github.com/wicketway/wicketway/chain/accesslog"
	"github.com/wicketway/wicketway/examples/canal/demo"
)

func main() {
	listen := flag.String("listen", "127.0.0.1:8080", "address to listen on")
	data := flag.String("data", "", "folder for the data (default: a temporary one)")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	log := slog.New(accesslog.Redact(slog.NewTextHandler(os.Stderr, nil)))
	if err := demo.Run(ctx, *listen, *data, os.Stdout, log); err != nil {
		fmt.Fprintln(os.Stderr, "canal:", err)
		os.Exit(1)
	}
}
