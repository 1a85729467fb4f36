package family

import (
	"encoding/xml"
	"strconv"
	"strings"

	"tidytally/core/problem"
	"tidytally/core/sieve"
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
			for _, f := range append(c.Failures, c.Errors...) {
				rep.Report(junitProblem(s, c, f, rep))
			}
		}
	}
	walk(root.junitSuite, 0)
	return true
}

func junitProblem(s junitSuite, c junitCase, f junitFailure, rep *sieve.DocumentReporter) problem.Problem {
	found := rep.Sift(f.Text + "\n")
	name := c.Name
	if c.Class != "" {
		name = c.Class + "." + name
	}
	p := problem.Problem{Code: name}
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
