module a.early

go 1.26
