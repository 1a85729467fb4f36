package lsp

import (
	"encoding/json"
	"fmt"
	"io"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tidytally/core/history"
	"tidytally/core/problem"
)

// The headers of a message (Language Server Protocol 3.17, Base Protocol) are read within bounds.
func TestHeaders(t *testing.T) {
	many := func(n int) string { return strings.Repeat("X: y\r\n", n) }
	for in, want := range map[string]string{
		"Content-Length: 2\r\n\r\n{}":                                  "2",
		"content-length : 0\n\n":                                       "0",
		"Content-Type: x\r\nContent-Length: 7\r\n\r\n":                 "7",
		"Content-Type: x\r\n\r\n{}":                                    "a message has no Content-Length",
		"\r\n":                                                         "a message has no Content-Length",
		"Content-Length: -1\r\n\r\n":                                   `Content-Length is "-1"`,
		"Content-Length: 9999999999\r\n\r\n":                           `Content-Length is "9999999999"`,
		"Content-Length: x\r\n\r\n":                                    `Content-Length is "x"`,
		"X: " + strings.Repeat("y", maxHeader) + "\r\n":                "a header line is too long",
		"X: " + strings.Repeat("y", maxHeader-4) + "\r\n\r\n":          "a message has no Content-Length",
		many(maxHeaders-2) + "Content-Length: 3\r\n\r\n":               "3",
		many(maxHeaders-1) + "Content-Length: 3\r\n\r\n":               "a message has too many headers",
		"Content-Length: 2\r\n":                                        "EOF",
		fmt.Sprintf("Content-Length: %d\r\n\r\n", int64(maxMessage)):   fmt.Sprint(int64(maxMessage)),
		fmt.Sprintf("Content-Length: %d\r\n\r\n", int64(maxMessage)+1): fmt.Sprintf("Content-Length is %q", fmt.Sprint(int64(maxMessage)+1)),
	} {
		s := newStream(strings.NewReader(in), io.Discard)
		n, err := s.length()
		s.finish(time.Minute)
		got := fmt.Sprint(n)
		if err != nil {
			got = err.Error()
			if n != 0 {
				t.Errorf("%.40q: length %d with an error", in, n)
			}
		}
		if got != want {
			t.Errorf("%.40q: %s, want %s", in, got, want)
		}
	}
}

// A request at the wrong time, or that is none, is answered with the code of the protocol.
func TestCodesOfErrors(t *testing.T) {
	c := dial(t)
	code := func(method string, params any) int {
		t.Helper()
		if a := c.request(method, params); a.Error != nil {
			return a.Error.Code
		}
		return 0
	}
	for _, x := range []struct {
		method string
		params any
		want   int
	}{
		{"textDocument/hover", map[string]any{}, -32002},
		{"initialize", map[string]any{"rootUri": uriOf(tree(t, map[string]string{"Makefile": "all:\n\ttrue\n"}))}, 0},
		{"initialize", map[string]any{}, -32600},
		{"textDocument/nothing", nil, -32601},
		{"textDocument/hover", []int{7}, -32602},
		{"textDocument/hover", nil, 0},
		{"workspace/executeCommand", map[string]any{"command": "tidytally.nothing"}, -32603},
		{"shutdown", nil, 0},
		{"textDocument/hover", map[string]any{}, -32600},
		{"shutdown", nil, -32600},
	} {
		if got := code(x.method, x.params); got != x.want {
			t.Errorf("%s with %v: %d, want %d", x.method, x.params, got, x.want)
		}
	}
}

// Problems other than errors are tagged as unnecessary or deprecated code.
func TestTagsOfProblems(t *testing.T) {
	for _, c := range []struct {
		code, message string
		severity      problem.Severity
		want          string
	}{
		{"unused-variable", "it", problem.Warning, "[1]"}, {"", "unreachable code", problem.Note, "[1]"}, {"", "is deprecated", problem.Warning, "[2]"},
		{"deprecated-declarations", "unused and Deprecated", problem.Warning, "[1 2]"}, {"", "too hot", problem.Warning, "[]"}, {"F401", "imported", problem.Warning, "[1]"}, {"", "unused", problem.Error, "[]"},
	} {
		s := &Server{encoding: utf16Units, documents: map[string]*document{}}
		w := &space{Server: s, root: "/w"}
		d := s.gathering().problem(w, "/w/none.c", &history.Lived{Problem: problem.Problem{Place: problem.Place{File: "none.c", Line: 1}, Code: c.code, Message: c.message, Severity: c.severity}})
		if got := fmt.Sprint(d.Tags); got != c.want {
			t.Errorf("%s %s: %s, want %s", c.code, c.message, got, c.want)
		}
		if want := map[problem.Severity]int{problem.Error: 1, problem.Warning: 2, problem.Note: 3}[c.severity]; d.Severity != want {
			t.Errorf("severity %v is %d", c.severity, d.Severity)
		}
	}
}

