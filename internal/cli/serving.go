//go:build !commandline

package cli

import (
	"github.com/spf13/cobra"

	"crelvo/console"
	"crelvo/internal/web"
)

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

// openapiCommand prints the description of the API; the console's types are
// made from it.
func openapiCommand() *cobra.Command {
	return &cobra.Command{Use: "openapi", Short: "Print the OpenAPI document of the management API", Hidden: true,
		Args: arguments(cobra.NoArgs),
		RunE: func(cmd *cobra.Command, _ []string) error {
			document, err := web.New(nil, web.Settings{Version: Version, Console: console.Files()}).OpenAPI()
			if err != nil {
				return err
			}
			_, err = cmd.OutOrStdout().Write(append(document, '\n'))
			return err
		}}
}
