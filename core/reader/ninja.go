package reader

import (
	"fmt"
	"path"
	"strings"

	"tidytally/core/reader/declare"
	"tidytally/core/task"
)

// Ninja files (ninja manual: "Ninja file reference").

func ninjaWants(name string) bool { return name == "build.ninja" }

func readNinja(f *declare.File) (found declare.Found) {
	n := ninjaReader{main: f, found: &found, edges: map[string]*ninjaEdge{}, used: map[string]bool{}, seen: map[string]bool{}}
	n.read(f.Path, f.Data, map[string]string{}, 0)
	for _, name := range n.order {
		e := n.edges[name]
		if name == "build.ninja" || strings.ContainsAny(name, "\n\x00") { // which cannot be given to it
			continue
		}
		t := &task.Task{
			Name: name, Source: "ninja", File: f.Path, Line: e.line, Manner: task.Declared, Dir: path.Dir(f.Path),
			Command:  task.Command{Argv: []string{"ninja", name}},
			Question: task.Question{Command: task.Command{Argv: []string{"ninja", "-n", name}}, Idle: "ninja: no work to do."},
			Kind:     task.KindOf(name), Default: n.defaults[name],
			// The target is intermediate if another rule reads it.
			Hidden: e.rule != "phony" && n.used[name],
		}
		if e.file != f.Path {
			t.Line = e.via
			t.SetOrigin("name", task.Origin{File: e.file, Line: e.line, Manner: task.Declared, Note: "included by " + path.Base(f.Path)})
		}
		found.Tasks = append(found.Tasks, t)
	}
	return found
}

type ninjaEdge struct {
	rule string
	file string
	line int
	via  int
}

type ninjaReader struct {
	main     *declare.File
	found    *declare.Found
	edges    map[string]*ninjaEdge
	order    []string
	used     map[string]bool // by an edge that is not phony
	seen     map[string]bool
	defaults map[string]bool
	files    int
}

func (n *ninjaReader) read(name string, data []byte, vars map[string]string, via int) {
	if n.seen[name] || n.files > 500 {
		return
	}
	n.seen[name] = true
	n.files++
	text, line := strings.TrimPrefix(string(data), "\ufeff"), 1
	for text != "" {
		start := line
		var raw string
		raw, text, line = declare.CutLine(text, line)
		if ninjaContinued(raw) && text != "" {
			var whole strings.Builder
			for ninjaContinued(raw) && text != "" {
				whole.WriteString(raw[:len(raw)-1])
				raw, text, line = declare.CutLine(text, line)
				raw = strings.TrimLeft(raw, " \t")
			}
			raw = whole.String() + raw
		}
		trimmed := strings.TrimSpace(raw)
		if trimmed == "" || trimmed[0] == '#' || raw[0] == ' ' || raw[0] == '\t' {
			continue // the variables of a rule or an edge
		}
		word, rest := declare.CutWord(trimmed)
		main := via
		if main == 0 {
			main = start
		}
		switch word {
		case "build":
			n.edge(rest, name, start, main, vars)
		case "default":
			if n.defaults == nil {
				n.defaults = map[string]bool{}
			}
			for _, d := range ninjaPaths(rest, vars) {
				n.defaults[d] = true
			}
		case "include", "subninja":
			for _, p := range ninjaPaths(rest, vars) {
				rel := path.Join(path.Dir(n.main.Path), p)
				inner, err := n.main.Open(rel)
				if err != nil {
					n.found.Faults = append(n.found.Faults, task.Fault{File: name, Line: start, Message: fmt.Sprintf("%s %s: %v; the rest of the file was read", word, p, err)})
					continue
				}
				scope := vars
				if word == "subninja" {
					scope = map[string]string{}
					for k, v := range vars {
						scope[k] = v
					}
				}
				n.read(rel, inner, scope, main)
			}
		case "rule", "pool":
		default:
			if key, value, ok := strings.Cut(trimmed, "="); ok {
				vars[strings.TrimSpace(key)] = ninjaExpand(strings.TrimSpace(value), vars)
			}
		}
	}
}

func ninjaContinued(s string) bool {
	n := 0
	for n < len(s) && s[len(s)-1-n] == '$' {
		n++
	}
	return n%2 == 1
}

// edge reads "out1 out2 | implicit: rule in1 | in2 || order-only".
func (n *ninjaReader) edge(s, file string, line, via int, vars map[string]string) {
	colon := -1
	for i := 0; i < len(s); i++ {
		if s[i] == '$' {
			i++
		} else if s[i] == ':' {
			colon = i
			break
		}
	}
	if colon < 0 {
		n.found.Faults = append(n.found.Faults, task.Fault{File: file, Line: line, Message: "a colon should stand behind the outputs; the rest of the file was read"})
		return
	}
	outs := ninjaPaths(s[:colon], vars)
	ins := ninjaPaths(s[colon+1:], vars)
	if len(ins) == 0 {
		return
	}
	rule := ins[0]
	for _, in := range ins[1:] {
		if rule != "phony" {
			n.used[in] = true
		}
	}
	for _, o := range outs {
		if n.edges[o] == nil && len(n.edges) < 200_000 {
			n.edges[o] = &ninjaEdge{rule, file, line, via}
			n.order = append(n.order, o)
		}
	}
}

// ninjaPaths splits a list of paths; the bars between their kinds are left out.
func ninjaPaths(s string, vars map[string]string) (out []string) {
	var b strings.Builder
	in := false
	flush := func() {
		if in {
			if w := b.String(); w != "|" && w != "||" && w != "|@" {
				out = append(out, w)
			}
		}
		b.Reset()
		in = false
	}
	for i := 0; i < len(s); i++ {
		switch c := s[i]; {
		case c == ' ' || c == '\t':
			flush()
		case c == '$' && i+1 < len(s):
			in = true
			var text string
			text, i = ninjaReference(s, i, vars)
			b.WriteString(text)
		default:
			in = true
			b.WriteByte(c)
		}
	}
	flush()
	return out
}

// ninjaReference reads the text behind a '$' at i, and returns the index of its last
// byte.
func ninjaReference(s string, i int, vars map[string]string) (text string, end int) {
	c := s[i+1]
	if c == '{' {
		if j := strings.IndexByte(s[i:], '}'); j > 0 {
			return vars[s[i+2:i+j]], i + j
		}
		return "", len(s)
	}
	j := i + 1
	for j < len(s) && (s[j] == '_' || s[j] == '-' || s[j] >= '0' && s[j] <= '9' || s[j]|0x20 >= 'a' && s[j]|0x20 <= 'z') {
		j++
	}
	if j > i+1 {
		return vars[s[i+1:j]], j - 1
	}
	return string(c), i + 1 // "$ ", "$:", "$$"
}

func ninjaExpand(s string, vars map[string]string) string {
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] == '$' && i+1 < len(s) {
			var text string
			text, i = ninjaReference(s, i, vars)
			b.WriteString(text)
			continue
		}
		b.WriteByte(s[i])
	}
	return b.String()
}
