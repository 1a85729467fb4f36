// Package problem holds located diagnostics: the message of a compiler, linter or
// test, and its place in the source. Field names follow SARIF 2.1.0, so that the
// same value is shown, compared and exported.
package problem

import (
	"encoding/json"
	"fmt"
)

// Severity is how bad a problem is; its text is the SARIF level.
type Severity uint8

// The severities, worst first.
const (
	Error Severity = iota
	Warning
	Note
)

var severityNames = [...]string{Error: "error", Warning: "warning", Note: "note"}

func (s Severity) String() string { return severityNames[s] }

// MarshalJSON writes the severity as its SARIF level.
func (s Severity) MarshalJSON() ([]byte, error) { return json.Marshal(s.String()) }

// UnmarshalJSON reads a SARIF level; an unknown one is an error.
func (s *Severity) UnmarshalJSON(data []byte) error {
	var name string
	if err := json.Unmarshal(data, &name); err != nil {
		return err
	}
	for i, n := range severityNames {
		if n == name {
			*s = Severity(i)
			return nil
		}
	}
	return fmt.Errorf("unknown severity %q: use error, warning or note", name)
}

// Place is a region of a source file. Lines and columns count from 1; zero
// means that the tool did not say. A problem without a file has an empty File.
// EndColumn is the column behind the last character, as in SARIF.
type Place struct {
	File      string `json:"file,omitempty"`
	Line      int    `json:"line,omitempty"`
	Column    int    `json:"column,omitempty"`
	EndLine   int    `json:"endLine,omitempty"`
	EndColumn int    `json:"endColumn,omitempty"`
}

// String returns the place as file:line:column. Unknown parts are left out.
func (p Place) String() string {
	switch {
	case p.File == "":
		return ""
	case p.Line == 0:
		return p.File
	case p.Column == 0:
		return fmt.Sprintf("%s:%d", p.File, p.Line)
	}
	return fmt.Sprintf("%s:%d:%d", p.File, p.Line, p.Column)
}

// Related is a further place of a problem: a note, the file that included this one,
// the other declaration.
type Related struct {
	Place
	Message string `json:"message,omitempty"`
}

// Span is the part of an output that a problem came from. Lines count from 1 and
// bytes from 0. LastLine is included, EndByte is not.
type Span struct {
	FirstLine int   `json:"firstLine"`
	LastLine  int   `json:"lastLine"`
	StartByte int64 `json:"startByte"`
	EndByte   int64 `json:"endByte"`
}

// Problem is one diagnostic of a tool.
type Problem struct {
	// Seq numbers the problems of one output from 1. A problem with an earlier Seq
	// replaces the one reported before: a note came late.
	Seq int `json:"seq"`
	Place
	Severity Severity `json:"severity"`
	// Code is the tool's code without brackets and without a leading -W.
	Code    string `json:"code,omitempty"`
	Message string `json:"message"`
	// Test is the name of the test that failed, as its runner prints it.
	Test    string    `json:"test,omitempty"`
	Related []Related `json:"related,omitempty"`
	// Family is the name of the rules that found the problem.
	Family string `json:"family"`
	// FoundByName: the file was not where the output says; it is the only one in the
	// workspace whose path ends the same.
	FoundByName bool `json:"foundByName,omitempty"`
	// MayBe are the files of the workspace that the output may mean, if its path
	// does not exist.
	MayBe []string `json:"mayBe,omitempty"`
	// Times is the number of times that the output reports exactly this; at least 1.
	Times  int  `json:"times"`
	Output Span `json:"output"`
	// LineText is the text of the line at the time of the run, if it was read.
	LineText string `json:"-"`
}

// Count is a number of problems by severity.
type Count struct{ Errors, Warnings, Notes int }

// CountOf counts the problems of all lists.
func CountOf(lists ...[]Problem) Count {
	var c Count
	for _, problems := range lists {
		for i := range problems {
			c.Add(problems[i].Severity)
		}
	}
	return c
}

// Add counts one more problem.
func (c *Count) Add(s Severity) {
	switch s {
	case Error:
		c.Errors++
	case Warning:
		c.Warnings++
	default:
		c.Notes++
	}
}

// Total is the number of all problems counted.
func (c Count) Total() int { return c.Errors + c.Warnings + c.Notes }

// String returns the count in words: "2 errors, 1 warning", or "no problems".
func (c Count) String() string { return c.With(0) }

// With returns the count of what a run found in words, with the number of earlier problems that it did not check:
// "1 error, 2 not checked".
func (c Count) With(notChecked int) string {
	text := ""
	add := func(n int, one string) {
		if n == 0 {
			return
		}
		if text != "" {
			text += ", "
		}
		text += fmt.Sprintf("%d %s", n, one)
		if n != 1 {
			text += "s"
		}
	}
	add(c.Errors, "error")
	add(c.Warnings, "warning")
	add(c.Notes, "note")
	if notChecked > 0 {
		if text != "" {
			text += ", "
		}
		text += fmt.Sprintf("%d not checked", notChecked)
	}
	if text == "" {
		return "no problems"
	}
	return text
}
