package family

import (
	"strings"

	"tidytally/core/problem"
	"tidytally/core/sieve"
	"tidytally/core/sieve/lex"
)

var phpunitFamily = sieve.Family{
	Name:     "phpunit",
	Lenient:  true,
	Leads:    oneOf("1) |There was 1 |There were |An error occurred inside PHPUnit.|Summary of non-successful tests:"),
	Indented: oneOf("✘ |┐ "),
	New:      func() sieve.Scanner { return &phpunitScanner{} },
}

// phpunitScanner reads PHPUnit: the lists of errors, failures, warnings and risky tests at its end, the form of --testdox, and what
// ended it before it began. Its lists of what was skipped are no problems.
type phpunitScanner struct {
	state   phpunitState
	kind    phpunitKind // of the items of the list
	summary bool        // the tests are listed once more
	cause   string
	failure
}

type phpunitState int

const (
	phpunitIdle   phpunitState = iota
	phpunitList                // a list has begun, or goes on
	phpunitItem                // the message, then the stack
	phpunitCause               // what led to it
	phpunitBox                 // an item of --testdox
	phpunitInside              // an error of PHPUnit's own
)

type phpunitKind int

const (
	phpunitErrors phpunitKind = iota
	phpunitWarnings
	phpunitSkipped
)

func (s *phpunitScanner) Flush(rep *sieve.Reporter, last bool) {
	if last {
		s.enter(phpunitIdle, rep)
	}
}

// enter ends what is read, and goes on in another state.
func (s *phpunitScanner) enter(state phpunitState, rep *sieve.Reporter) {
	if s.kind == phpunitSkipped {
		s.message = s.message[:0]
	}
	if s.kind == phpunitWarnings {
		s.severity = problem.Warning
	}
	s.end(rep)
	s.state, s.cause = state, ""
	rep.Attend(state != phpunitIdle)
	if state > phpunitList {
		rep.Claim()
	}
}

func (s *phpunitScanner) Scan(l *sieve.Line, rep *sieve.Reporter) bool {
	t := string(l.Text)
	if kind, ok := phpunitHeading(t); ok {
		s.enter(phpunitList, rep)
		s.kind = kind
		return true
	}
	switch {
	case t == "Summary of non-successful tests:":
		s.enter(phpunitIdle, rep)
		s.summary = true
		return true
	case t == "An error occurred inside PHPUnit.":
		s.enter(phpunitInside, rep)
		s.kind = phpunitErrors
		s.begin(l, "")
		s.code = "error inside PHPUnit"
		return true
	case s.state == phpunitInside:
		return s.inside(l, t, rep)
	}
	if name, ok := strings.CutPrefix(strings.TrimLeft(t, " "), "✘ "); ok && t[0] == ' ' && !s.summary {
		s.enter(phpunitBox, rep)
		s.kind = phpunitErrors
		if at := strings.LastIndex(name, " ["); at > 0 && strings.HasSuffix(name, " ms]") {
			name = name[:at]
		}
		s.begin(l, name)
		return true
	}
	if s.state == phpunitBox {
		body, ok := strings.CutPrefix(strings.TrimLeft(t, " "), "│")
		if !ok && !strings.HasPrefix(strings.TrimLeft(t, " "), "┐") {
			s.enter(phpunitIdle, rep)
			return false
		}
		s.body(l, strings.TrimSpace(body), rep)
		return true
	}
	if name, ok := numbered(t); ok && (s.state != phpunitIdle || phpunitTest(name) != "") {
		if s.state == phpunitIdle {
			s.kind = phpunitErrors
		}
		return s.item(l, name, rep)
	}
	switch {
	case s.state == phpunitIdle:
		return false
	case t == "--" || strings.HasSuffix(t, "!") && strings.ToUpper(t) == t && len(t) > 3, strings.HasPrefix(t, "Tests: "), strings.HasPrefix(t, "OK, but "), l.Number-s.last.Number > 400 && s.state != phpunitList:
		s.enter(phpunitIdle, rep)
		return t == "--"
	case s.state == phpunitList: // between the heading and the first item
		if t != "" {
			s.enter(phpunitIdle, rep)
		}
		return t == ""
	}
	s.body(l, t, rep)
	return true
}

// phpunitHeading reads the heading of a list: "There were 6 errors:", "2 tests triggered 1 warning:".
func phpunitHeading(t string) (kind phpunitKind, ok bool) {
	what, ok := strings.CutSuffix(t, ":")
	if !ok {
		return 0, false
	}
	if rest, there := strings.CutPrefix(what, "There w"); there {
		_, what, ok = strings.Cut(rest, " ")
		if _, n := lex.Number([]byte(what)); !ok || n == 0 {
			return 0, false
		}
	} else if _, n := lex.Number([]byte(what)); n == 0 || !strings.Contains(what, " triggered ") || !strings.Contains(what, " test") {
		return 0, false
	}
	switch what = what[strings.LastIndexByte(what, ' ')+1:]; strings.TrimSuffix(what, "s") {
	case "error", "failure":
		return phpunitErrors, true
	case "warning", "deprecation", "notice":
		return phpunitWarnings, true
	case "test": // risky, skipped, incomplete
		if strings.Contains(t, " risky ") {
			return phpunitWarnings, true
		}
		return phpunitSkipped, true
	}
	return 0, false
}

