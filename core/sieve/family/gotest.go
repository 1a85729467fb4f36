package family

import (
	"bytes"
	"cmp"
	"path"
	"strings"

	"tidytally/core/problem"
	"tidytally/core/sieve"
	"tidytally/core/sieve/lex"
)

var gotestFamily = sieve.Family{
	Name:     "gotest",
	Columns:  problem.Bytes,
	Endings:  oneOf("go"),
	Leads:    oneOf("=== |--- |panic: |fatal error: |WARNING: DATA RACE|FAIL|PASS|ok  \t"),
	Indented: oneOf("--- "),
	New:      func() sieve.Scanner { return &gotestScanner{} },
}

// gotestScanner reads go test: failed tests and subtests in the plain and the
// verbose form, panics and fatal errors at the first frame of the user own code, and
// reports of the race detector.
type gotestScanner struct {
	// In the verbose form a test's lines come before its verdict, in the other
	// behind it.
	test  string
	said  []testLine // by tests whose verdict is still to come
	fails []testLine // by failed tests, until the package and so the folder is known
	// inFail: the lines behind a "--- FAIL" are being read.
	inFail bool
	last   *testLine // the message that indented lines continue
	// example is an example that failed: what it printed, and what it should have,
	// follows.
	example *testLine

	trace *trace
}

type testLine struct {
	test   string
	indent int
	p      problem.Problem
}

// trace is a panic or a race report that is being read.
type trace struct {
	p         problem.Problem
	race      bool
	block     int    // of a race report: the stack that is being read
	call      string // the function of the next place
	located   bool
	blockDone bool
	heading   string
}

func (g *gotestScanner) Flush(rep *sieve.Reporter, last bool) {
	if last && g.example != nil {
		g.endExample(rep)
	}
	if g.trace != nil {
		g.endTrace(rep)
	}
	if last {
		g.endPackage(rep, "")
	}
}

func (g *gotestScanner) Scan(l *sieve.Line, rep *sieve.Reporter) bool {
	t := l.Text
	if g.trace != nil && g.inTrace(l, rep) {
		return true
	}
	if g.example != nil {
		if !hasAnyPrefix(t, "FAIL", "--- ", "=== ", "PASS", "ok  \t", "panic: ") && strings.Count(g.example.p.Message, "\n") < sieve.MaxParts {
			g.example.p.Message += "\n" + string(t)
			l.Extend(&g.example.p.Output)
			return true
		}
		g.endExample(rep)
	}
	if len(t) == 0 {
		return false
	}
	switch {
	case l.Has("=== "):
		g.last, g.inFail = nil, false
		if f := bytes.Fields(t[4:]); len(f) >= 2 {
			g.test = string(f[1])
			return true
		}
	case l.Has("panic: "), l.Has("fatal error: "):
		g.beginTrace(l, rep, false)
		return true
	case l.Has("WARNING: DATA RACE"):
		g.beginTrace(l, rep, true)
		return true
	case l.Has("FAIL\t"), l.Has("ok  \t"):
		fields := strings.Split(string(t), "\t")
		if name, _, _ := strings.Cut(fields[1], " "); name != "" {
			g.endPackage(rep, name)
			return true
		}
	case string(t) == "FAIL", string(t) == "PASS":
		g.last, g.inFail = nil, false
		return true
	}
	in := l.Indent()
	if in == 0 && t[0] != '-' {
		g.last, g.inFail = nil, false
		if rep.Claimed() {
			rep.Release()
		}
		return false
	}
	if verdict, ok := lex.CutPrefix(t[in:], "--- "); ok {
		taken := g.verdict(verdict, rep)
		if name := g.test; taken && g.inFail && strings.HasPrefix(name, "Example") {
			g.example = &testLine{p: problem.Problem{
				Code: name, Test: name, Message: "the example printed something else",
				Output: sieve.SpanOf(l, l),
			}}
		}
		return taken
	}
	if g.test == "" && !g.inFail {
		return false
	}
	if place, message, ok := testPlace(t[in:]); ok && in >= 4 && in%4 == 0 {
		if len(g.said) >= maxSaid {
			g.said = append(g.said[:0], g.said[maxSaid/2:]...)
		}
		g.said = append(g.said, testLine{g.test, in, problem.Problem{
			Place: place, Message: string(message), Test: g.test,
			Output: sieve.SpanOf(l, l),
		}})
		g.last = &g.said[len(g.said)-1]
		if g.inFail {
			g.fails = append(g.fails, *g.last)
			g.said = g.said[:len(g.said)-1]
			g.last = &g.fails[len(g.fails)-1]
		}
		rep.Finish()
		rep.Claim()
		return true
	}
	if g.last != nil && in >= g.last.indent+4 && strings.Count(g.last.p.Message, "\n") < sieve.MaxParts {
		g.last.p.Message += "\n" + string(bytes.TrimSpace(t))
		l.Extend(&g.last.p.Output)
		return true
	}
	g.last = nil
	return false
}

// maxSaid is the number of lines that tests may have printed before it is known whether
// they failed. Of more, the older ones are forgotten.
const maxSaid = 4096

