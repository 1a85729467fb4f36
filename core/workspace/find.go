package workspace

import (
	"path"
	"strings"
	"sync"
)

// Finder finds files of a workspace by the end of their path. The workspace is
// walked when it is first asked, and not again.
type Finder struct {
	root  string
	once  sync.Once
	files map[string][]string // by base name
}

// maxSearched is the number of folders that a Finder walks. A larger tree, such as a
// home folder, takes too long for one path; and if it is not searched whole, a hit
// may not be the only one. So nothing is found in it.
const maxSearched = 50_000

// NewFinder makes a finder. It costs nothing until Find is called.
func NewFinder(root string) *Finder { return &Finder{root: root} }

// Find returns the files, relative to the root, whose path ends in tail.
func (f *Finder) Find(tail string) []string {
	f.once.Do(func() {
		f.files = map[string][]string{}
		tree := Walk{Root: f.root, Wants: func(_, _ string) bool { return true }, Limit: maxSearched}.Prepare()
		if err := tree.Run(); err != nil || len(tree.Seen().Folders) >= maxSearched {
			return
		}
		for _, name := range tree.Seen().Files {
			base := path.Base(name)
			f.files[base] = append(f.files[base], name)
		}
	})
	var out []string
	for _, name := range f.files[tail[strings.LastIndexByte(tail, '/')+1:]] {
		tail := path.Clean(strings.TrimPrefix(tail, "./"))
		if name == tail || strings.HasSuffix(name, "/"+tail) {
			out = append(out, name)
		}
	}
	return out
}
