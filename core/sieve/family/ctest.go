package family

import (
	"bytes"
	"strings"

	"tidytally/core/problem"
	"tidytally/core/sieve"
	"tidytally/core/sieve/lex"
)

var ctestFamily = sieve.Family{
	Name:  "ctest",
	Leads: oneOf("Test project /|The following tests FAILED:"),
	New:   func() sieve.Scanner { return &ctestScanner{} },
}

// ctestScanner follows ctest through its tests: what is reported within the output of one that failed is that test's problem
// (--output-on-failure, -V). Those that failed without one are taken from the list at the end.
type ctestScanner struct {
	test    string // whose output is read; "" for none
	before  int    // the errors when it began
	told    map[string]bool
	listing bool
}

func (s *ctestScanner) Flush(rep *sieve.Reporter, last bool) {
	if last {
		s.enter("", rep)
	}
}

// enter begins the output of a test, and ends that of the one before.
func (s *ctestScanner) enter(test string, rep *sieve.Reporter) {
	if s.test != "" {
		rep.Finish()
		if rep.Errors() > s.before {
			s.told[s.test] = true
		}
	}
	s.test, s.before = test, rep.Errors()
	rep.InTest(test)
}

func (s *ctestScanner) Scan(l *sieve.Line, rep *sieve.Reporter) bool {
	t := l.Text
	switch {
	case lex.HasPrefix(t, "Test project /"):
		s.enter("", rep)
		s.told, s.listing = map[string]bool{}, false
		rep.Attend(true)
		return true
	case lex.HasPrefix(t, "The following tests FAILED:"):
		rep.Finish()
		if s.told == nil { // the rest of an output: a problem that a test reported says more than that it failed
			s.listing = rep.Errors() == 0
		} else {
			s.enter("", rep)
			s.listing = true
		}
		rep.Attend(true)
		return true
	case s.listing:
		if name, how, ok := failedTest(t); ok {
			if !s.told[name] {
				rep.Begin(l, problem.Problem{Code: name, Test: name, Message: how})
				rep.Finish()
			}
			return true
		}
		s.listing, s.told = false, nil
		rep.Attend(false)
		return false
	case s.told == nil:
		return false
	case lex.HasPrefix(t, "    Start ") || lex.HasPrefix(t, "test ") && isNumber(string(t[5:])):
		s.enter("", rep)
		return true
	}
	if name, failed, ok := endedTest(t); ok {
		s.enter("", rep)
		if failed {
			s.enter(name, rep)
		}
		return true
	}
	if s.test != "" && bytes.Contains(t, []byte("% tests passed, ")) {
		s.enter("", rep)
	}
	return false
}

// endedTest reads "2/3 Test #2: cone.6 ....***Failed    0.01 sec".
func endedTest(t []byte) (name string, failed, ok bool) {
	t = bytes.TrimLeft(t, " ")
	_, n := lex.Number(t)
	if n == 0 {
		return "", false, false
	}
	rest, ok := lex.CutPrefix(t[n:], "/")
	if !ok {
		return "", false, false
	}
	_, n = lex.Number(rest)
	if rest, ok = lex.CutPrefix(rest[n:], " Test "); !ok || n == 0 {
		return "", false, false
	}
	if rest, ok = lex.CutPrefix(bytes.TrimLeft(rest, " "), "#"); !ok {
		return "", false, false
	}
	_, n = lex.Number(rest)
	if rest, ok = lex.CutPrefix(rest[n:], ": "); !ok || n == 0 {
		return "", false, false
	}
	dots := bytes.LastIndex(rest, []byte("..."))
	if dots < 0 {
		return "", false, false
	}
	how := string(bytes.TrimLeft(rest[dots+3:], ". "))
	name = strings.TrimRight(string(rest[:dots]), ". ")
	return name, !strings.HasPrefix(how, "Passed") && !strings.HasPrefix(how, "***Skipped") && !strings.HasPrefix(how, "***Not Run (Disabled)"), name != ""
}

// failedTest reads "\t  1 - heat (Failed)" of the list that ctest ends with.
func failedTest(t []byte) (name, how string, ok bool) {
	t = bytes.TrimSpace(t)
	_, n := lex.Number(t)
	rest, ok := lex.CutPrefix(t[n:], " - ")
	i := bytes.LastIndex(rest, []byte(" ("))
	if n == 0 || !ok || i < 1 || rest[len(rest)-1] != ')' {
		return "", "", false
	}
	return string(rest[:i]), strings.ToLower(string(rest[i+2 : len(rest)-1])), true
}
