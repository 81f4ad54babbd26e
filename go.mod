module ligare

go 1.26
