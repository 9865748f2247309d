package main

import (
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"github.com/wicketway/wicketway/contract"
	"github.com/wicketway/wicketway/handbook"
)

func handbookCommand() *cobra.Command {
	var out, address string
	var fresh bool
	c := &cobra.Command{
		Use:   "handbook CONTRACT",
		Short: "Write pages to read an API by, as files",
		Long: `Write pages to read an API by, as files: its operations with their rules in words, answers and problems. They need neither a
server nor scripts, and ask no other host for anything.

CONTRACT is that of anybody's API. ` + originHelp,
		Args: takes,
		RunE: func(c *cobra.Command, args []string) error {
			if out == "" {
				return errors.New("the flag --out FOLDER is missing: it says where the pages are written")
			}
			all, err := source{screenOf(c.ErrOrStderr()), fresh}.contracts(c.Context(), args[0])
			if err != nil {
				return err
			}
			var versions []contract.Versioned
			for _, one := range all {
				versions = append(versions, contract.Versioned{Name: one.version, Prefix: one.prefix, Document: one.doc})
			}
			files, err := handbook.Write(c.Context(), out, versions, address)
			if err != nil {
				return checked(err)
			}
			fmt.Fprintf(c.OutOrStdout(), "wrote %d files into %s: begin with index.html\n", len(files), out)
			return nil
		},
	}
	c.Flags().StringVar(&out, "out", "", "the `FOLDER` that is written into")
	c.Flags().StringVar(&address, "address", defaultAddress, "the `ADDRESS` of the API, for the lines to paste")
	c.Flags().BoolVar(&fresh, "fresh", false, "build and run the program even where its description is kept")
	return c
}
