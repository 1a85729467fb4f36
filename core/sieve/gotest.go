package sieve

import (
	"bytes"
	"cmp"
	"path"
	"strings"

	"tidytally/core/problem"
)

// gotestScanner reads go test: failed tests and subtests in the plain and the
// verbose form, panics and fatal errors at the first frame of the user's own
// code, and reports of the race detector.
type gotestScanner struct {
	self int
	// In the verbose form a test's lines come before its verdict, else behind.
	test  string
	said  []testLine // by tests whose verdict is still to come
	fails []testLine // by failed tests, until the package and so the folder is known
	// inFail holds while the lines behind a "--- FAIL" are read.
	inFail bool
	last   *testLine // the message that indented lines continue
	// example is one that failed: what it printed and should have follows.
	example *testLine

	trace *trace
}

type testLine struct {
	test   string
	indent int
	p      problem.Problem
}

// trace is a panic or a race report under way.
type trace struct {
	p         problem.Problem
	race      bool
	block     int    // of a race report: the stack that is being read
	call      string // the function of the next place
	located   bool
	blockDone bool
	heading   string
}

func (g *gotestScanner) flush(e *Engine, last bool) {
	if last && g.example != nil {
		g.endExample(e)
	}
	if g.trace != nil {
		g.endTrace(e)
	}
	if last {
		g.endPackage(e, "")
	}
}

func (g *gotestScanner) scan(l *line, e *Engine) bool {
	t := l.text
	if g.trace != nil && g.inTrace(l, e) {
		return true
	}
	if g.example != nil {
		if !hasAnyPrefix(t, "FAIL", "--- ", "=== ", "PASS", "ok  \t", "panic: ") && strings.Count(g.example.p.Message, "\n") < maxParts {
			g.example.p.Message += "\n" + string(t)
			g.example.p.Output.LastLine, g.example.p.Output.EndByte = l.number, l.end
			return true
		}
		g.endExample(e)
	}
	if len(t) == 0 {
		return false
	}
	switch {
	case l.has("=== "):
		g.last, g.inFail = nil, false
		if f := bytes.Fields(t[4:]); len(f) >= 2 {
			g.test = string(f[1])
			return true
		}
	case l.has("panic: "), l.has("fatal error: "):
		g.beginTrace(l, e, false)
		return true
	case l.has("WARNING: DATA RACE"):
		g.beginTrace(l, e, true)
		return true
	case l.has("FAIL\t"), l.has("ok  \t"):
		fields := strings.Split(string(t), "\t")
		if name, _, _ := strings.Cut(fields[1], " "); name != "" {
			g.endPackage(e, name)
			return true
		}
	case string(t) == "FAIL", string(t) == "PASS":
		g.last, g.inFail = nil, false
		return true
	}
	in := l.indent()
	if in == 0 && t[0] != '-' {
		g.last, g.inFail = nil, false
		if e.owner == g.self {
			e.owner = -1
		}
		return false
	}
	if verdict, ok := cutPrefix(t[in:], "--- "); ok {
		taken := g.verdict(verdict, e)
		if name := g.test; taken && g.inFail && strings.HasPrefix(name, "Example") {
			g.example = &testLine{p: problem.Problem{
				Code: name, Message: "the example printed something else",
				Output: spanOf(l, l),
			}}
		}
		return taken
	}
	if g.test == "" && !g.inFail {
		return false
	}
	if place, message, ok := testPlace(t[in:]); ok && in >= 4 && in%4 == 0 {
		g.said = append(g.said, testLine{g.test, in, problem.Problem{
			Place: place, Message: string(message),
			Output: spanOf(l, l),
		}})
		g.last = &g.said[len(g.said)-1]
		if g.inFail {
			g.fails = append(g.fails, *g.last)
			g.said = g.said[:len(g.said)-1]
			g.last = &g.fails[len(g.fails)-1]
		}
		e.finish()
		e.owner = g.self
		return true
	}
	if g.last != nil && in >= g.last.indent+4 && strings.Count(g.last.p.Message, "\n") < maxParts {
		g.last.p.Message += "\n" + string(bytes.TrimSpace(t))
		g.last.p.Output.LastLine, g.last.p.Output.EndByte = l.number, l.end
		return true
	}
	g.last = nil
	return false
}

// endExample gives out an example that failed; it has no place.
func (g *gotestScanner) endExample(e *Engine) {
	p := g.example.p
	g.example = nil
	e.give(g.self, p)
	e.owner = g.self
}

// verdict takes "FAIL: TestName (0.00s)".
func (g *gotestScanner) verdict(t []byte, e *Engine) bool {
	word, rest, ok := strings.Cut(string(t), ": ")
	name, _, timed := strings.Cut(rest, " (")
	if !ok || !timed {
		return false
	}
	g.last = nil
	kept := g.said[:0]
	for _, s := range g.said {
		if s.test != name {
			kept = append(kept, s)
		} else if word == "FAIL" {
			g.fails = append(g.fails, s)
		}
	}
	g.said = kept
	// What stands behind the verdict in the plain form is this test's.
	g.inFail, g.test = word == "FAIL", name
	if word != "FAIL" {
		g.test = ""
	}
	e.owner = g.self
	return true
}

