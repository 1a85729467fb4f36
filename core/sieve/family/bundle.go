package family

import (
	"bytes"
	"strings"

	"tidytally/core/problem"
	"tidytally/core/sieve"
	"tidytally/core/sieve/lex"
)

var bundleFamily = sieve.Family{
	Name:    "bundle",
	Columns: problem.UTF16,
	Behind:  oneOf("ERROR: "),
	Leads:   oneOf("✘ [ERROR] |▲ [WARNING] |ERROR in |WARNING in |error during build:|[!] |SyntaxError: /|[error] |[warn] |Checking formatting..."),
	New:     func() sieve.Scanner { return &bundleScanner{} },
}

// bundleScanner reads what turns sources into pages: esbuild, rollup, vite, webpack,
// babel and prettier. Their columns count from zero, but prettier's.
type bundleScanner struct {
	kind  bundleKind
	head  problem.Problem // without its place, or its message
	first sieve.Line
	lines int    // since the head
	note  string // of esbuild, without its place
	text  string // of esbuild: the source line that it printed last
	// checking: prettier lists the files that it would format differently.
	checking bool
}

type bundleKind int

const (
	esbuildHead bundleKind = iota
	webpackHead
	viteHead
)

// maxBundle is the number of lines below its headline within which a place is looked
// for.
const maxBundle = 12

func (s *bundleScanner) Flush(*sieve.Reporter, bool) {}

func (s *bundleScanner) Scan(l *sieve.Line, rep *sieve.Reporter) bool {
	t := l.Text
	for _, h := range [...]struct {
		word string
		kind bundleKind
		sev  problem.Severity
	}{{"✘ [ERROR] ", esbuildHead, problem.Error}, {"▲ [WARNING] ", esbuildHead, problem.Warning}, {"ERROR in ", webpackHead, problem.Error}, {"WARNING in ", webpackHead, problem.Warning}, {"error during build:", viteHead, problem.Error}} {
		if rest, ok := lex.CutPrefix(t, h.word); ok {
			rep.Finish()
			s.kind, s.head, s.first, s.lines, s.note = h.kind, problem.Problem{Severity: h.sev}, l.Kept(), 0, ""
			switch h.kind {
			case esbuildHead:
				s.head.Message, s.head.Code = splitCode(string(rest), false)
			case webpackHead:
				s.head.Place = webpackPlace(rest)
			}
			rep.Claim()
			return true
		}
	}
	if rep.Claimed() {
		if s.more(l, rep) {
			return true
		}
		rep.Finish()
	}
	if string(t) == "Checking formatting..." {
		s.checking = true
		return true
	}
	p, ok := bundleLine(t)
	if !ok {
		if p, ok = s.unformatted(t); !ok {
			return false
		}
	}
	p.File = rep.Place(p.File)
	rep.Begin(l, p)
	rep.Finish()
	return true
}

// more reads a line below a headline. It reports whether the line belongs to it.
func (s *bundleScanner) more(l *sieve.Line, rep *sieve.Reporter) bool {
	if s.lines++; s.lines > maxBundle && rep.Current() == nil {
		return false
	}
	t := l.Text
	switch s.kind {
	case esbuildHead:
		return s.esbuild(l, rep)
	case viteHead:
		return s.vite(l, rep)
	}
	switch rest, tsl := lex.CutPrefix(t, "[tsl] "); {
	case len(t) == 0:
		return rep.Current() == nil // the message is over
	case tsl: // ts-loader repeats the place, counted as the compiler does
		if _, place, ok := bytes.Cut(rest, []byte(" in ")); ok {
			s.head.Place, _ = lex.PlaceAtEnd(place)
		}
		return true
	case rep.Current() != nil:
		if by, ok := lex.CutPrefix(t, " @ "); ok {
			if by, _, _ = bytes.Cut(by, []byte(" ")); len(rep.Current().Related) == 0 {
				place := webpackPlace(bytes.TrimPrefix(t, []byte(" @ ")))
				place.File = rep.Place(string(by))
				rep.Relate(problem.Related{Place: place, Message: "imported here"})
			}
		}
		return true
	case s.head.Line == 0 && lex.HasPrefix(t, "./"):
		s.head.Place = webpackPlace(t)
		return true
	}
	s.head.Message = string(bytes.TrimSpace(t))
	if code, message, ok := strings.Cut(s.head.Message, ": "); ok && strings.HasPrefix(code, "TS") && !strings.Contains(code, " ") {
		s.head.Code, s.head.Message = code, message
	}
	s.begin(l, rep)
	return true
}

// begin starts the problem of the headline, once its place and message are known.
func (s *bundleScanner) begin(l *sieve.Line, rep *sieve.Reporter) {
	if s.head.File != "" {
		s.head.File = rep.Place(s.head.File)
	}
	first := s.first
	rep.Begin(&first, s.head)
	rep.Extend(l)
}

// esbuild reads "    src/ok.ts:2:17:", the source under it, and notes.
func (s *bundleScanner) esbuild(l *sieve.Line, rep *sieve.Reporter) bool {
	t := bytes.TrimSpace(l.Text)
	in := l.Indent()
	if len(t) == 0 {
		return true
	}
	if in == 0 {
		return false
	}
	if place, ok := lex.PlaceAtEnd(bytes.TrimSuffix(t, []byte(":"))); ok && in == 4 && t[len(t)-1] == ':' {
		place.Column++
		switch {
		case rep.Current() == nil:
			s.head.Place = place
			s.begin(l, rep)
		case s.note != "":
			place.File = rep.Place(place.File)
			rep.Relate(problem.Related{Place: place, Message: s.note})
			s.note = ""
		}
		return true
	}
	if _, source, ok := bytes.Cut(t, []byte(" │ ")); ok && in > 4 && lex.IsDigit(t[0]) {
		s.text = string(source)
		if n, _ := lex.Number(t); rep.Current() != nil {
			rep.ShowsSource(n, source, len(rep.Current().Related) > 0)
		}
		return true
	}
	if marks, ok := lex.CutPrefix(t, "╵ "); ok && rep.Current() != nil {
		if p := rep.Current(); p.EndColumn == 0 && len(p.Related) == 0 {
			if n := markedRunes(s.text, marks, '~'); n > 0 {
				p.EndLine, p.EndColumn = p.Line, p.Column+n
			}
		}
		return true
	}
	if in == 2 {
		s.note = strings.TrimSuffix(string(t), ":")
	}
	return true
}

