package workspace

import (
	"encoding/json"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"
	"sync"

	"github.com/bmatcuk/doublestar/v4"
	"go.yaml.in/yaml/v3"

	"tidytally/core/files"
)

// Packages finds the folders of a workspace's packages by the names that package
// managers print: those of package.json, and their folders. The files that declare
// them are read when it is first asked, and not again.
type Packages struct {
	root   string
	once   sync.Once
	byName map[string]string
}

const (
	// maxPackages is the number of packages that are looked at; a log names a few of
	// them.
	maxPackages = 5_000
	// maxPackageFile is the length in bytes of the longest package.json that is read.
	maxPackageFile = 4 << 20
)

// NewPackages makes a finder of packages. It costs nothing until Folder is called.
func NewPackages(root string) *Packages { return &Packages{root: root} }

// Folder returns the folder of a package, relative to the root and with slashes, "" for
// the root. name is the package's name in its package.json, the end of it behind the
// scope if no other package is called so, or a folder of the workspace.
func (p *Packages) Folder(name string) (dir string, ok bool) {
	if name == "" || len(name) > 300 || strings.HasPrefix(name, "/") || strings.Contains(name, "..") {
		return "", false
	}
	p.once.Do(p.read)
	if dir, ok = p.byName[name]; ok {
		return dir, dir != several
	}
	name = strings.TrimSuffix(strings.TrimPrefix(name, "./"), "/")
	if name == "" || name == "." || !fs.ValidPath(name) {
		return "", name == "."
	}
	info, err := os.Stat(p.root + "/" + name)
	return name, err == nil && info.IsDir()
}

// several stands for the folder of a name that more than one package could be called
// by.
const several = "\x00"

// packageFile is what is read of a package.json, a lerna.json or a
// pnpm-workspace.yaml (npm documentation, "package.json", section "workspaces";
// pnpm documentation, "pnpm-workspace.yaml").
type packageFile struct {
	Name       string    `json:"name"`
	Workspaces anyOfList `json:"workspaces"`
	Packages   []string  `json:"packages" yaml:"packages"`
}

// anyOfList is a list of patterns, or an object with the list packages.
type anyOfList []string

func (a *anyOfList) UnmarshalJSON(data []byte) error {
	var list []string
	if json.Unmarshal(data, &list) == nil {
		*a = list
		return nil
	}
	var object struct{ Packages []string }
	_ = json.Unmarshal(data, &object) // another shape declares no packages
	*a = object.Packages
	return nil
}

func (p *Packages) read() {
	p.byName = map[string]string{}
	tree := os.DirFS(p.root)
	own, patterns := p.packageJSON("package.json")
	p.add(own, "")
	_, more := p.packageJSON("lerna.json")
	patterns = append(patterns, more...)
	var yml packageFile
	if yaml.Unmarshal(p.start("pnpm-workspace.yaml"), &yml) == nil {
		patterns = append(patterns, yml.Packages...)
	}
	found, except := map[string]bool{}, []string{}
	for _, pattern := range patterns {
		if without, ok := strings.CutPrefix(pattern, "!"); ok {
			except = append(except, strings.Trim(without, "/"))
		}
	}
	for _, pattern := range patterns {
		pattern = path.Clean(strings.TrimPrefix(pattern, "./"))
		if strings.HasPrefix(pattern, "!") || !doublestar.ValidatePattern(pattern) {
			continue
		}
		// Only a pattern of two stars goes deep, and then not into packages that were
		// installed.
		_ = doublestar.GlobWalk(tree, pattern+"/package.json", func(file string, _ fs.DirEntry) error {
			dir := path.Dir(file)
			if found[dir] || strings.Contains(file, "node_modules/") {
				return nil
			}
			for _, e := range except {
				if hit, _ := doublestar.Match(e, dir); hit {
					return nil
				}
			}
			if found[dir] = true; len(found) > maxPackages {
				return fs.SkipAll
			}
			name, _ := p.packageJSON(file)
			p.add(name, dir)
			return nil
		}, doublestar.WithNoFollow())
	}
}

// add records a package by its name and the end of it.
func (p *Packages) add(name, dir string) {
	if name == "" {
		return
	}
	p.byName[name] = dir
	if i := strings.LastIndexByte(name, '/'); i >= 0 {
		short := name[i+1:]
		if other, ok := p.byName[short]; ok && other != dir {
			dir = several
		}
		p.byName[short] = dir
	}
}

// start returns a file below the root; nothing if it cannot be read, or is too large.
func (p *Packages) start(file string) []byte {
	data, err := files.Read(filepath.Join(p.root, filepath.FromSlash(file)), maxPackageFile)
	if err != nil {
		return nil
	}
	return data
}

// packageJSON reads the name and the patterns of a package file.
func (p *Packages) packageJSON(file string) (name string, patterns []string) {
	var f packageFile
	if json.Unmarshal(p.start(file), &f) != nil {
		return "", nil
	}
	return f.Name, append(f.Workspaces, f.Packages...)
}
