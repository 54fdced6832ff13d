// Package console holds the built files of the web console.
package console

import "embed"

// Dist is the folder dist as the build of the console wrote it; only a placeholder if the console was not built.
//
//go:embed all:dist
var Dist embed.FS
