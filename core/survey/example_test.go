package survey_test

import (
	"fmt"
	"os"
	"path/filepath"

	"tidytally/core/survey"
)

// A survey finds the tasks of a workspace. It reads, and executes nothing.
func ExampleOf() {
	root, err := os.MkdirTemp("", "emberclay-")
	if err != nil {
		panic(err)
	}
	defer os.RemoveAll(root)
	for name, text := range map[string]string{
		"Makefile":     "controller: ## Link the controller image\n\tcc -o controller main.c\n.PHONY: controller\n",
		"package.json": `{"scripts": {"build": "tsc -p ."}}`,
	} {
		if err := os.WriteFile(filepath.Join(root, name), []byte(text), 0o644); err != nil {
			panic(err)
		}
	}
	s, err := survey.Of(root)
	if err != nil {
		panic(err)
	}
	for _, t := range s.Tasks {
		fmt.Printf("%s: %s\n", t.ID(), t.Command)
	}
	// Output:
	// Makefile#controller: make controller
	// package.json#build: npm run build
}
