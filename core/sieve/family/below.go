package family

import (
	"bytes"
	"strings"

	"tidytally/core/problem"
	"tidytally/core/sieve"
	"tidytally/core/sieve/lex"
)

var belowFamily = sieve.Family{
	Name:     "below",
	Leads:    oneOf("Error: |Warning: |WARNING: |DEPRECATION WARNING|Deprecation Warning|ERROR: |\u2502|Dockerfile|Containerfile"),
	Indented: oneOf("Error: |Warning: "),
	New:      func() sieve.Scanner { return &belowScanner{} },
}

// belowScanner reads tools whose headline stands above, and the place some lines
// below it: terraform and its kin, sass, docker's failed build steps.
type belowScanner struct {
	severity problem.Severity
	message  string
	code     string
	first    sieve.Line
	lines    int // since the headline
	// docker prints the place first.
	docker problem.Place
	detail belowDetail
}

// belowDetail is the part of terraform's detail that the next line belongs to.
type belowDetail int

const (
	noDetail belowDetail = iota
	detailSource
	detailText
)

// maxBelow is the number of lines below its headline within which a place is looked
// for.
const maxBelow = 14

func (s *belowScanner) Flush(rep *sieve.Reporter, last bool) {
	if last {
		s.message = ""
		rep.Attend(false)
	}
}

func (s *belowScanner) Scan(l *sieve.Line, rep *sieve.Reporter) bool {
	taken := s.look(l, rep)
	// The line that it waits for may look like any other.
	rep.Attend(s.message != "" || s.docker.File != "")
	return taken
}

func (s *belowScanner) look(l *sieve.Line, rep *sieve.Reporter) bool {
	t := l.Text
	if s.docker.File != "" {
		if rest, ok := lex.CutPrefix(t, "ERROR: "); ok {
			p := problem.Problem{Place: s.docker, Message: strings.TrimPrefix(string(rest), "failed to solve: ")}
			p.File = rep.Place(p.File)
			s.docker = problem.Place{}
			rep.Begin(l, p)
			rep.Finish()
			return true
		}
		if s.lines++; s.lines > maxBelow {
			s.docker = problem.Place{}
		}
		return false
	}
	body := bytes.TrimSpace(bytes.TrimPrefix(t, []byte("\u2502")))
	if s.detail != noDetail && rep.Current() != nil {
		return s.more(body, rep)
	}
	if place, ok := dockerfilePlace(t); ok {
		s.docker, s.lines = place, 0
		return false
	}
	for _, h := range [...]struct {
		word string
		sev  problem.Severity
	}{{"Error: ", problem.Error}, {"Warning: ", problem.Warning}, {"WARNING: ", problem.Warning}, {"DEPRECATION WARNING", problem.Warning}, {"Deprecation Warning", problem.Warning}} {
		if rest, ok := lex.CutPrefix(body, h.word); ok && len(rest) > 2 {
			s.severity, s.message, s.code, s.lines, s.first = h.sev, strings.TrimSpace(string(rest)), "", 0, l.Kept()
			if i := strings.Index(s.message, "]: "); strings.HasPrefix(s.message, "[") && i > 0 {
				s.code, s.message = s.message[1:i], s.message[i+3:]
			}
			s.message = strings.TrimPrefix(s.message, ": ")
			return false // another family may know it better
		}
	}
	if s.message == "" {
		return false
	}
	if s.lines++; s.lines > maxBelow {
		s.message = ""
		return false
	}
	place, ok := terraformPlace(body)
	detailed := ok
	if !ok {
		if place, ok = sassPlace(t); !ok {
			return false
		}
	}
	place.File = rep.Place(place.File)
	p := problem.Problem{Place: place, Severity: s.severity, Code: s.code, Message: s.message}
	s.message = ""
	rep.Begin(&s.first, p)
	rep.Extend(l)
	if s.detail = noDetail; detailed {
		s.detail = detailSource
	} else {
		rep.Finish()
	}
	return true
}

// more reads the source below terraform's place and, behind a blank line, the
// paragraph of the detail.
func (s *belowScanner) more(body []byte, rep *sieve.Reporter) bool {
	blank := len(body) == 0
	switch {
	case bytes.HasPrefix(body, []byte("\u2575")), s.detail == detailText && blank, strings.Count(rep.Current().Message, "\n") > maxBelow:
		s.detail = noDetail
		rep.Finish()
	case blank:
		s.detail = detailText
	case s.detail == detailText:
		rep.AppendLine(string(body))
	}
	return true
}

// terraformPlace reads `on main.tf line 4, in resource "x" "y":`.
func terraformPlace(t []byte) (p problem.Place, ok bool) {
	rest, ok := lex.CutPrefix(t, "on ")
	if !ok {
		return p, false
	}
	i := bytes.Index(rest, []byte(" line "))
	if i < 1 {
		return p, false
	}
	n, k := lex.Number(rest[i+6:])
	tail := rest[i+6+k:]
	if k == 0 || len(tail) > 0 && tail[0] != ',' && tail[0] != ':' {
		return p, false
	}
	p.File, p.Line = string(rest[:i]), n
	return p, lex.PlausibleFile(p.File) && strings.Contains(p.File, ".")
}

// sassPlace reads `  src/a.scss 4:13  root stylesheet`, and the older form
// `        on line 4:13 of src/a.scss`.
func sassPlace(t []byte) (p problem.Place, ok bool) {
	if len(t) < 4 || t[0] != ' ' {
		return p, false
	}
	f := strings.Fields(string(t))
	if len(f) > 4 && f[0] == "on" && f[1] == "line" && f[3] == "of" {
		f = append([]string{strings.TrimSuffix(strings.Join(f[4:], " "), ",")}, f[2:]...)
	}
	if len(f) < 3 || !strings.HasSuffix(f[0], ".scss") && !strings.HasSuffix(f[0], ".sass") && !strings.HasSuffix(f[0], ".css") {
		return p, false
	}
	line, k := lex.Number([]byte(f[1]))
	if k == 0 || k+1 >= len(f[1]) || f[1][k] != ':' {
		return p, false
	}
	column, c := lex.Number([]byte(f[1][k+1:]))
	p = problem.Place{File: f[0], Line: line, Column: column}
	return p, k+1+c == len(f[1])
}

// dockerfilePlace reads the line that stands above the excerpt of a failed step:
// `Dockerfile:7`.
func dockerfilePlace(t []byte) (p problem.Place, ok bool) {
	if p, ok = lex.PlaceAtEnd(t); !ok || p.Column > 0 {
		return p, false
	}
	base := p.File[strings.LastIndexByte(p.File, '/')+1:]
	return p, strings.HasPrefix(base, "Dockerfile") || strings.HasPrefix(base, "Containerfile") || strings.HasSuffix(base, ".Dockerfile")
}
