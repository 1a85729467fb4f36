package sieve

import (
	"regexp"
	"strconv"
	"strings"

	"tidytally/core/problem"
	"tidytally/core/sieve/lex"
)

// Rules are a sieve of the user: the lines of a problem, in order. The groups file,
// line, column, endLine, endColumn, severity, code and message of the expressions
// (RE2) become its fields.
type Rules struct {
	Name  string
	Lines []Rule
	// Begin and End match the lines at which a watching tool starts and ends a pass;
	// may be nil.
	Begin, End *regexp.Regexp
	// Severities map the tool's own words, in small letters, to "error", "warning"
	// and "note".
	Severities map[string]string
}

// Rule matches one line of a problem. A line that repeats may occur any number of
// times: if its expression has a group line, each match is a problem of its own,
// with the fields of the lines before; otherwise the messages are joined.
type Rule struct {
	Match  *regexp.Regexp
	Repeat bool
}

// ownScanner reads with the rules of the user.
type ownScanner struct {
	rules  *Rules
	at     int // the next rule; 0 if no problem was begun
	fields map[string]string
	first  Line     // where the problem begins
	held   [][]byte // lines that do not make a problem yet
	shown  bool     // the problem is under construction in the engine
}

func (s *ownScanner) Flush(rep *Reporter, last bool) {
	if last && s.at > 0 {
		s.reset(rep)
	}
}

func (s *ownScanner) reset(rep *Reporter) {
	if s.shown || rep.Claimed() {
		rep.Finish()
	}
	s.at, s.fields, s.held, s.shown = 0, nil, nil, false
}

func (s *ownScanner) Scan(l *Line, rep *Reporter) bool {
	r := s.rules
	if r.Begin != nil && r.Begin.Match(l.Text) {
		s.reset(rep)
		rep.BeginCycle()
		return true
	}
	if r.End != nil && r.End.Match(l.Text) {
		s.reset(rep)
		return true
	}
	if s.at > 0 && !rep.Claimed() {
		s.at, s.fields, s.held, s.shown = 0, nil, nil, false // another family took over
	}
	if s.at > 0 {
		if before := r.Lines[s.at-1]; before.Repeat && s.take(before, l, rep) {
			return true
		}
		for i := s.at; i < len(r.Lines); i++ {
			if s.take(r.Lines[i], l, rep) {
				s.at = i + 1
				return true
			}
			if !r.Lines[i].Repeat {
				break
			}
		}
		s.abandon(l, rep)
	}
	if len(l.Text) == 0 || !s.take(r.Lines[0], l, rep) {
		return false
	}
	s.at = 1
	if len(r.Lines) == 1 && !r.Lines[0].Repeat {
		s.reset(rep)
	}
	return true
}

// abandon ends the current problem. If its lines did not make one, they are offered
// to the other families.
func (s *ownScanner) abandon(l *Line, rep *Reporter) {
	held, shown, first := s.held, s.shown, s.first
	s.reset(rep)
	if shown {
		return
	}
	for _, text := range held {
		rep.offerAgain(text, first)
	}
}

// take matches a line against a rule and stores what its groups capture.
func (s *ownScanner) take(rule Rule, l *Line, rep *Reporter) bool {
	m := rule.Match.FindSubmatch(l.Text)
	if m == nil {
		return false
	}
	if s.fields == nil {
		rep.Finish()
		s.fields, s.first = map[string]string{}, l.Kept()
	}
	rep.Claim()
	each := rule.Repeat && rule.Match.SubexpIndex("line") >= 0
	fields := s.fields
	if each {
		fields = map[string]string{}
		for k, v := range s.fields {
			fields[k] = v
		}
		s.first = l.Kept()
	}
	for i, name := range rule.Match.SubexpNames() {
		value := strings.TrimRight(string(m[i]), " \t")
		if name == "" || m[i] == nil {
			continue
		}
		if name == "message" && fields[name] != "" && !each {
			value = fields[name] + "\n" + value
		}
		if len(value) > MaxLine {
			continue
		}
		fields[name] = value
	}
	p, complete := s.problem(fields, rep)
	switch {
	case each:
		rep.Begin(&s.first, p)
		s.shown = true
	case !complete:
		s.held = append(s.held, append([]byte(nil), l.Text...))
	case !s.shown:
		rep.Begin(&s.first, p)
		rep.Extend(l)
		s.shown = true
	default:
		c := rep.Current()
		c.Message, c.Severity, c.Code, c.Place = p.Message, p.Severity, p.Code, p.Place
	}
	return true
}