// endExample reports an example that failed; it has no place.
func (g *gotestScanner) endExample(rep *sieve.Reporter) {
	p := g.example.p
	g.example = nil
	rep.Give(p)
	rep.Claim()
}

// verdict reads "FAIL: TestName (0.00s)".
func (g *gotestScanner) verdict(t []byte, rep *sieve.Reporter) bool {
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
	// In the plain form, what follows the verdict is this test's.
	g.inFail, g.test = word == "FAIL", name
	if word != "FAIL" {
		g.test = ""
	}
	rep.Claim()
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

// endPackage reports the lines of the failed tests of a package.
func (g *gotestScanner) endPackage(rep *sieve.Reporter, pkg string) {
	for _, f := range g.fails {
		p := f.p
		p.File = rep.Place(packageFile(pkg, p.File, rep))
		rep.Give(p)
	}
	g.fails, g.said, g.test, g.inFail, g.last = g.fails[:0], g.said[:0], "", false, nil
}

// packageFile returns the path of a file that go test names without its folder: the
// end of the import path that exists. If nothing can be asked, the module's path is
// taken to be as long as is usual at its host.
func packageFile(pkg, file string, rep *sieve.Reporter) string {
	if pkg == "" || strings.Contains(file, "/") {
		return file
	}
	parts := strings.Split(pkg, "/")
	if rep.CanAsk() {
		for i := range parts {
			name := path.Join(path.Join(parts[i:]...), file)
			if rep.Exists(rep.Place(name)) {
				return name
			}
		}
		if rep.Exists(rep.Place(file)) {
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

func (g *gotestScanner) beginTrace(l *sieve.Line, rep *sieve.Reporter, race bool) {
	rep.Finish()
	message := string(l.Text)
	if race {
		message = "data race"
	}
	g.trace = &trace{race: race, p: problem.Problem{
		Test:    g.test,
		Message: strings.TrimSuffix(message, " [recovered]"),
		Output:  sieve.SpanOf(l, l),
	}}
	rep.Claim()
}

// inTrace reads the lines of a stack.
func (g *gotestScanner) inTrace(l *sieve.Line, rep *sieve.Reporter) bool {
	tr := g.trace
	t := bytes.TrimSpace(l.Text)
	end := func() bool {
		g.endTrace(rep)
		return false
	}
	if l.Number-tr.p.Output.FirstLine > 4096 {
		return end()
	}
	switch {
	case len(t) == 0:
		tr.blockDone = false
		return true
	case bytes.HasPrefix(t, []byte("==================")):
		g.endTrace(rep)
		return true
	case l.Has("FAIL\t"), l.Has("--- "), l.Has("=== "), l.Has("exit status "), l.Has("FAIL"), l.Has("ok  \t"):
		return end()
	case l.Has("panic: "), l.Has("\tpanic: "), l.Has("goroutine "), l.Has("[signal "), l.Has("created by "), l.Has("exit status"):
		return true
	}
	if tr.race && l.Indent() == 0 && bytes.HasSuffix(t, []byte(":")) || tr.race && l.Indent() == 2 && bytes.HasSuffix(t, []byte(":")) {
		tr.heading, tr.blockDone = string(t[:len(t)-1]), false
		tr.block++
		return true
	}
	if l.Indent() == 0 && !tr.race {
		if bytes.HasSuffix(t, []byte(")")) {
			tr.call = string(t)
			return true
		}
		if !tr.located && len(tr.call) == 0 && strings.Count(tr.p.Message, "\n") < sieve.MaxParts {
			tr.p.Message += "\n" + string(t)
			return true
		}
		return end()
	}
	file, _, _ := bytes.Cut(t, []byte(" +0x"))
	place, ok := lex.PlaceAtEnd(file)
	if !ok || !strings.HasSuffix(place.File, ".go") {
		return true
	}
	if toolchainFile(place.File) {
		return true
	}
	place.File = rep.Place(place.File)
	if !tr.located {
		tr.p.Place, tr.located = place, true
		l.Extend(&tr.p.Output)
		if tr.race {
			tr.p.Message = "data race: " + strings.ToLower(tr.heading[:1]) + tr.heading[1:]
			tr.blockDone = true
		}
		return true
	}
	if tr.race && tr.blockDone || len(tr.p.Related) >= sieve.MaxParts {
		return true
	}
	tr.p.Related = append(tr.p.Related, problem.Related{Place: place, Message: cmp.Or(tr.heading, "called from here")})
	tr.blockDone = true
	return true
}

func (g *gotestScanner) endTrace(rep *sieve.Reporter) {
	tr := g.trace
	g.trace = nil
	if tr.located {
		rep.Give(tr.p)
	}
	if rep.Claimed() {
		rep.Release()
	}
}

// toolchainFile reports whether a file is Go's own or a downloaded module's.
func toolchainFile(f string) bool {
	return strings.Contains(f, "/src/runtime/") || strings.Contains(f, "/src/testing/") || strings.Contains(f, "/go/src/") ||
		strings.Contains(f, "/pkg/mod/") || strings.Contains(f, "/libexec/src/") || strings.HasPrefix(f, "_testmain.go")
}
