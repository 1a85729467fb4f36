// Package workspace finds the root of a workspace, walks its files in parallel
// under the rules that keep noise out, and watches it for changes. It reads
// names and ignore files, nothing else, and executes nothing.
package workspace

import (
	"bytes"
	"os"
	"path/filepath"

	"tidytally/core/files"
)

// TallyFile is the name of our own task file.
const TallyFile = "tidytally.toml"

// Root returns the workspace that dir belongs to: the nearest folder upward that
// holds a tally file with a [workspace] table, a workspace declaration or a
// version-control folder; otherwise dir itself. dir must exist. The result is
// absolute, with symbolic links resolved.
func Root(dir string) (string, error) {
	abs, err := filepath.Abs(dir)
	if err != nil {
		return "", err
	}
	if abs, err = filepath.EvalSymlinks(abs); err != nil {
		return "", err
	}
	info, err := os.Stat(abs)
	if err != nil {
		return "", err
	}
	if !info.IsDir() {
		return "", &os.PathError{Op: "open workspace", Path: dir, Err: errNotFolder}
	}
	for at := abs; ; at = filepath.Dir(at) {
		if isRoot(at) {
			return at, nil
		}
		if at == filepath.Dir(at) {
			return abs, nil
		}
	}
}

type folderError string

func (e folderError) Error() string { return string(e) }

const errNotFolder = folderError("not a folder; give the folder it is in")

var versionControl = []string{".git", ".hg", ".svn", ".bzr", ".jj", "_darcs"}

// declarations are files that declare a workspace when they hold the words.
var declarations = []struct{ name, words string }{
	{TallyFile, "[workspace]"},
	{"pnpm-workspace.yaml", ""},
	{"go.work", ""},
	{"package.json", `"workspaces"`},
	{"Cargo.toml", "[workspace]"},
}

func isRoot(dir string) bool {
	for _, name := range versionControl {
		if _, err := os.Lstat(filepath.Join(dir, name)); err == nil {
			return true
		}
	}
	for _, d := range declarations {
		path := filepath.Join(dir, d.name)
		if d.words == "" {
			if info, err := os.Stat(path); err == nil && info.Mode().IsRegular() {
				return true
			}
			continue
		}
		if data, err := files.Read(path, MaxDeclaration); err == nil && bytes.Contains(data, []byte(d.words)) {
			return true
		}
	}
	return false
}
