// Package web serves the console, built and embedded.
package web

import (
	"embed"
	"io/fs"
	"net/http"
	"path"
	"strings"
)

//go:embed all:dist
var files embed.FS

// Handler serves the console's files; a path that is none of them is a page of the console.
func Handler() (http.Handler, error) {
	dist, err := fs.Sub(files, "dist")
	if err != nil {
		return nil, err
	}
	server := http.FileServerFS(dist)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		name := strings.TrimPrefix(path.Clean(r.URL.Path), "/")
		if info, err := fs.Stat(dist, name); err == nil && !info.IsDir() {
			if strings.HasPrefix(name, "assets/") { // their names hold a digest of their content
				w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
			}
			server.ServeHTTP(w, r)
			return
		}
		if path.Ext(name) != "" && name != "index.html" {
			http.NotFound(w, r)
			return
		}
		page, err := fs.ReadFile(dist, "index.html")
		if err != nil {
			http.Error(w, "The console was not built into this server. Run ./run-demo, or `npm run build` in console/.", http.StatusNotFound)
			return
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		w.Header().Set("Cache-Control", "no-cache")
		_, _ = w.Write(page) // the caller is gone when this fails
	}), nil
}
