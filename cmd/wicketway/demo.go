package main

import (
	"github.com/spf13/cobra"

	"github.com/wicketway/wicketway/examples/canal/demo"
)

func demoCommand() *cobra.Command {
	var listen, data string
	var tour bool
	c := &cobra.Command{
		Use:   "demo",
		Short: "Serve the Osterbeck Canal, a made-up API to try things on",
		Long: `Serve the Osterbeck Canal, a made-up API to try things on.

The log is JSON; with WICKETWAY_DEVELOPMENT=1 in the environment it is made to be read in a
terminal, and problems say what caused them.`,
		Args: takes,
		RunE: func(c *cobra.Command, _ []string) error {
			if tour {
				return checked(demo.Tour(c.Context(), c.OutOrStdout()))
			}
			return checked(demo.Run(c.Context(), listen, data, c.OutOrStdout(), demo.Logger(c.ErrOrStderr())))
		},
	}
	c.Flags().StringVar(&listen, "listen", "127.0.0.1:8080", "`ADDRESS` to listen on")
	c.Flags().StringVar(&data, "data", "", "`FOLDER` for the data (default: a temporary one)")
	c.Flags().BoolVar(&tour, "tour", false,
		"walk through the API on a free port, print each request and answer, and end")
	return c
}
