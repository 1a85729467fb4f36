package workspace

import (
	"io/fs"
	"os"
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
