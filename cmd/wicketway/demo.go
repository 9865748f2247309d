package main

import (
	"github.com/spf13/cobra"

	"github.com/wicketway/wicketway/examples/canal/demo"
)

func demoCommand() *cobra.Command {
	var s demo.Settings
	var tour bool
	c := &cobra.Command{
		Use:   "demo",
		Short: "Serve the Osterbeck Canal, a made-up API to try things on",
		Long: `Serve the Osterbeck Canal, a made-up API to try things on.

The log is JSON; with WICKETWAY_DEVELOPMENT=1 in the environment it is made to be read in a
terminal, and problems say what caused them. Numbers for Prometheus (/metrics) have an address of
their own; traces go to OTEL_EXPORTER_OTLP_ENDPOINT where that is set (OTLP over HTTP).`,
		Args: takes,
		RunE: func(c *cobra.Command, _ []string) error {
			if tour {
				return checked(demo.Tour(c.Context(), c.OutOrStdout()))
			}
			return checked(demo.Run(c.Context(), s, c.OutOrStdout(), demo.Logger(c.ErrOrStderr())))
		},
	}
	c.Flags().StringVar(&s.Listen, "listen", "127.0.0.1:8080", "`ADDRESS` to listen on")
	c.Flags().StringVar(&s.Data, "data", "", "`FOLDER` for the data (default: a temporary one)")
	c.Flags().StringVar(&s.Metrics, "metrics", "127.0.0.1:0", "`ADDRESS` of the numbers for Prometheus, with port 0 for a free one")
	c.Flags().BoolVar(&tour, "tour", false,
		"walk through the API on a free port, print each request and answer, and end")
	return c
}
