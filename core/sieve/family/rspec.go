package family

import (
	"strings"

	"tidytally/core/sieve"
)

var rspecFamily = sieve.Family{
	Name:  "rspec",
	Leads: oneOf("Failures:|Pending:|An error occurred "),
	New:   func() sieve.Scanner { return &rspecScanner{} },
}

// rspecScanner reads what RSpec says at its end: the failures, each with its name, the source, the message and the stack, several in
// one example by themselves; and what could not be loaded.
type rspecScanner struct {
	state  rspecState
	margin int // of the body of the item that is read, in cells
	cause  string
	failure
}

type rspecState int

const (
	rspecIdle    rspecState = iota
	rspecPending            // the list of examples that may fail is passed over
	rspecList               // the list of failures
	rspecHead               // an item has begun
	rspecSource             // the source is printed, over several lines
	rspecMessage
	rspecFrames
	rspecCause // of a cause, below the frames
)

func (s *rspecScanner) Flush(rep *sieve.Reporter, last bool) {
	if last {
		s.end(rep)
		s.enter(rspecIdle, rep)
	}
}

func (s *rspecScanner) enter(state rspecState, rep *sieve.Reporter) {
	s.state = state
	rep.Attend(state != rspecIdle)
}

// begin reports the failure before, and begins another.
func (s *rspecScanner) begin(l *sieve.Line, name string, margin int, rep *sieve.Reporter) {
	s.end(rep)
	s.failure.begin(l, name)
	s.margin = margin
	s.enter(rspecHead, rep)
	rep.Claim()
}

func (s *rspecScanner) Scan(l *sieve.Line, rep *sieve.Reporter) bool {
	in := l.Indent()
	t := string(l.Text[in:])
	if in == 0 {
		switch {
		case t == "Failures:":
			s.end(rep)
			s.enter(rspecList, rep)
			return true
		case strings.HasPrefix(t, "Pending: ("):
			s.end(rep)
			s.enter(rspecPending, rep)
			return true
		case strings.HasPrefix(t, "An error occurred while loading "), strings.HasPrefix(t, "An error occurred in a"), strings.HasPrefix(t, "An error occurred during "):
			s.begin(l, "", 0, rep)
			s.code = "error outside of examples"
			return true
		case s.state != rspecIdle && (strings.HasPrefix(t, "Finished in ") || t == "No examples found." || strings.HasPrefix(t, "Failed examples:")):
			s.end(rep)
			s.enter(rspecIdle, rep)
			return false
		}
	}
	switch s.state {
	case rspecIdle:
		return false
	case rspecPending:
		return true
	}
	if name, ok := numbered(t); ok && in > 0 && in < 5 && s.code == "" {
		name = strings.TrimSuffix(name, " FIXED")
		s.begin(l, name, in+len(t)-len(strings.SplitN(t, ") ", 2)[1]), rep)
		return true
	}
	if s.state == rspecList {
		if t != "" { // of another tool
			s.enter(rspecIdle, rep)
		}
		return t == ""
	}
	return s.body(l, in, t, rep)
}

// body reads a line of an item.
func (s *rspecScanner) body(l *sieve.Line, in int, t string, rep *sieve.Reporter) bool {
	if item, rest, ok := strings.Cut(t, ") Failure/Error:"); ok && strings.Trim(item, "0123456789.") == "" { // 3.1) Failure/Error: …
		name := s.name
		if len(s.message) > 0 {
			s.begin(l, name, in+len(item)+2, rep)
		}
		s.margin = in + len(item) + 2
		s.source(rest)
		return true
	}
	if source, ok := strings.CutPrefix(t, "Failure/Error:"); ok && s.state == rspecHead {
		s.source(source)
		return true
	}
	if frame, ok := strings.CutPrefix(t, "# "); ok || t == "#" {
		return s.stack(l, strings.TrimSpace(frame), rep)
	}
	if from, ok := strings.CutPrefix(t, "Shared Example Group: "); ok {
		if _, where, called := strings.Cut(from, " called from "); called {
			if p, ok := rubyFrame([]byte(where)); ok {
				first := s.place
				s.place.File = "."
				s.frame(l, p, "called from here", rep)
				s.place = first
			}
		}
		s.state = rspecFrames
		return true
	}
	switch {
	case s.state == rspecSource:
		if t == "" {
			s.state = rspecMessage
		}
	case t == "" || strings.HasPrefix(t, "Got ") && s.state == rspecHead:
	case s.state == rspecFrames || s.state == rspecCause: // a new thing, of which nothing is known
		if in < s.margin || s.margin == 0 {
			s.end(rep)
			s.enter(rspecList, rep)
			return false
		}
	case t == "Diff:":
		s.state = rspecFrames
	case s.code != "" && s.state == rspecHead: // the names that are offered
	default:
		s.state = rspecMessage
		s.says(l, t, rep)
	}
	return true
}

// source begins the text behind the word for it, on this line or below.
func (s *rspecScanner) source(text string) {
	s.state = rspecMessage
	if strings.TrimSpace(text) == "" {
		s.state = rspecSource
	}
}

// says takes a line of the message: the class of an error stands on one of its own.
func (s *rspecScanner) says(l *sieve.Line, t string, rep *sieve.Reporter) {
	if n := len(s.message); n == 1 && isRubyClass(s.message[0]) {
		s.message[0] += " " + t
		s.last = l.Kept()
		if p, ok := rubySays(l.Text[l.Indent():]); ok && s.place.File == "" { // a file that cannot be read
			s.frame(l, p.Place, "", rep)
		}
		return
	}
	s.say(l, t)
}

// isRubyClass reports whether a text is the name of a class and a colon: Errno::ENOENT:
func isRubyClass(t string) bool {
	name, ok := strings.CutSuffix(t, ":")
	return ok && name != "" && name[0] >= 'A' && name[0] <= 'Z' && !strings.Contains(name, " ")
}

// stack reads a line behind the mark of a frame.
func (s *rspecScanner) stack(l *sieve.Line, t string, rep *sieve.Reporter) bool {
	switch {
	case s.state == rspecHead: // why it is pending, or where, without more to say
		if p, ok := rubyFrame([]byte(t)); ok {
			s.frame(l, p, "", rep)
		}
		return true
	case t == "--- Caused by: ---":
		s.state, s.cause = rspecCause, ""
		return true
	case s.state != rspecCause:
		s.state = rspecFrames
	}
	p, ok := rubyFrame([]byte(t))
	switch {
	case ok && s.state == rspecCause:
		s.frame(l, p, strings.TrimSpace("caused by "+s.cause), rep)
	case ok:
		s.frame(l, p, "called from here", rep)
	case s.state == rspecCause && (s.cause == "" || isRubyClass(s.cause)) && strings.Trim(t, "-") != "":
		s.cause = strings.TrimSpace(s.cause + " " + t)
	}
	return true
}
