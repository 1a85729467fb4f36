package sieve

import (
	"bytes"

	"tidytally/core/problem"
	"tidytally/core/sieve/lex"
)

// Summary is a line in which a tool counts its own problems, and the number found. A
// difference means that a problem was missed or something else was taken for one.
type Summary struct {
	Family      string
	Line        int
	Said, Found int
}

// counts are the problems of a family since its last summary, repetitions included:
// errors, and all.
type counts struct{ errors, all int }

func (e *Engine) counted(p *problem.Problem) {
	if e.counts == nil {
		e.counts = map[string]*counts{}
	}
	c := e.counts[p.Family]
	if c == nil {
		c = &counts{}
		e.counts[p.Family] = c
	}
	c.all++
	if p.Severity == problem.Error {
		c.errors++
	}
}

// summarize looks for the summary of a tool that counts a whole run. Compilers that
// count per file, or per run of several side by side, are left out.
func (e *Engine) summarize(l *Line) {
	t := bytes.TrimSpace(l.Text)
	if rest, ok := lex.CutPrefix(t, "Found "); ok {
		n, k := lex.Number(rest)
		rest = rest[k:]
		switch {
		case k == 0 || !lex.HasPrefix(rest, " error"):
		case bytes.HasSuffix(rest, []byte("Watching for file changes.")), bytes.Contains(rest, []byte(" in the same file, starting at: ")), bytes.HasSuffix(rest, []byte(" files.")):
			e.summary(l, n, "tsc", false)
		case bytes.Contains(rest, []byte("(checked ")):
			e.summary(l, n, "gnu", false) // mypy prints the GNU form
		}
		return
	}
	if rest, ok := lex.CutPrefix(t, "✖ "); ok {
		if n, k := lex.Number(rest); k > 0 && lex.HasPrefix(rest[k:], " problem") {
			e.summary(l, n, "blocks", true)
		}
		return
	}
	if n, k := lex.Number(t); k > 0 && (string(t[k:]) == " errors" || string(t[k:]) == " error") {
		e.summary(l, n, "java", false)
	}
}

// endsInCount reports whether a line that begins with a number may be a summary.
func endsInCount(t []byte) bool {
	t = lex.WithoutReturn(t)
	return len(t) < 40 && (bytes.HasSuffix(t, []byte("error")) || bytes.HasSuffix(t, []byte("errors")))
}

// summary compares the tool's count with the number found since its last one.
func (e *Engine) summary(l *Line, said int, family string, all bool) {
	e.finish()
	found := counts{}
	if c := e.counts[family]; c != nil {
		found = *c
		delete(e.counts, family)
	}
	n := found.errors
	if all {
		n = found.all
	}
	if n > 0 || said > 0 {
		e.out.summaries = append(e.out.summaries, Summary{family, l.Number, said, n})
	}
}
