package toolchain

import (
	"bytes"
	"encoding/json"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"tidytally/core/files"
	"tidytally/core/task"
)

// databaseName is the file in which build systems write how they compile each file (JSON Compilation Database Format
// Specification, of LLVM).
const databaseName = "compile_commands.json"

const (
	// maxDatabase is the size in bytes of a database that is read.
	maxDatabase = 128 << 20
	// maxFolders bounds the folders that are asked for one.
	maxFolders = 500
)

// compilation is an entry of a database.
type compilation struct {
	Directory string   `json:"directory"`
	File      string   `json:"file"`
	Command   string   `json:"command"`
	Arguments []string `json:"arguments"`
}

// AsProject returns the task that compiles a source file as the build of the workspace at root, absolute, does: by the newest
// database that knows it, or else knows a file of the same language beside it. Nothing is linked, and nothing is written. It
// is nil where no build has said. file is relative to the workspace, with slashes.
func AsProject(root, file string) *task.Task {
	l := languageOf(file)
	if l == nil {
		return nil
	}
	names := databases(root)
	for _, like := range []bool{false, true} { // a neighbour counts if no database knows the file itself
		for _, name := range names {
			c := find(filepath.Join(root, filepath.FromSlash(name)), root, file, like)
			if c == nil {
				continue
			}
			if t := c.task(root, file, name, like); t != nil {
				return t
			}
		}
	}
	return nil
}

// databases returns the paths of the databases of a workspace, relative to it, the newest first: those in its top folder and at
// most two levels below.
func databases(root string) (names []string) {
	asked := 0
	times := map[string]int64{}
	var look func(dir string, levels int)
	look = func(dir string, levels int) {
		if asked++; asked > maxFolders {
			return
		}
		name := path.Join(dir, databaseName)
		if info, err := os.Stat(filepath.Join(root, filepath.FromSlash(name))); err == nil && info.Mode().IsRegular() {
			names, times[name] = append(names, name), info.ModTime().UnixNano()
		}
		if levels == 0 {
			return
		}
		entries, err := files.List(filepath.Join(root, filepath.FromSlash(dir)))
		if err != nil {
			return
		}
		for _, e := range entries {
			if e.IsDir() && !strings.HasPrefix(e.Name(), ".") && e.Name() != "node_modules" {
				look(path.Join(dir, e.Name()), levels-1)
			}
		}
	}
	look(".", 2)
	slices.SortStableFunc(names, func(a, b string) int {
		switch {
		case times[a] > times[b]:
			return -1
		case times[a] < times[b]:
			return 1
		}
		return 0
	})
	return names
}

// find returns the last entry for a file in a database; with like, that of a file of its language in its folder.
func find(database, root, file string, like bool) (found *compilation) {
	data, err := files.Read(database, maxDatabase)
	if err != nil {
		return nil
	}
	wanted := filepath.Join(root, filepath.FromSlash(file))
	if !like && !bytes.Contains(data, []byte(path.Base(file))) {
		return nil
	}
	d := json.NewDecoder(bytes.NewReader(data))
	if start, err := d.Token(); err != nil || start != json.Delim('[') {
		return nil
	}
	for d.More() {
		var c compilation
		if d.Decode(&c) != nil {
			return found // what stands before the mistake counts
		}
		name := c.File
		if !filepath.IsAbs(name) {
			name = filepath.Join(c.Directory, name)
		}
		name = filepath.Clean(name)
		if name == wanted || like && filepath.Dir(name) == filepath.Dir(wanted) && languageOf(name) == languageOf(file) {
			found = &c
		}
	}
	return found
}

// outputOptions are those of compilers that say what is written, with the number of words that follow (GCC, "Overall Options"
// and "Preprocessor Options").
var outputOptions = map[string]int{
	"-c": 0, "-S": 0, "-E": 0, "-o": 1, "-MD": 0, "-MMD": 0, "-M": 0, "-MM": 0, "-MP": 0, "-MG": 0, "-MF": 1, "-MT": 1, "-MQ": 1, "-save-temps": 0, "--serialize-diagnostics": 1,
}

// task makes the task of an entry.
func (c *compilation) task(root, file, database string, like bool) *task.Task {
	words := c.Arguments
	if len(words) == 0 {
		var err error
		if words, err = task.SplitWords(c.Command); err != nil {
			return nil
		}
	}
	dir, err := filepath.Rel(root, c.Directory)
	if err != nil || !filepath.IsLocal(dir) || len(words) < 2 {
		return nil
	}
	full := filepath.Join(root, filepath.FromSlash(file))
	argv := []string{words[0]}
	named := false
	for i := 1; i < len(words); i++ {
		w := words[i]
		if more, ok := outputOptions[w]; ok {
			i += more
			continue
		}
		if w == c.File || filepath.Join(c.Directory, w) == filepath.Clean(c.File) || filepath.Clean(w) == filepath.Join(c.Directory, c.File) {
			w, named = full, true
		} else if strings.HasPrefix(w, "-o") && len(w) > 2 && !strings.HasPrefix(w, "-openmp") || strings.HasPrefix(w, "-Wp,-M") || strings.HasPrefix(w, "-MF") || strings.HasPrefix(w, "-MT") || strings.HasPrefix(w, "-MQ") {
			continue
		}
		argv = append(argv, w)
	}
	if !named {
		return nil
	}
	note := "as " + database + " says"
	if like {
		note = "as " + database + " says of " + path.Base(filepath.ToSlash(c.File))
	}
	t := &task.Task{
		Name: "compile " + path.Base(file) + " as the project does", Source: Source, File: file, Line: 1, Manner: task.Inferred, Dir: filepath.ToSlash(dir), Kind: task.Check,
		About: "Without linking, " + note,
	}
	for _, w := range append(argv, "-c", "-o", os.DevNull) {
		t.Command.Argv = append(t.Command.Argv, strings.NewReplacer("{", "{{", "}", "}}").Replace(w))
	}
	t.SetOrigin("command", task.Origin{File: database, Manner: task.Inferred, Note: note})
	t.SetOrigin("name", task.Origin{File: file, Line: 1, Manner: task.Inferred, Note: note})
	return t
}
