// Package console holds the built console's files.
package console

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Files are the built files; index.html is missing when the console was not built.
func Files() fs.FS {
	files, err := fs.Sub(dist, "dist")
	if err != nil {
		panic(err) // the folder is embedded by name
	}
	return files
}