// phpunitTest returns the name of a test without the values of its data set; "" if it is none.
func phpunitTest(name string) string {
	class, method, ok := strings.Cut(name, "::")
	if !ok || strings.Contains(class, " ") || method == "" {
		return ""
	}
	if head, set, ok := strings.Cut(name, " with data set "); ok {
		if strings.HasPrefix(set, "#") {
			set, _, _ = strings.Cut(set, " ")
		} else if end := strings.LastIndex(set, `" (`); end > 0 {
			set = set[:end+1]
		}
		return head + " with data set " + set
	}
	head, _, _ := strings.Cut(name, " with data (") // since PHPUnit 11
	if strings.ContainsAny(head, "#@") {
		return head
	}
	if strings.Contains(head, " ") {
		return ""
	}
	return head
}

// item begins an item of a list: a test, a kind of error, or the place of what PHP said of the code.
func (s *phpunitScanner) item(l *sieve.Line, name string, rep *sieve.Reporter) bool {
	s.enter(phpunitItem, rep)
	s.begin(l, phpunitTest(name))
	if s.name == "" {
		s.code = strings.ToLower(name)
		if p, ok := phpunitFrame(name); ok {
			s.code = "triggered by tests"
			s.frame(l, p, "", rep)
		}
	}
	return true
}

// phpunitFrame reads a place on a line of its own.
func phpunitFrame(t string) (p problem.Place, ok bool) {
	if strings.Contains(t, " ") && !strings.HasPrefix(t, "/") {
		return p, false
	}
	p, ok = lex.PlaceAtEnd([]byte(t))
	return p, ok && p.Column == 0 && (strings.HasSuffix(p.File, ".php") || strings.HasSuffix(p.File, ".phpt") || strings.HasSuffix(p.File, ".inc"))
}

// body reads a line of the message, of the stack, or of what led to it.
func (s *phpunitScanner) body(l *sieve.Line, t string, rep *sieve.Reporter) {
	p, isFrame := phpunitFrame(t)
	switch {
	case isFrame && s.state == phpunitCause:
		s.frame(l, p, strings.TrimSpace("caused by "+s.cause), rep)
	case isFrame:
		s.frame(l, p, "called from here", rep)
	case t == "Caused by":
		s.state = phpunitCause
	case s.state == phpunitCause:
		if s.cause == "" {
			s.cause = t
		}
	case s.place.File != "" && s.code != "triggered by tests": // below the stack
	case t == "Triggered by:" || strings.HasPrefix(t, "* "):
	default:
		s.say(l, t)
		if test, ok := strings.CutPrefix(t, "The data provider specified for "); ok && s.name == "" {
			s.name, _, _ = strings.Cut(test, " ")
		}
	}
}

// inside reads what ended PHPUnit itself:
//
//	Message:  syntax error, unexpected token "}"
//	Location: /w/tests/KilnTest.php:6
func (s *phpunitScanner) inside(l *sieve.Line, t string, rep *sieve.Reporter) bool {
	if message, ok := strings.CutPrefix(t, "Message:"); ok {
		s.say(l, strings.TrimSpace(message))
	} else if where, ok := strings.CutPrefix(t, "Location:"); ok {
		if p, ok := phpunitFrame(strings.TrimSpace(where)); ok {
			s.frame(l, p, "", rep)
		}
	} else if strings.HasPrefix(t, "#") {
		if p, ok := phpFrame(t); ok {
			s.frame(l, p, "called from here", rep)
		}
	} else if t != "" {
		s.enter(phpunitIdle, rep)
		return false
	}
	return true
}

// phpFrame reads a frame of PHP's: `#0 /w/src/Kiln.php(49): Kiln->heat()`.
func phpFrame(t string) (p problem.Place, ok bool) {
	if len(t) < 2 || t[0] != '#' || !lex.IsDigit(t[1]) {
		return p, false
	}
	_, where, ok := strings.Cut(t, " ")
	if !ok {
		return p, false
	}
	end := strings.Index(where, "): ")
	at := strings.LastIndexByte(where[:max(end, 0)], '(')
	if at < 1 {
		return p, false
	}
	n, k := lex.Number([]byte(where[at+1 : end]))
	return problem.Place{File: where[:at], Line: n}, k == end-at-1
}
