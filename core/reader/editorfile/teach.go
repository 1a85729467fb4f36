package editorfile

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/theory/jsonpath"
	"github.com/theory/jsonpath/spec"

	"tidytally/core/datatext"
	"tidytally/core/reader/declare"
	"tidytally/core/tallyfile"
	"tidytally/core/task"
)

// Task files that a [teach] table of a tally file explains: where the tasks are, and
// where the values of each, by JSONPath (RFC 9535) or by a regular expression for
// each line.

// Taught is what a [teach] table found in one file.
type Taught struct {
	Teach string
	File  string
	Tasks []string // names
}

// ReadTaught reads the files that a tally file's [teach] tables name.
func ReadTaught(f *declare.File, tally *tallyfile.File) (found declare.Found, taught []Taught) {
	for _, t := range tally.Teaches {
		files := 0
		for _, pattern := range t.Files {
			dir := tally.Base()
			for _, name := range f.Glob(dir, pattern) {
				rel := path.Join(dir, name)
				data, err := f.Open(rel)
				if err != nil {
					found.Faults = append(found.Faults, task.Fault{File: rel, Message: err.Error()})
					continue
				}
				files++
				one := declare.Found{}
				r := &editorReader{file: &declare.File{Path: rel, Data: data, Files: f.Files}, found: &one, base: baseOf(rel), byName: map[string]*task.Task{}}
				if t.Format == tallyfile.TeachLines {
					r.taughtLines(&t)
				} else {
					r.taughtData(&t)
				}
				r.link()
				names := []string{}
				for _, x := range one.Tasks {
					x.Source = "taught"
					names = append(names, x.Name)
				}
				taught = append(taught, Taught{t.Name, rel, names})
				found.Tasks = append(found.Tasks, one.Tasks...)
				found.Faults = append(found.Faults, one.Faults...)
			}
		}
		if files == 0 {
			found.Faults = append(found.Faults, task.Fault{
				File: f.Path, Line: t.Origin.Line, Column: t.Origin.Column,
				Message: fmt.Sprintf("teach.%s: no file is called %s", t.Name, strings.Join(t.Files, " or ")),
			})
		}
	}
	return found, taught
}

func (r *editorReader) taughtData(t *tallyfile.Teach) {
	root := datatext.Read(datatext.Format(t.Format), r.file.Data, func(line, column int, message string) {
		r.found.Faults = append(r.found.Faults, task.Fault{File: r.file.Path, Line: line, Column: column, Message: message})
	})
	if root == nil {
		return
	}
	for _, item := range selectNodes(root, t.Each) {
		e := &editorEntry{commandKey: "run"}
		first := func(query string) *datatext.Node {
			if query == "" {
				return nil
			}
			for _, n := range selectNodes(item, query) {
				return n
			}
			return nil
		}
		if n := first(t.TaskName); n != nil && n.Scalar() {
			e.name, e.line = n.Text, n.Line
		}
		if n := first(t.Run); n != nil && runnable(n) {
			e.command = n
		}
		e.dir, e.about = scalar(first(t.In)), scalar(first(t.About))
		if t.Before != "" {
			e.before = selectNodes(item, t.Before)
		}
		r.add(e, item.Line)
	}
}

func scalar(n *datatext.Node) *datatext.Node {
	if n == nil || !n.Scalar() {
		return nil
	}
	return n
}

// taughtLines makes a task of each line that an expression matches. The other keys
// of the table name its groups; a key that is missing stands for the group of the
// same name.
func (r *editorReader) taughtLines(t *tallyfile.Teach) {
	re := regexp.MustCompile(t.Each) // it was checked when the tally file was read
	for i, l := range strings.Split(string(r.file.Data), "\n") {
		m := re.FindStringSubmatch(strings.TrimSuffix(l, "\r"))
		if m == nil {
			continue
		}
		group := func(name, usual string) *datatext.Node {
			if name == "" {
				name = usual
			}
			if k := re.SubexpIndex(name); k >= 0 && m[k] != "" {
				return &datatext.Node{Text: m[k], Line: i + 1, Column: 1}
			}
			return nil
		}
		e := &editorEntry{commandKey: "run", command: group(t.Run, "run"), dir: group(t.In, "in"), about: group(t.About, "about")}
		if n := group(t.TaskName, "name"); n != nil {
			e.name = n.Text
		}
		if n := group(t.Before, "before"); n != nil {
			e.before = []*datatext.Node{{Kind: datatext.List, Line: i + 1}}
			for _, name := range strings.FieldsFunc(n.Text, func(r rune) bool { return r == ',' || r == ' ' }) {
				e.before[0].Items = append(e.before[0].Items, &datatext.Node{Text: name})
			}
		}
		r.add(e, i+1)
	}
}

// selectNodes returns the values that a query selects, in the order of the file.
func selectNodes(root *datatext.Node, query string) (nodes []*datatext.Node) {
	p := jsonpath.MustParse(query) // it was checked when the tally file was read
	for _, located := range p.SelectLocated(plain(root)) {
		at := root
		for _, step := range located.Path {
			switch s := step.(type) {
			case spec.Name:
				at = at.Get(string(s))
			case spec.Index:
				at = at.Items[int(s)]
			}
		}
		nodes = append(nodes, at)
	}
	slices.SortStableFunc(nodes, func(a, b *datatext.Node) int {
		if a.Line != b.Line {
			return a.Line - b.Line
		}
		return a.Column - b.Column
	})
	return nodes
}

// plain returns a value as package jsonpath takes it.
func plain(n *datatext.Node) any {
	switch n.Kind {
	case datatext.List:
		list := make([]any, len(n.Items))
		for i, item := range n.Items {
			list[i] = plain(item)
		}
		return list
	case datatext.Table:
		table := make(map[string]any, len(n.Entries))
		for _, e := range n.Entries {
			if _, there := table[e.Key]; !there {
				table[e.Key] = plain(e.Value)
			}
		}
		return table
	case datatext.Null:
		return nil
	case datatext.Boolean:
		return n.Text == "true"
	case datatext.Integer, datatext.Float:
		if f, err := strconv.ParseFloat(n.Text, 64); err == nil {
			return f
		}
	}
	return n.Text
}
