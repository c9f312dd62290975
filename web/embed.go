// Package web holds the built web application, which make build puts into
// dist/app.
package web

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Files gives the files of the web application; without a build it is empty.
func Files() fs.FS {
	app, err := fs.Sub(dist, "dist/app")
	if err != nil {
		return dist
	}
	return app
}