// The symbols of a tally file are its tables with their keys, as far as each reaches; the kinds are those of the protocol.
func TestSymbolsAndKinds(t *testing.T) {
	const text = "[workspace]\nname = \"w\"\n[task.fire]\nrun = \"true\"\nkind = \"build\"\n\n[via.box]\nrun = \"box {command}\"\n[task.\"\"]\nrun = \"x\"\n"
	root := tree(t, map[string]string{"tidytally.toml": text, "Makefile": "all:\n\ttrue\n"})
	c := connect(t, root)
	uri := c.open(filepath.Join(root, "tidytally.toml"), text)
	var list []documentSymbol
	c.ask("textDocument/documentSymbol", map[string]any{"textDocument": map[string]any{"uri": uri}}, &list)
	var out []string
	for _, s := range list {
		line := fmt.Sprintf("%s|%s|%d %d:%d-%d:%d", s.Name, s.Detail, s.Kind, s.Range.Start.Line, s.Range.Start.Character, s.Range.End.Line, s.Range.End.Character)
		for _, k := range s.Children {
			line += fmt.Sprintf(" %s/%d@%d", k.Name, k.Kind, k.Range.Start.Line)
		}
		out = append(out, line)
	}
	want := []string{"workspace||3 0:0-1:10 name/7@1", "fire|task|12 2:0-5:0 run/7@3 kind/7@4", "box|via|3 6:0-7:21 run/7@7", "…|task|12 8:0-10:0 run/7@9"}
	if strings.Join(out, "\n") != strings.Join(want, "\n") {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(out, "\n"), strings.Join(want, "\n"))
	}
	for _, x := range []struct {
		line, character int
		label           string
		kind            int
	}{{4, 3, "kind", 10}, {4, 9, "build", 12}, {0, 1, "task.", 9}} {
		var items completionList
		c.ask("textDocument/completion", map[string]any{"textDocument": map[string]any{"uri": uri}, "position": position{x.line, x.character}}, &items)
		kind := 0
		for _, i := range items.Items {
			if i.Label == x.label {
				kind = i.Kind
			}
		}
		if kind != x.kind {
			t.Errorf("%s at %d:%d is of the kind %d, want %d", x.label, x.line, x.character, kind, x.kind)
		}
	}
}

// A task that has run before shows how far it is, from its usual time, and how it ended.
func TestProgressOfAKnownTask(t *testing.T) {
	root := tree(t, map[string]string{"Makefile": "slow:\n\t@sleep 1\n"})
	c := connect(t, root)
	store, err := history.Open(root)
	if err != nil {
		t.Fatal(err)
	}
	for range 3 {
		at := time.Now().Add(-time.Hour)
		if _, err := store.Add(history.Run{Task: "Makefile#slow", Command: "x", Start: at, End: at.Add(2 * time.Second), State: "ok"}, nil, nil, ""); err != nil {
			t.Fatal(err)
		}
	}
	store.Close()
	type value struct {
		Kind, Message string
		Percentage    *int
	}
	var begin, end *value
	told := false
	for n := 1; !told && n < 10; n++ { // until the history is read
		begin, end = nil, nil
		token := fmt.Sprintf("tidytally-%d", n)
		c.run(commandRun, root, "slow")
		c.until("the end", func(method string, params json.RawMessage) bool {
			var p struct {
				Token string
				Value value
			}
			if method != "$/progress" || json.Unmarshal(params, &p) != nil || p.Token != token {
				return false
			}
			v := p.Value
			switch v.Kind {
			case "begin":
				begin = &v
			case "end":
				end = &v
			case "report":
				told = told || v.Percentage != nil && *v.Percentage > 0 && *v.Percentage < 99 && strings.HasPrefix(v.Message, "about ") && strings.HasSuffix(v.Message, " to go")
			}
			return end != nil
		})
	}
	if !told || begin == nil || begin.Percentage == nil || *begin.Percentage != 0 || !strings.HasPrefix(begin.Message, "usually ") || end.Message != "ok" {
		t.Errorf("told %v, begin %+v, end %+v", told, begin, end)
	}
}
