//go:build !commandline

package cli

import "github.com/spf13/cobra"

// addServing adds the commands that run a service, or make one. A program that is built with
// the tag commandline is for the machines of those who use one, and has none of them.
func addServing(root *cobra.Command) {
	root.AddGroup(&cobra.Group{ID: "run", Title: "Run the service:"})
	for _, c := range []*cobra.Command{serveCommand(), demoCommand(), restoreCommand()} {
		c.GroupID = "run"
		root.AddCommand(c)
	}
	root.AddCommand(openapiCommand())
}
