//go:build commandline

package cli

import "github.com/spf13/cobra"

func addServing(*cobra.Command) {}
