package main

import (
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"tidytally/core/printable"
	"tidytally/core/problem"
)

// problemText writes problems for a person who stands in the current folder.
type problemText struct {
	colours bool
	root    string // the folder that the paths of the problems start from

	here  string            // the current folder
	shown map[string]string // paths as they are written, by what they are
}

// fromHere returns the problem with paths that open from the current folder.
func (t *problemText) fromHere(p *problem.Problem) *problem.Problem {
	if t.shown == nil {
		t.shown = map[string]string{}
		t.here, _ = os.Getwd() // else the paths stay as they are
		if real, err := filepath.EvalSymlinks(t.here); err == nil {
			t.here = real
		}
	}
	if t.here == "" || t.here == t.root {
		return p
	}
	path := func(file string) string {
		if file == "" || filepath.IsAbs(file) {
			return file
		}
		to, ok := t.shown[file]
		if !ok {
			to = file
			if rel, err := filepath.Rel(t.here, filepath.Join(t.root, filepath.FromSlash(file))); err == nil {
				to = rel
			}
			t.shown[file] = to
		}
		return to
	}
	moved := *p
	moved.File = path(p.File)
	moved.Related = slices.Clone(p.Related)
	for i := range moved.Related {
		moved.Related[i].Place.File = path(moved.Related[i].Place.File)
	}
	return &moved
}

// write writes a problem, and below it the places that belong to it.
func (t *problemText) write(w io.Writer, p *problem.Problem) {
	p = t.fromHere(p)
	text := printable.Text(p.GNU())
	if t.colours {
		place := printable.Text(p.Place.String())
		severity := p.Severity.String()
		if rest, ok := strings.CutPrefix(strings.TrimPrefix(text, place+": "), severity+": "); ok {
			text = severityStyle[p.Severity] + severity + "\x1b[m: " + rest
			if place != "" {
				text = "\x1b[1m" + place + "\x1b[m: " + text
			}
		}
	}
	io.WriteString(w, text+"\n")
	for _, r := range p.Related {
		line(w, "    see %s: %s", r.Place, r.Message)
	}
}

// severityStyle are the colours of severities, from the terminal's own sixteen, as it is not asked
// for its paper.
var severityStyle = [...]string{problem.Error: "\x1b[31m", problem.Warning: "\x1b[33m", problem.Note: "\x1b[2m"}
