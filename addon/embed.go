// Package addon is the browser add-on: its pages and scripts as they run, and its texts. The service packs them for its organisation
// (core/addon); what the add-on does is described in docs/add-on.md. Nothing is built or fetched: what is here is what runs.
package addon

import (
	"embed"
	"io/fs"
)

//go:embed all:files
var embedded embed.FS

// Files are the files of the add-on: scripts, pages, pictures, and texts by language.
func Files() fs.FS {
	sub, err := fs.Sub(embedded, "files")
	if err != nil {
		panic(err) // the folder is part of the program
	}
	return sub
}
