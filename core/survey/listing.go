package survey

import (
	"bytes"
	"encoding/json"
	"io"
	"runtime"

	"golang.org/x/sync/errgroup"

	"tidytally/core/filter"
	"tidytally/core/reader"
	"tidytally/core/task"
	"tidytally/core/workspace"
)

// Listing is a survey as list --json prints it.
type Listing struct {
	Workspace string           `json:"workspace"`
	Root      string           `json:"root"`
	Tasks     []Listed         `json:"tasks"`
	Faults    []task.Fault     `json:"faults"`
	Skipped   []workspace.Skip `json:"skipped"`
	Folds     []Fold           `json:"folds"`
}

// Listed is a task as list --json prints it.
type Listed struct {
	ID          string      `json:"id"`
	Name        string      `json:"name"`
	Source      string      `json:"source"`
	File        string      `json:"file"`
	Line        int         `json:"line"`
	At          *At         `json:"at,omitempty"` // where the declaration itself stands, if elsewhere
	Dir         string      `json:"dir"`
	Command     string      `json:"command"`
	Via         string      `json:"via,omitempty"`   // the wrapper that the command runs through
	Place       string      `json:"place,omitempty"` // where it runs, if not here
	About       string      `json:"about"`
	Kind        task.Kind   `json:"kind"`
	Declared    task.Manner `json:"declared"`
	LongRunning bool        `json:"longRunning"`
	Args        []task.Arg  `json:"args"`
	Needs       []string    `json:"needs"`
	Hidden      bool        `json:"hidden"`
	Fold        string      `json:"fold,omitempty"` // of the folds, where a list folds the task away
	Last        *LastRun    `json:"last,omitempty"` // from the history
}

// LastRun is how a task was run last.
type LastRun struct {
	Run      int64   `json:"run"`
	Time     string  `json:"time"` // RFC 3339
	State    string  `json:"state"`
	Exit     int     `json:"exit"`
	Seconds  float64 `json:"seconds"`
	Errors   int     `json:"errors"`
	Warnings int     `json:"warnings"`
}

// At is the place of a declaration in an included file.
type At struct {
	File string `json:"file"`
	Line int    `json:"line"`
}

// Shown is a task as show --json prints it: with the origin of every value.
type Shown struct {
	Listed
	Script  string                 `json:"script,omitempty"`
	Calls   []reader.Call          `json:"calls,omitempty"` // what the script executes
	Origins map[string]task.Origin `json:"origins"`
}

// List returns a task in the form that is printed.
func List(t *task.Task) Listed {
	l := Listed{
		ID: t.ID(), Name: t.Name, Source: t.Source, File: t.File, Line: t.Line, Dir: t.Dir, Command: t.Command.String(), Via: t.Via, Place: t.At,
		About: t.About, Kind: t.Kind, Declared: t.Manner, LongRunning: t.LongRunning, Args: t.Args, Needs: t.Prerequisites, Hidden: t.Hidden, Fold: t.Fold,
	}
	if o := t.Origin("name"); o.Line > 0 && (o.File != t.File || o.Line != t.Line) {
		l.At = &At{o.File, o.Line}
	}
	if l.Args == nil {
		l.Args = []task.Arg{}
	}
	if l.Needs == nil {
		l.Needs = []string{}
	}
	for _, o := range t.Origins {
		if o.Manner == task.Adjusted {
			l.Declared = task.Adjusted
		}
	}
	return l
}

// Show returns a task with its origins.
func (s *Survey) Show(t *task.Task) Shown {
	shown := Shown{Listed: List(t), Script: t.Script, Calls: s.Calls(t), Origins: map[string]task.Origin{}}
	for _, f := range []string{"name", "command", "dir", "about", "kind", "longRunning"} {
		shown.Origins[f] = t.Origin(f)
	}
	for f, o := range t.Origins {
		shown.Origins[f] = o
	}
	return shown
}

// Select returns the tasks that pass a filter; hidden ones only if all is set. Where the
// filter's words begin words of names, descriptions or files, tasks that they only
// resemble, or whose commands hold them, are left out. also returns further words for the
// field is: of a task; it may be nil.
func (s *Survey) Select(q filter.Query, all bool, also func(*task.Task) []string) []*task.Task {
	var out, plainly []*task.Task
	for _, t := range s.Tasks {
		if t.Hidden && !all || !q.Empty() && !q.Passes(task.Known{Task: t, Is: also}) {
			continue
		}
		out = append(out, t)
		if q.Plainly(t.Name, t.About, t.File) {
			plainly = append(plainly, t)
		}
	}
	if len(plainly) > 0 {
		return plainly
	}
	return out
}

// Write writes the listing as one JSON object, each task, fault and skip on a
// line of its own.
func (l Listing) Write(w io.Writer) error {
	out := []byte("{")
	for _, part := range []struct{ key, text string }{{"workspace", l.Workspace}, {"root", l.Root}} {
		out = appendJSON(append(out, `"`+part.key+`": `...), part.text)
		out = append(out, ",\n "...)
	}
	out = appendLines(append(out, `"tasks": `...), l.Tasks)
	out = appendLines(append(out, ",\n \"faults\": "...), l.Faults)
	out = appendLines(append(out, ",\n \"skipped\": "...), l.Skipped)
	out = appendLines(append(out, ",\n \"folds\": "...), l.Folds)
	_, err := w.Write(append(out, "}\n"...))
	return err
}

func appendJSON(out []byte, v any) []byte {
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	_ = enc.Encode(v) // of these types it cannot fail
	return append(out, bytes.TrimSuffix(b.Bytes(), []byte("\n"))...)
}

// inParts calls do for each part of n elements, some parts at the same time.
func inParts(n int, do func(part, from, to int)) {
	var all errgroup.Group
	all.SetLimit(runtime.GOMAXPROCS(0))
	for part := range partsOf(n) {
		all.Go(func() error {
			do(part, part*perPart, min(n, (part+1)*perPart))
			return nil
		})
	}
	_ = all.Wait() // no part fails
}

const perPart = 512

func partsOf(n int) int { return (n + perPart - 1) / perPart }

// appendLines writes a list, a part of it on each processor.
func appendLines[T any](out []byte, list []T) []byte {
	parts := make([][]byte, partsOf(len(list)))
	inParts(len(list), func(part, from, to int) {
		var b bytes.Buffer
		enc := json.NewEncoder(&b) // it ends each value with a line feed
		enc.SetEscapeHTML(false)
		for j := from; j < to; j++ {
			if j > 0 {
				b.WriteString(",")
			}
			_ = enc.Encode(&list[j]) // of these types it cannot fail
		}
		parts[part] = b.Bytes()
	})
	out = append(out, "["...)
	for _, p := range parts {
		out = append(out, p...)
	}
	return append(bytes.TrimSuffix(out, []byte("\n")), "]"...)
}

// Listing returns the chosen tasks with all faults and skips.
func (s *Survey) Listing(tasks []*task.Task) Listing {
	l := Listing{Workspace: s.Name, Root: s.Root, Tasks: make([]Listed, len(tasks)), Faults: s.Faults, Skipped: s.Skipped, Folds: s.Folds}
	inParts(len(tasks), func(_, from, to int) {
		for i := from; i < to; i++ {
			l.Tasks[i] = List(tasks[i])
		}
	})
	if l.Faults == nil {
		l.Faults = []task.Fault{}
	}
	if l.Folds == nil {
		l.Folds = []Fold{}
	}
	if l.Skipped == nil {
		l.Skipped = []workspace.Skip{}
	}
	return l
}
