package workspace

import (
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// entry is a name in a folder, with the type bits of its mode.
type entry struct {
	name string
	mode fs.FileMode
}

// entriesOf reads a folder the portable way.
func entriesOf(abs string) ([]entry, error) {
	f, err := os.Open(abs)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	list, err := f.ReadDir(-1)
	out := make([]entry, 0, len(list))
	for _, e := range list {
		out = append(out, entry{e.Name(), e.Type()})
	}
	return out, err
}

// Entry is a name in a folder, with the type bits of its mode.
type Entry struct {
	Name string
	Type fs.FileMode
}

// ReadFolder returns the entries of a folder of the workspace, sorted by name. plain
// says that no link leads to the folder; otherwise, it is read only if it lies
// inside of the root.
func ReadFolder(root, rel string, plain bool) ([]Entry, error) {
	if plain {
		list, _, err := readFolder(filepath.Join(root, filepath.FromSlash(rel)))
		return sorted(list), err
	}
	inside, err := os.OpenRoot(root)
	if err != nil {
		return nil, err
	}
	defer inside.Close()
	list, err := fs.ReadDir(inside.FS(), rel)
	var out []Entry
	for _, e := range list { // sorted already
		out = append(out, Entry{e.Name(), e.Type()})
	}
	return out, err
}

func sorted(list []entry) []Entry {
	out := make([]Entry, 0, len(list))
	for _, e := range list {
		out = append(out, Entry{e.name, e.mode})
	}
	slices.SortFunc(out, func(a, b Entry) int { return strings.Compare(a.Name, b.Name) })
	return out
}