// testPlace reads "file_test.go:12: message".
func testPlace(t []byte) (p problem.Place, message []byte, ok bool) {
	p, message, ok = goPlace(t)
	if !ok {
		if bare, found := bytes.CutSuffix(t, []byte(": ")); found {
			return goPlace(append(bytes.Clone(bare), ": \u00a0"...))
		}
	}
	return p, message, ok && p.Column == 0
}

// endPackage gives out what the failed tests of a package said.
func (g *gotestScanner) endPackage(e *Engine, pkg string) {
	for _, f := range g.fails {
		p := f.p
		p.File = e.place(packageFile(pkg, p.File, e))
		e.give(g.self, p)
	}
	g.fails, g.said, g.test, g.inFail, g.last = g.fails[:0], g.said[:0], "", false, nil
}

// packageFile finds the folder of a file that go test names without one: the
// part of the import path that leads there. Without a file system to ask, the
// module is taken to be as long as its host's convention says.
func packageFile(pkg, file string, e *Engine) string {
	if pkg == "" || strings.Contains(file, "/") {
		return file
	}
	parts := strings.Split(pkg, "/")
	if e.opts.Exists != nil {
		for i := range parts {
			name := path.Join(path.Join(parts[i:]...), file)
			if e.opts.Exists(e.place(name)) {
				return name
			}
		}
		if e.opts.Exists(e.place(file)) {
			return file
		}
	}
	module := 1
	if strings.Contains(parts[0], ".") {
		module = 2
		switch parts[0] {
		case "github.com", "gitlab.com", "bitbucket.org", "codeberg.org", "golang.org":
			module = 3
		}
	}
	if len(parts) <= module {
		return file
	}
	return path.Join(path.Join(parts[module:]...), file)
}

func (g *gotestScanner) beginTrace(l *line, e *Engine, race bool) {
	e.finish()
	message := string(l.text)
	if race {
		message = "data race"
	}
	g.trace = &trace{race: race, p: problem.Problem{
		Message: strings.TrimSuffix(message, " [recovered]"),
		Output:  spanOf(l, l),
	}}
	e.owner = g.self
}

// inTrace takes the lines of a stack.
func (g *gotestScanner) inTrace(l *line, e *Engine) bool {
	tr := g.trace
	t := bytes.TrimSpace(l.text)
	end := func() bool {
		g.endTrace(e)
		return false
	}
	if l.number-tr.p.Output.FirstLine > 4096 {
		return end()
	}
	switch {
	case len(t) == 0:
		tr.blockDone = false
		return true
	case bytes.HasPrefix(t, []byte("==================")):
		g.endTrace(e)
		return true
	case l.has("FAIL\t"), l.has("--- "), l.has("=== "), l.has("exit status "), l.has("FAIL"), l.has("ok  \t"):
		return end()
	case l.has("panic: "), l.has("\tpanic: "), l.has("goroutine "), l.has("[signal "), l.has("created by "), l.has("exit status"):
		return true
	}
	if tr.race && l.indent() == 0 && bytes.HasSuffix(t, []byte(":")) || tr.race && l.indent() == 2 && bytes.HasSuffix(t, []byte(":")) {
		tr.heading, tr.blockDone = string(t[:len(t)-1]), false
		tr.block++
		return true
	}
	if l.indent() == 0 && !tr.race {
		if bytes.HasSuffix(t, []byte(")")) {
			tr.call = string(t)
			return true
		}
		if !tr.located && len(tr.call) == 0 && strings.Count(tr.p.Message, "\n") < maxParts {
			tr.p.Message += "\n" + string(t)
			return true
		}
		return end()
	}
	file, _, _ := bytes.Cut(t, []byte(" +0x"))
	place, ok := placeAtEnd(file)
	if !ok || !strings.HasSuffix(place.File, ".go") {
		return true
	}
	if toolchainFile(place.File) {
		return true
	}
	place.File = e.place(place.File)
	if !tr.located {
		tr.p.Place, tr.located = place, true
		tr.p.Output.LastLine, tr.p.Output.EndByte = l.number, l.end
		if tr.race {
			tr.p.Message = "data race: " + strings.ToLower(tr.heading[:1]) + tr.heading[1:]
			tr.blockDone = true
		}
		return true
	}
	if tr.race && tr.blockDone || len(tr.p.Related) >= maxParts {
		return true
	}
	tr.p.Related = append(tr.p.Related, problem.Related{Place: place, Message: cmp.Or(tr.heading, "called from here")})
	tr.blockDone = true
	return true
}

func (g *gotestScanner) endTrace(e *Engine) {
	tr := g.trace
	g.trace = nil
	if tr.located {
		e.give(g.self, tr.p)
	}
	if e.owner == g.self {
		e.owner = -1
	}
}

// toolchainFile tells Go's own library and downloaded modules from the user's code.
func toolchainFile(f string) bool {
	return strings.Contains(f, "/src/runtime/") || strings.Contains(f, "/src/testing/") || strings.Contains(f, "/go/src/") ||
		strings.Contains(f, "/pkg/mod/") || strings.Contains(f, "/libexec/src/") || strings.HasPrefix(f, "_testmain.go")
}
