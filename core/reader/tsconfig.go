package reader

import (
	"path"
	"strings"

	"tidytally/core/jsontext"
	"tidytally/core/reader/declare"
	"tidytally/core/task"
)

// Projects of the TypeScript compiler (TypeScript documentation, "What is a
// tsconfig.json" and "Project References").

func tsconfigWants(name string) bool {
	return strings.HasPrefix(name, "tsconfig") && strings.HasSuffix(name, ".json")
}

func readTSConfig(f *declare.File) (found declare.Found) {
	root, err := jsontext.Parse(f.Data, true)
	if err != nil {
		e := err.(*jsontext.Error)
		found.Faults = append(found.Faults, task.Fault{File: f.Path, Line: e.Line, Column: e.Column, Message: e.Message + "; what stands before was read"})
	}
	if root == nil || root.Kind != jsontext.Object {
		return found
	}
	c := tsconfig{f: f}
	c.read(f.Path, f.Data, root, 0)
	lead, origin := packages.lead(f, "tsc")
	base := path.Base(f.Path)
	add := func(name, about string, kind task.Kind, longRunning bool, args ...string) *task.Task {
		t := &task.Task{
			Name: "tsc " + name, Source: "config", File: f.Path, Line: 1, Manner: task.Inferred, Dir: path.Dir(f.Path), About: about, Kind: kind, LongRunning: longRunning,
			Command: task.Command{Argv: append(append([]string(nil), lead...), args...)}, Hidden: c.isBase(root, base),
		}
		if origin.File != "" {
			t.SetOrigin("command", origin)
		}
		if c.reads.value != nil {
			t.Reads = c.reads.texts()
			t.SetOrigin("reads", c.reads.origin(f.Path))
		}
		found.Tasks = append(found.Tasks, t)
		return t
	}
	makes := func(t *task.Task) {
		switch {
		case c.output.value != nil && c.output.value.Kind == jsontext.String && !strings.Contains(c.output.value.Text, "${"):
			t.Makes = []string{path.Join(relativeFolder(t.Dir, path.Dir(c.output.file)), c.output.value.Text)}
			t.SetOrigin("makes", c.output.origin(f.Path))
		case c.output.value != nil:
			o := c.output.origin(f.Path)
			o.Note = "outDir is no plain path"
			t.SetOrigin("makes", o)
		}
	}
	if refs := root.Get("references"); refs != nil && len(refs.Items) > 0 {
		makes(add("build", "Build this project and those that it refers to", task.Build, false, "-b", base))
		add("build watch", "Build at each change, with the projects that it refers to", task.Build, true, "-b", base, "--watch")
		if files := root.Get("files"); files != nil && len(files.Items) == 0 {
			return found // it only gathers others
		}
	}
	add("check", "Check the types, write nothing", task.Check, false, "--noEmit", "-p", base)
	add("watch", "Check the types at each change", task.Check, true, "--noEmit", "--watch", "-p", base)
	if no := c.noEmit.value; no == nil || no.Text != "true" {
		makes(add("compile", "Check the types and write the output", task.Build, false, "-p", base))
	}
	return found
}

// tsconfig is a project together with those that it extends.
type tsconfig struct {
	f                     *declare.File
	output, noEmit, reads tsValue
}

// tsValue is a value and the file that has it.
type tsValue struct {
	value *jsontext.Value
	file  string
	line  int
}

func (v tsValue) origin(project string) task.Origin {
	o := task.Origin{File: v.file, Line: v.line, Manner: task.Inferred}
	if v.file != project {
		o.Note = "extended by " + path.Base(project)
	}
	return o
}

func (v tsValue) texts() (out []string) {
	for _, item := range v.value.Items {
		if s := item.Str(); s != "" {
			out = append(out, s)
		}
	}
	return out
}

const maxExtends = 20

// read takes the values of a file that no earlier file has, and then those of the
// files it extends; of several, the last one first.
func (c *tsconfig) read(name string, data []byte, root *jsontext.Value, depth int) {
	places := jsontext.NewPlaces(data)
	take := func(to *tsValue, in *jsontext.Value, key string) {
		for _, m := range membersOf(in, key) {
			if to.value == nil {
				line, _ := places.At(m.Offset)
				*to = tsValue{m.Value, name, line}
			}
		}
	}
	options := root.Get("compilerOptions")
	take(&c.output, options, "outDir")
	take(&c.noEmit, options, "noEmit")
	take(&c.reads, root, "include")
	if depth >= maxExtends {
		return
	}
	extends := root.Get("extends")
	if extends == nil {
		return
	}
	list := extends.Items
	if extends.Kind == jsontext.String {
		list = []*jsontext.Value{extends}
	}
	for i := len(list) - 1; i >= 0; i-- {
		// One of a package's is not read: dependencies are not ours.
		if other := list[i].Str(); strings.HasPrefix(other, ".") {
			file := path.Join(path.Dir(name), other)
			if !strings.HasSuffix(file, ".json") {
				file += ".json"
			}
			if data, err := c.f.Open(file); err == nil {
				if base, _ := jsontext.Parse(data, true); base != nil {
					c.read(file, data, base, depth+1)
				}
			}
		}
	}
}

// isBase reports whether a file is only for others to extend: by its name, or
// because it has nothing to compile.
func (c *tsconfig) isBase(root *jsontext.Value, base string) bool {
	for _, word := range []string{"base", "common", "shared", "strict"} {
		if strings.Contains(base, word) && root.Get("files") == nil && root.Get("references") == nil && root.Get("include") == nil {
			return true
		}
	}
	return false
}

// relativeFolder returns the path from one folder of the workspace to another.
func relativeFolder(from, to string) string {
	if from == to {
		return "."
	}
	if rest, ok := strings.CutPrefix(to, from+"/"); ok {
		return rest
	}
	up := ""
	for dir := from; ; dir = path.Dir(dir) {
		if dir == to {
			return path.Clean(up + ".")
		}
		if rest, ok := strings.CutPrefix(to, dir+"/"); ok && dir != "." {
			return up + rest
		}
		if dir == "." {
			return up + to
		}
		up += "../"
	}
}
