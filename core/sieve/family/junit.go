package family

import (
	"encoding/xml"
	"html"
	"strconv"
	"strings"

	"tidytally/core/problem"
	"tidytally/core/sieve"
	"tidytally/core/sieve/lex"
)

var junitDocument = sieve.Document{Family: "junit", Opens: "<", Words: oneOf("<testsuite"), Shows: oneOf("<testsuite"), Read: readJUnit}

// junitSuite is a suite of a JUnit report. There is no standard; these are the
// elements on which the tools agree.
type junitSuite struct {
	Name   string       `xml:"name,attr"`
	File   string       `xml:"file,attr"`
	Suites []junitSuite `xml:"testsuite"`
	Cases  []junitCase  `xml:"testcase"`
}

type junitCase struct {
	Name     string         `xml:"name,attr"`
	Class    string         `xml:"classname,attr"`
	File     string         `xml:"file,attr"`
	Line     string         `xml:"line,attr"`
	Failures []junitFailure `xml:"failure"`
	Errors   []junitFailure `xml:"error"`
	Skipped  []struct {
		Type string `xml:"type,attr"`
	} `xml:"skipped"`
}

type junitFailure struct {
	Message string `xml:"message,attr"`
	Type    string `xml:"type,attr"`
	Text    string `xml:",chardata"`
}

// readJUnit reads a report: a problem for each failure, at the place that its
// text tells, else that of the test.
func readJUnit(data []byte, rep *sieve.DocumentReporter) bool {
	var root struct {
		XMLName xml.Name
		junitSuite
	}
	if xml.Unmarshal(data, &root) != nil || root.XMLName.Local != "testsuites" && root.XMLName.Local != "testsuite" {
		return false
	}
	var walk func(s junitSuite, depth int)
	walk = func(s junitSuite, depth int) {
		for _, inner := range s.Suites {
			if depth < 64 {
				walk(inner, depth+1)
			}
		}
		for _, c := range s.Cases {
			if len(c.Skipped) > 0 && c.Skipped[0].Type == "todo" {
				continue // is allowed to fail (Node.js)
			}
			for _, f := range append(c.Failures, c.Errors...) {
				rep.Report(junitProblem(s, c, f, rep))
			}
		}
	}
	walk(root.junitSuite, 0)
	return true
}

func junitProblem(s junitSuite, c junitCase, f junitFailure, rep *sieve.DocumentReporter) problem.Problem {
	if p, ok := lineAndColumn([]byte(s.Name + ": " + html.UnescapeString(strings.TrimSpace(f.Text)))); ok { // a checker's
		p.File = rep.Place(p.File)
		return p
	}
	found := rep.Sift(f.Text + "\n")
	name := c.Name
	if c.Class != "" {
		name = c.Class + "." + name
	}
	p := problem.Problem{Code: name, Test: name}
	p.Message, _, _ = strings.Cut(strings.TrimSpace(f.Message), "\n")
	if p.Message == "" {
		p.Message, _, _ = strings.Cut(strings.TrimSpace(f.Text), "\n")
	}
	if p.Message == "" {
		p.Message = "failed"
	}
	for _, q := range found {
		if q.File != "" && p.File == "" {
			p.Place, p.Related = q.Place, q.Related
		}
	}
	if frames := ownScriptFrames(f.Text); p.File == "" && len(frames) > 0 {
		p.Place = frames[0]
		p.File = rep.Place(p.File)
	}
	if file := c.File + s.File; p.File == "" && file != "" {
		if c.File != "" {
			file = c.File
		}
		p.File = rep.Place(file)
		if n, err := strconv.Atoi(c.Line); err == nil && n > 0 {
			p.Line = n
		}
	}
	return p
}

// ownScriptFrames returns the places of a stack of JavaScript that are neither
// Node.js's nor a package's: "at heat (/w/kiln.js:9:3)".
func ownScriptFrames(text string) (places []problem.Place) {
	for line := range strings.Lines(text) {
		frame, ok := strings.CutPrefix(strings.TrimSpace(line), "at ")
		if i := strings.LastIndexByte(frame, '('); i >= 0 {
			frame, _, _ = strings.Cut(frame[i+1:], ")")
		}
		p, placed := lex.PlaceAtEnd([]byte(frame))
		if !ok || !placed || nodeLibrary(p.File) || len(places) > sieve.MaxParts {
			continue
		}
		p.File = strings.TrimPrefix(p.File, "file://")
		places = append(places, p)
	}
	return places
}