// vite reads the message behind "error during build:" and the place behind or below
// it.
func (s *bundleScanner) vite(l *sieve.Line, rep *sieve.Reporter) bool {
	t := l.Text
	if place, ok := lex.CutPrefix(t, "file: "); ok {
		place, _, _ = bytes.Cut(place, []byte(" ("))
		if s.head.Place, ok = lex.PlaceAtEnd(place); ok {
			s.head.Column++
		} else {
			s.head.File = string(place)
		}
		s.begin(l, rep)
		rep.Finish()
		return true
	}
	if p, ok := bundleLine(t); ok {
		s.head.Message = p.Message
		return true
	}
	if s.head.Message == "" {
		_, text, plugin := strings.Cut(string(t), "] ")
		if !plugin || t[0] != '[' {
			text = string(t)
		}
		if p, ok := rollupPlace(text); ok {
			text = p.Message
		}
		s.head.Message = text
	}
	return len(t) > 0
}

// bundleLine reads what stands in one line: esbuild as other tools call it,
// rollup, babel, and prettier's syntax errors.
func bundleLine(t []byte) (p problem.Problem, ok bool) {
	if i := bytes.Index(t, []byte(": ERROR: ")); i > 0 {
		if p.Place, ok = lex.PlaceAtEnd(t[:i]); ok && webFile(p.File) {
			p.Column++
			p.Message = string(t[i+len(": ERROR: "):])
			return p, true
		}
	}
	if rest, found := lex.CutPrefix(t, "[!] "); found {
		if plugin, behind, cut := bytes.Cut(rest, []byte(") ")); cut && lex.HasPrefix(plugin, "(plugin ") {
			rest = behind
		}
		rest = bytes.TrimPrefix(rest, []byte("Rollup"))
		return rollupPlace(string(bytes.TrimPrefix(rest, []byte("Error: "))))
	}
	rest, prettier := lex.CutPrefix(t, "[error] ")
	file, message, found := strings.Cut(string(rest), ": SyntaxError: ")
	if !prettier || !found {
		rest, found = lex.CutPrefix(t, "SyntaxError: /")
		file, message, _ = strings.Cut("/"+string(rest), ": ")
	}
	i := strings.LastIndex(message, " (")
	if !found || i < 0 {
		return p, false
	}
	place, ok := lex.PlaceAtEnd([]byte(file + ":" + strings.TrimSuffix(message[i+2:], ")")))
	if !ok {
		return p, false
	}
	if !prettier {
		place.Column++
	}
	return problem.Problem{Place: place, Message: message[:i]}, webFile(place.File)
}

// rollupPlace reads "src/bad.js (2:21): message".
func rollupPlace(t string) (p problem.Problem, ok bool) {
	file, rest, found := strings.Cut(t, " (")
	position, message, closed := strings.Cut(rest, "): ")
	if p.Place, ok = lex.PlaceAtEnd([]byte(file + ":" + position)); !found || !closed || !ok {
		return p, false
	}
	p.Column++
	p.Message = message
	return p, true
}

// unformatted reads a file that prettier would print differently.
func (s *bundleScanner) unformatted(t []byte) (p problem.Problem, ok bool) {
	file, ok := lex.CutPrefix(t, "[warn] ")
	if !ok || !s.checking {
		return p, false
	}
	if !lex.PlausibleFile(file) || bytes.IndexByte(file, ' ') >= 0 || bytes.IndexByte(file, '.') < 0 {
		s.checking = false // "Code style issues found in 2 files."
		return p, false
	}
	return problem.Problem{Place: problem.Place{File: string(file)}, Severity: problem.Warning, Message: "is not formatted as prettier prints it"}, true
}

// webpackPlace reads "./src/ok.ts 4:6-7", "./src/ok.ts 1:0-2:5" and a file alone.
func webpackPlace(t []byte) (p problem.Place) {
	file, position, found := strings.Cut(string(bytes.TrimSpace(t)), " ")
	p.File = file
	line, n := lex.Number([]byte(position))
	if !found || n == 0 || n >= len(position) || position[n] != ':' {
		return p
	}
	column, m := lex.Number([]byte(position[n+1:]))
	if m == 0 {
		return p
	}
	p.Line, p.Column = line, column+1
	rest, ranged := strings.CutPrefix(position[n+1+m:], "-")
	end, k := lex.Number([]byte(rest))
	if !ranged || k == 0 {
		return p
	}
	if p.EndLine, p.EndColumn = line, end+1; k < len(rest) && rest[k] == ':' {
		column, _ := lex.Number([]byte(rest[k+1:]))
		p.EndLine, p.EndColumn = end, column+1
	}
	return p
}

func webFile(f string) bool {
	switch f[strings.LastIndexByte(f, '.')+1:] {
	case "ts", "tsx", "js", "jsx", "mjs", "cjs", "mts", "cts", "css", "scss", "less", "json", "vue", "svelte", "html", "astro", "md", "yaml", "yml":
		return true
	}
	return false
}