// problem makes a problem of captured fields. It is complete if it has a message.
func (s *ownScanner) problem(fields map[string]string, rep *Reporter) (p problem.Problem, complete bool) {
	count := func(name string) int {
		n, err := strconv.Atoi(fields[name])
		if err != nil || n < 0 || n > 1e9 {
			return 0
		}
		return n
	}
	p.Place = problem.Place{Line: count("line"), Column: count("column"), EndLine: count("endLine"), EndColumn: count("endColumn")}
	if p.EndColumn > 0 && p.EndLine == 0 {
		p.EndLine = p.Line
	}
	if fields["file"] != "" {
		p.File = rep.Place(fields["file"])
	}
	p.Code, p.Message = fields["code"], fields["message"]
	word := strings.ToLower(fields["severity"])
	if to := s.rules.Severities[word]; to != "" {
		word = to
	}
	switch {
	case word == "":
	case strings.HasPrefix(word, "w"):
		p.Severity = problem.Warning
	case strings.HasPrefix(word, "n"), strings.HasPrefix(word, "i"), strings.HasPrefix(word, "h"), strings.HasPrefix(word, "r"), strings.HasPrefix(word, "d"):
		p.Severity = problem.Note
	}
	return p, p.Message != "" || !s.hasMessage()
}

// hasMessage reports whether any rule captures a message.
func (s *ownScanner) hasMessage() bool {
	for _, r := range s.rules.Lines {
		if r.Match.SubexpIndex("message") >= 0 {
			return true
		}
	}
	return false
}

// Tried is a line of a sample with the result of a sieve.
type Tried struct {
	Text string
	// Rule is the number of the rule that matched, from 1; 0 if none did.
	Rule int
	// Groups are the named groups of the rule, with byte offsets into Text.
	Groups []Group
}

// Group is what a named group captured.
type Group struct {
	Name       string
	Start, End int
}

// Try runs a sieve of the user alone over a sample. It returns what each line
// matched, and the problems found.
func Try(rules Rules, sample []byte) (lines []Tried, problems []problem.Problem) {
	var c Collector
	e := New(NewSet(nil, nil), Options{Own: []Rules{rules}, Families: []string{}, Problem: c.Problem, Repeat: c.Repeat})
	own := e.scanners[0].(*ownScanner)
	for len(sample) > 0 {
		text := sample
		for i, b := range sample {
			if b == '\n' {
				text = sample[:i+1]
				break
			}
		}
		sample = sample[len(text):]
		before := own.at
		e.Write(text)
		t := Tried{Text: lex.Plain([]byte(strings.TrimSuffix(string(text), "\n")))}
		// The line matched the rule before the one that the scanner waits for, or
		// the first rule, or, if that one repeats, the same as before.
		for _, i := range []int{own.at - 1, 0, before - 1} {
			if i < 0 || i >= len(rules.Lines) || e.owner != 0 && i != 0 {
				continue
			}
			if m := rules.Lines[i].Match.FindStringSubmatchIndex(t.Text); m != nil {
				t.Rule = i + 1
				for g, name := range rules.Lines[i].Match.SubexpNames() {
					if name != "" && m[2*g] >= 0 {
						t.Groups = append(t.Groups, Group{name, m[2*g], m[2*g+1]})
					}
				}
				break
			}
		}
		lines = append(lines, t)
	}
	e.Close()
	return lines, c.Problems
}
