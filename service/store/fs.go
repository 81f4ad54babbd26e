package store

import "io/fs"

func sub() (fs.FS, error) { return fs.Sub(migrations, "migrations") }
