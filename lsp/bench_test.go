package lsp

import (
	"fmt"
	"strings"
	"testing"

	"tidytally/core/history"
	"tidytally/core/problem"
	"tidytally/core/survey"
	"tidytally/internal/testtree"
)

// served is a server with one workspace, without a client.
func served(b *testing.B, files map[string]string) (*Server, *space) {
	b.Helper()
	root := real(testtree.Lay(b, files))
	s := &Server{encoding: utf16Units, documents: map[string]*document{}}
	w := &space{Server: s, root: root}
	var err error
	if w.survey, err = survey.Of(root); err != nil {
		b.Fatal(err)
	}
	s.spaces = []*space{w}
	return s, w
}

// One completion of an id in a tally file of ten thousand tasks.
func BenchmarkCompletion(b *testing.B) {
	var text strings.Builder
	for i := range 10_000 {
		fmt.Fprintf(&text, "[task.t%d]\nrun = \"true\"\n", i)
	}
	text.WriteString("[task.all]\nbefore = [\"#t99\"]\n")
	s, w := served(b, map[string]string{"tidytally.toml": text.String()})
	d := &document{uri: "file:///x", path: w.root + "/tidytally.toml"}
	d.set(text.String())
	s.documents[d.path] = d
	p := &positionParams{TextDocument: textDocument{URI: d.uri}, Position: position{20_001, 15}}
	for b.Loop() {
		got, err := s.complete(p)
		if list, ok := got.(completionList); err != nil || !ok || len(list.Items) == 0 {
			b.Fatal(got, err)
		}
	}
}

// The diagnostics of ten thousand problems in five hundred files.
func BenchmarkTenThousandProblems(b *testing.B) {
	files, list := map[string]string{"tidytally.toml": "[task.lint]\nrun = \"true\"\n"}, []history.Lived{}
	for i := range 500 {
		name := fmt.Sprintf("src/f%d.c", i)
		files[name] = strings.Repeat("int a;\n", 20)
		for n := range 20 {
			list = append(list, history.Lived{Problem: problem.Problem{Place: problem.Place{File: name, Line: n + 1, Column: 5}, Message: fmt.Sprintf("glaze %d is dull", n), Family: "gnu"}, LineText: "int a;"})
		}
	}
	s, w := served(b, files)
	w.known = map[string][]history.Lived{"tidytally.toml#lint": list}
	for b.Loop() {
		w.index = nil
		g, n := s.gathering(), 0
		for path := range w.byFile() {
			n += len(g.of(path))
		}
		if n != len(list) {
			b.Fatal(n)
		}
	}
}
