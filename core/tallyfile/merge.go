package tallyfile

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"

	"tidytally/core/task"
)

// Merged is the content of all tally files of a workspace.
type Merged struct {
	Workspace Workspace
	Set       map[string]string
	Vias      map[string]Via
	Places    map[string]Place
	Sieves    []Sieve
	files     []*File
}

// Add adds a file. The [workspace] table of the root's file counts. Of [set] and
// [via], the first file's value for a name counts.
func (m *Merged) Add(f *File) {
	if m.Set == nil {
		m.Set, m.Vias, m.Places = map[string]string{}, map[string]Via{}, map[string]Place{}
	}
	if !strings.Contains(f.Path, "/") {
		m.Workspace = f.Workspace
	}
	for k, v := range f.Set {
		if _, there := m.Set[k]; !there {
			m.Set[k] = v
		}
	}
	for _, v := range f.Vias {
		if _, there := m.Vias[v.Name]; !there {
			m.Vias[v.Name] = v
		}
	}
	for _, p := range f.Places {
		if _, there := m.Places[p.Name]; !there {
			m.Places[p.Name] = p
		}
	}
	m.Sieves = append(m.Sieves, f.Sieves...)
	m.files = append(m.files, f)
}

// Adjust applies the [adjust] tables to the tasks, and reports all names in the
// tally files that name nothing.
func (m *Merged) Adjust(tasks []*task.Task) (faults []task.Fault) {
	fault := func(o task.Origin, format string, args ...any) {
		faults = append(faults, task.Fault{File: o.File, Line: o.Line, Column: o.Column, Message: fmt.Sprintf(format, args...)})
	}
	known := sync.OnceValue(func() *task.Finder { return task.NewFinder(tasks) }) // most tally files name no task
	for _, f := range m.files {
		for _, a := range f.Adjusts {
			t, err := known().Find(a.ID)
			if err != nil {
				fault(a.Origin, "adjust: %s", oneLine(err))
				continue
			}
			for _, e := range a.fields {
				f.assign(t, e, task.Adjusted)
			}
		}
	}
	if u := m.Workspace.Usual; u != "" {
		if _, err := known().Find(u); err != nil {
			fault(m.Workspace.UsualAt, "usual: %s", oneLine(err))
		}
	}
	m.wrap(tasks)
	m.settle(tasks)
	for _, t := range tasks {
		ofKind := func(list []string) bool {
			return slices.Contains(list, AllKinds) || slices.Contains(list, string(t.Kind))
		}
		if _, said := t.Origins["learn"]; !said {
			t.Learn = ofKind(m.Workspace.Learn)
		}
		if _, said := t.Origins["skip"]; !said {
			t.SkipFresh = ofKind(m.Workspace.Skip)
		}
	}
	for _, t := range tasks {
		if t.Source != "tally" && len(t.Origins) == 0 {
			continue
		}
		for _, list := range []struct {
			field string
			ids   []string
		}{{"needs", t.Before}, {"with", t.With}, {"after", t.After}} {
			for _, id := range list.ids {
				if _, err := known().Find(id); err != nil && !m.Bad("task", nameOf(id)) {
					fault(t.Origin(list.field), "task %s: %s", t.Name, oneLine(err))
				}
			}
		}
		if _, ok := m.Places[t.At]; t.At != "" && !ok && !m.Bad("place", t.At) {
			fault(t.Origin("at"), "task %s: there is no [place.%s]", t.Name, t.At)
		}
		if t.Via != "" {
			if _, ok := m.Vias[t.Via]; !ok && !m.Bad("via", t.Via) {
				fault(t.Origin("via"), "task %s: there is no [via.%s]%s", t.Name, t.Via, m.nearVia(t.Via))
			}
		}
	}
	return faults
}

// Unknown returns a fault for each name in a tally file that names nothing, as Adjust does: the file stands for the one of its path that was
// merged, and tasks are those of the workspace, which stay as they are.
func (m *Merged) Unknown(f *File, tasks []*task.Task) (faults []task.Fault) {
	other, found := &Merged{}, false
	for _, x := range m.files {
		if x.Path == f.Path {
			x, found = f, true
		}
		other.Add(x)
	}
	if !found {
		other.Add(f)
	}
	all := make([]*task.Task, 0, len(tasks)+len(f.Tasks))
	for _, t := range tasks {
		if t.File != f.Path || t.Source != "tally" {
			copied := *t
			all = append(all, &copied)
		}
	}
	for _, x := range other.Adjust(append(all, f.Tasks...)) {
		if x.File == f.Path {
			faults = append(faults, x)
		}
	}
	return faults
}

// wrap gives tasks the wrappers of their folders and kinds, unless they have one.
func (m *Merged) wrap(tasks []*task.Task) {
	var wrappers []Via
	for _, name := range slices.Sorted(maps.Keys(m.Vias)) {
		if v := m.Vias[name]; len(v.Kinds)+len(v.Folders) > 0 {
			wrappers = append(wrappers, v)
		}
	}
	for i := range wrappers {
		v := &wrappers[i]
		for _, t := range tasks {
			if t.Via == "" && !t.Command.IsZero() && v.takes(t) {
				t.Via = v.Name
				o := v.Origin
				o.Note = "of its kind"
				if !slices.Contains(v.Kinds, string(t.Kind)) {
					o.Note = "of its folder"
				}
				t.SetOrigin("via", o)
			}
		}
	}
}

// settle gives tasks the places of their kinds, unless they have one.
func (m *Merged) settle(tasks []*task.Task) {
	for _, name := range slices.Sorted(maps.Keys(m.Places)) {
		p := m.Places[name]
		if len(p.Kinds) == 0 {
			continue
		}
		for _, t := range tasks {
			if t.At == "" && !t.Command.IsZero() && (slices.Contains(p.Kinds, string(t.Kind)) || slices.Contains(p.Kinds, AllKinds)) {
				t.At = name
				o := p.Origin
				o.Note = "of its kind"
				t.SetOrigin("at", o)
			}
		}
	}
}

func nameOf(id string) string {
	_, name := task.SplitID(id)
	return name
}

// Bad reports whether a table, such as task or via, of this name stands in a tally file with a
// mistake for which it was left out.
func (m *Merged) Bad(table, name string) bool {
	return slices.ContainsFunc(m.files, func(f *File) bool { return f.bad[table+"."+name] })
}

func (m *Merged) nearVia(name string) string {
	var names []string
	for n := range m.Vias {
		names = append(names, n)
	}
	slices.Sort(names)
	if near, ok := task.Nearest(name, names); ok {
		return "; did you mean " + near + "?"
	}
	return ""
}

func oneLine(err error) string { return strings.Join(strings.Fields(err.Error()), " ") }
