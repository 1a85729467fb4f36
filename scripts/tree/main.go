// Tree lays out a workspace of many parts for measuring: tree DIR FILES. The same
// number of files gives the same tree. One file in forty declares tasks; more than
// half are in dependency folders, as in real trees.
package main

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
)

func main() {
	if len(os.Args) != 3 {
		fmt.Fprintln(os.Stderr, "usage: tree DIR FILES")
		os.Exit(2)
	}
	count, err := strconv.Atoi(os.Args[2])
	if err == nil {
		err = lay(os.Args[1], count)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// lay makes parts of forty files each until there are enough.
func lay(root string, count int) error {
	for part := 0; part*40 < count; part++ {
		dir := filepath.Join(root, fmt.Sprintf("group%02d", part%37), fmt.Sprintf("part%05d", part))
		declaring := map[string]string{
			"package.json": `{"name":"part` + strconv.Itoa(part) + `","scripts":{"build":"tsc -p .","test":"node --test","lint":"eslint .","start":"node ."}}` + "\n",
		}
		switch part % 4 {
		case 1:
			declaring = map[string]string{"Makefile": "all: lib ## Build all\n\ttrue\nlib: ## Build the library\n\ttrue\nclean:\n\ttrue\n.PHONY: all lib clean\n"}
		case 2:
			declaring = map[string]string{"go.mod": "module example.invalid/part" + strconv.Itoa(part) + "\n\ngo 1.26\n"}
		case 3:
			declaring = map[string]string{"Cargo.toml": "[package]\nname = \"part" + strconv.Itoa(part) + "\"\nversion = \"0.1.0\"\n"}
		}
		files := 0
		write := func(name, text string) error {
			files++
			full := filepath.Join(dir, name)
			if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
				return err
			}
			return os.WriteFile(full, []byte(text), 0o644)
		}
		for name, text := range declaring {
			if err := write(name, text); err != nil {
				return err
			}
		}
		for files < 16 {
			if err := write(fmt.Sprintf("src/file%02d.c", files), "int part;\n"); err != nil {
				return err
			}
		}
		for files < 40 {
			if err := write(fmt.Sprintf("node_modules/dep%d/file%02d.js", files%3, files), "module.exports = 1\n"); err != nil {
				return err
			}
		}
	}
	return nil
}
