// Package draft makes and changes the tasks of tally files: a task from a starting point, a copy of a
// task that was found, or a change of one. A draft is shown as the lines that will be written.
package draft

import (
	"fmt"
	"path"
	"strings"

	"tidytally/core/datatext"
	"tidytally/core/tallyfile"
	"tidytally/core/task"
)

// A Draft is a table of a tally file that is being written. Values are as one types them on a line,
// see tallyfile.Literal.
type Draft struct {
	// Table is {"task", NAME}, or {"adjust", ID} for values of a task that is declared elsewhere.
	Table tallyfile.Table
	// Values are those of the keys, and Before those that hold without the draft: only what differs
	// is written.
	Values, Before map[string]string
	// More is the whole text of what is no task: a launcher, as TOML.
	More string
	// There says that the table stands in the file already: single values of it change.
	There bool

	of *task.Task // that is adjusted or changed; nil for a new one
}

// Copy drafts a task of its own that does what t does. folder is that of the tally file, relative
// to the workspace.
func Copy(t *task.Task, folder string) *Draft {
	values := tallyfile.TypedFields(t, folder)
	delete(values, "key") // one task has it
	return &Draft{Table: tallyfile.Table{"task", t.Name}, Values: values, Before: map[string]string{}}
}

// Change drafts a change of t: of its own table, if a tally file declares it, else of the values that
// the root's tally file sets over those of its declaration.
func Change(t *task.Task) *Draft {
	folder := "."
	d := &Draft{Table: tallyfile.Table{"adjust", t.ID()}, of: t}
	if t.Source == "tally" {
		d.Table, d.There, folder = tallyfile.Table{"task", t.Name}, true, path.Dir(t.File)
	}
	d.Before = tallyfile.TypedFields(t, folder)
	d.Values = tallyfile.TypedFields(t, folder)
	return d
}

// Name returns the name of the task, or the id of the one that is adjusted.
func (d *Draft) Name() string { return d.Table[len(d.Table)-1] }

// New reports whether the draft is of a task that there is not yet.
func (d *Draft) New() bool { return d.of == nil }

// Set sets a value; "" takes it away. It fails if it is none that the key can have, and then
// nothing is set.
func (d *Draft) Set(key, typed string) error {
	before, had := d.Values[key]
	if typed == "" {
		delete(d.Values, key)
		return nil
	}
	d.Values[key] = typed
	_, err := tallyfile.Literal(key, typed)
	if err == nil {
		err = d.fault(key)
	}
	if err != nil {
		if delete(d.Values, key); had {
			d.Values[key] = before
		}
	}
	return err
}

// fault returns what is wrong with the value of a key.
func (d *Draft) fault(key string) error {
	literal, err := tallyfile.Literal(key, d.Values[key])
	if err != nil {
		return err
	}
	f := tallyfile.Parse("tidytally.toml", []byte("[adjust.x]\n"+key+" = "+literal+"\n"))
	if len(f.Faults) > 0 {
		return fmt.Errorf("%s", f.Faults[0].Message)
	}
	return nil
}

// changed returns the keys whose values differ from before, in the order of the reference.
func (d *Draft) changed() (keys []string) {
	for _, k := range tallyfile.TaskKeys() {
		if d.Values[k.Name] != d.Before[k.Name] {
			keys = append(keys, k.Name)
		}
	}
	return keys
}

// Lines returns the lines that the draft writes.
func (d *Draft) Lines() string {
	var b strings.Builder
	for _, key := range d.changed() {
		typed := d.Values[key]
		if typed == "" {
			if d.There {
				fmt.Fprintf(&b, "# without %s\n", key)
			}
			continue
		}
		literal, err := tallyfile.Literal(key, typed)
		if err != nil {
			literal = fmt.Sprintf("%q", typed)
		}
		fmt.Fprintf(&b, "%s = %s\n", key, literal)
	}
	if b.Len() == 0 && d.of != nil {
		return ""
	}
	if d.More != "" {
		return d.More
	}
	return "[" + d.Table.String() + "]\n" + b.String()
}

// Write writes the draft into the text of a tally file.
func (d *Draft) Write(data []byte) ([]byte, error) {
	if d.of == nil {
		return tallyfile.Add(data, d.Lines())
	}
	var err error
	for _, key := range d.changed() {
		typed := d.Values[key]
		if typed == "" {
			data, err = tallyfile.Unset(data, d.Table, key)
		} else {
			var literal string
			if literal, err = tallyfile.Literal(key, typed); err == nil {
				data, err = tallyfile.Set(data, d.Table, key, literal)
			}
		}
		if err != nil {
			return nil, err
		}
	}
	return data, nil
}

// Task returns the task as it will be, declared by a tally file, whose path is relative to the
// workspace; and what is wrong with the draft.
func (d *Draft) Task(file string) (*task.Task, error) {
	text := d.Lines()
	if d.of != nil {
		whole := Draft{Table: tallyfile.Table{"task", d.of.Name}, Values: d.Values}
		text = whole.Lines()
		if d.There {
			file = d.of.File
		}
	}
	f := tallyfile.Parse(file, []byte(text))
	if len(f.Faults) > 0 {
		return nil, fmt.Errorf("%s", f.Faults[0].Message)
	}
	if len(f.Tasks) == 0 {
		return nil, nil // other tables alone
	}
	t := f.Tasks[0]
	if d.of != nil { // what cannot be typed stays as it is
		t.Args, t.Stop, t.Setup = d.of.Args, d.of.Stop, d.of.Setup
	}
	return t, nil
}

// parse reads a draft from the text of a starting point.
func parse(text string) (*Draft, error) {
	var fault error
	root := datatext.ReadTOML([]byte(text), func(line, _ int, message string) {
		if fault == nil {
			fault = fmt.Errorf("line %d: %s", line, message)
		}
	})
	if fault != nil {
		return nil, fault
	}
	tasks := root.Get("task")
	if tasks == nil || len(tasks.Entries) == 0 {
		if len(root.Entries) == 0 || len(root.Entries[0].Value.Entries) == 0 {
			return nil, fmt.Errorf("it has no table")
		}
		// Its tables are written as they are.
		e := root.Entries[0]
		return &Draft{Table: tallyfile.Table{e.Key, e.Value.Entries[0].Key}, Values: map[string]string{}, Before: map[string]string{}, More: text}, nil
	}
	e := tasks.Entries[0]
	d := &Draft{Table: tallyfile.Table{"task", e.Key}, Values: map[string]string{}, Before: map[string]string{}}
	for _, k := range e.Value.Entries {
		d.Values[k.Key] = tallyfile.Typed(k.Value)
	}
	return d, nil
}
