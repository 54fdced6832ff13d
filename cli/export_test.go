package cli

import "github.com/spf13/cobra"

// Root is the tree of commands, for tests that walk it.
func Root() *cobra.Command { return (&app{}).root() }
