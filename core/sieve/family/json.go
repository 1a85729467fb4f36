package family

import (
	"encoding/json"
	"strconv"
	"strings"

	"tidytally/core/problem"
	"tidytally/core/sarif"
	"tidytally/core/sieve"
)

// The forms of JSON that tools print.
var (
	sarifDocument = sieve.Document{
		Family: "sarif", Opens: "{", Words: oneOf(`"runs"|"version"`), Shows: oneOf(`"runs"|sarif`), Read: readSARIF,
	}
	gotestDocument = sieve.Document{Family: "gotest", Opens: "{", Words: oneOf(`"Action"`), Read: readGoTest}
	cargoDocument  = sieve.Document{Family: "rust", Opens: "{", Words: oneOf(`"reason"`), Read: readRust}
	rustcDocument  = sieve.Document{Family: "rust", Opens: "{", Words: oneOf(`"$message_type"`), Read: readRust}
	// What terraform and its kin print: the list of validate -json, and the lines of
	// plan -json.
	configurationList = sieve.Document{
		Family: "below", Opens: "{", Words: oneOf(`"summary"|"severity"|"diagnostics"`), Shows: oneOf(`"severity"`), Read: readConfiguration,
	}
	configurationLine = sieve.Document{Family: "below", Opens: "{", Words: oneOf(`"summary"|"severity"|"diagnostic"`), Read: readConfiguration}
	flatObject        = sieve.Document{Family: "json", Opens: "{", Words: oneOf(`"file"|"line"|"severity"|"message"`), Read: readFlatObject}
	commentsDocument  = sieve.Document{ // of shellcheck --format=json1
		Family: "shellcheck", Opens: "{", Words: oneOf(`"comments"|"file"|"message"`), Shows: oneOf(`"comments"`), Read: readComments,
	}
	eslintDocument = sieve.Document{
		Family: "blocks", Opens: "[", Words: oneOf(`"filePath"|"messages"`), Shows: oneOf(`"filePath"|"messages"|"ruleId"`), Read: readESLint,
	}
	gccDocument = sieve.Document{Family: "gnu", Opens: "[", Words: oneOf(`"kind"|"locations"`), Shows: oneOf(`"locations"`), Read: readGCC}
	flatList    = sieve.Document{
		Family: "json", Opens: "[", Words: oneOf(`"message"|"line"`), Shows: oneOf(`"message-id"|"symbol"|"endLine"`), Read: readFlat,
	}
	locatedList = sieve.Document{Family: "json", Opens: "[", Words: oneOf(`"message"|"location"`), Shows: oneOf(`"end_location"`), Read: readFlat}
)

// readConfiguration reads what terraform and its kin say of a configuration:
// the list of `validate -json`, and the single diagnostics among the lines of
// `plan -json` (Machine-Readable UI).
func readConfiguration(data []byte, rep *sieve.DocumentReporter) bool {
	type position struct{ Line, Column int }
	type diagnostic struct {
		Severity, Summary, Detail string
		Range                     *struct {
			Filename   string
			Start, End position
		}
	}
	var said struct {
		Diagnostics []diagnostic
		Diagnostic  *diagnostic
	}
	if json.Unmarshal(data, &said) != nil {
		return false
	}
	if said.Diagnostic != nil {
		said.Diagnostics = append(said.Diagnostics, *said.Diagnostic)
	}
	for _, d := range said.Diagnostics {
		p := problem.Problem{Message: d.Summary}
		if d.Severity == "warning" {
			p.Severity = problem.Warning
		}
		if d.Detail != "" {
			p.Message += "\n" + d.Detail
		}
		if r := d.Range; r != nil {
			p.Place = problem.Place{File: rep.Place(r.Filename), Line: r.Start.Line, Column: r.Start.Column, EndLine: r.End.Line, EndColumn: r.End.Column}
		}
		rep.Report(p)
	}
	return len(said.Diagnostics) > 0
}

// readSARIF reads a log of any tool.
func readSARIF(data []byte, rep *sieve.DocumentReporter) bool {
	problems, ok := sarif.Read(data)
	for _, p := range problems {
		if p.File != "" {
			p.File = rep.Place(p.File)
		}
		for i := range p.Related {
			if r := &p.Related[i]; r.File != "" {
				r.File = rep.Place(r.File)
			}
		}
		rep.Report(p)
	}
	return ok
}

// readRust reads a line of cargo's and rustc's JSON (rustc book, "JSON Output";
// Cargo book, "External tools").
func readRust(data []byte, rep *sieve.DocumentReporter) bool {
	type rustSpan struct {
		FileName    string `json:"file_name"`
		LineStart   int    `json:"line_start"`
		LineEnd     int    `json:"line_end"`
		ColumnStart int    `json:"column_start"`
		ColumnEnd   int    `json:"column_end"`
		IsPrimary   bool   `json:"is_primary"`
		Label       string
	}
	type diagnostic struct {
		Message string
		Level   string
		Code    *struct{ Code string }
		Spans   []rustSpan
	}
	type whole struct {
		diagnostic
		Children []diagnostic
	}
	var outer struct {
		Reason  string
		Message json.RawMessage
	}
	if json.Unmarshal(data, &outer) != nil {
		return false
	}
	if outer.Reason != "" {
		if outer.Reason != "compiler-message" {
			return true // about artifacts and the build
		}
		data = outer.Message
	}
	var d whole
	if json.Unmarshal(data, &d) != nil || d.Level == "" {
		return false
	}
	if d.Level == "failure-note" || len(d.Spans) == 0 && (strings.HasPrefix(d.Message, "aborting due to") || strings.Contains(d.Message, "warning emitted") || strings.Contains(d.Message, "warnings emitted")) {
		return true // a summary
	}
	place := func(s rustSpan) problem.Place {
		return problem.Place{File: rep.Place(s.FileName), Line: s.LineStart, Column: s.ColumnStart, EndLine: s.LineEnd, EndColumn: s.ColumnEnd}
	}
	p := problem.Problem{Message: d.Message}
	switch {
	case strings.HasPrefix(d.Level, "warning"):
		p.Severity = problem.Warning
	case !strings.HasPrefix(d.Level, "error"):
		p.Severity = problem.Note
	}
	if d.Code != nil {
		p.Code = d.Code.Code
	}
	for _, s := range d.Spans {
		if s.IsPrimary && p.File == "" {
			p.Place = place(s)
		} else if len(p.Related) < sieve.MaxParts {
			p.Related = append(p.Related, problem.Related{Place: place(s), Message: s.Label})
		}
	}
	for _, c := range d.Children {
		r := problem.Related{Message: c.Message}
		if len(c.Spans) > 0 {
			r.Place = place(c.Spans[0])
		}
		if len(p.Related) < sieve.MaxParts {
			p.Related = append(p.Related, r)
		}
	}
	rep.Report(p)
	return true
}

// readESLint reads the JSON formatter's output (ESLint, "Formatters: json").
func readESLint(data []byte, rep *sieve.DocumentReporter) bool {
	var files []struct {
		FilePath string
		Messages []struct {
			RuleID                           *string
			Severity                         int
			Message                          string
			Line, Column, EndLine, EndColumn int
		}
	}
	if json.Unmarshal(data, &files) != nil {
		return false
	}
	for _, f := range files {
		file := rep.Place(f.FilePath)
		for _, m := range f.Messages {
			p := problem.Problem{Place: problem.Place{File: file, Line: m.Line, Column: m.Column, EndLine: m.EndLine, EndColumn: m.EndColumn}, Message: m.Message}
			if m.Severity == 1 {
				p.Severity = problem.Warning
			}
			if m.RuleID != nil {
				p.Code = *m.RuleID
			}
			rep.Report(p)
		}
	}
	return true
}

// gccFinding is one of -fdiagnostics-format=json (GCC manual, "Options to
// Control Diagnostic Messages Formatting").
type gccFinding struct {
	Kind      string
	Message   string
	Option    string
	Locations []struct {
		Caret  gccPlace
		Finish *gccPlace
	}
	Children []gccFinding
}

type gccPlace struct {
	File         string
	Line, Column int
}

func readGCC(data []byte, rep *sieve.DocumentReporter) bool {
	var all []gccFinding
	if json.Unmarshal(data, &all) != nil {
		return false
	}
	place := func(d gccFinding) (p problem.Place) {
		if len(d.Locations) == 0 {
			return p
		}
		l := d.Locations[0]
		p = problem.Place{File: rep.Place(l.Caret.File), Line: l.Caret.Line, Column: l.Caret.Column}
		if l.Finish != nil && l.Finish.File == l.Caret.File && l.Finish.Column > 0 {
			p.EndLine, p.EndColumn = l.Finish.Line, l.Finish.Column+1
		}
		return p
	}
	var problems []problem.Problem
	for _, d := range all {
		// A note behind a problem belongs to it.
		if n := len(problems); n > 0 && d.Kind == "note" && !strings.Contains(d.Message, "#pragma message") {
			own := &problems[n-1].Related
			*own = append(*own, problem.Related{Place: place(d), Message: d.Message})
			for _, c := range d.Children {
				*own = append(*own, problem.Related{Place: place(c), Message: c.Message})
			}
			continue
		}
		p := problem.Problem{Place: place(d), Message: d.Message, Code: strings.TrimPrefix(d.Option, "-W")}
		switch d.Kind {
		case "warning":
			p.Severity = problem.Warning
		case "note", "debug", "anachronism":
			p.Severity = problem.Note
		}
		for _, c := range d.Children {
			if len(p.Related) < sieve.MaxParts {
				p.Related = append(p.Related, problem.Related{Place: place(c), Message: c.Message})
			}
		}
		problems = append(problems, p)
	}
	for _, p := range problems {
		rep.Report(p)
	}
	return true
}

// readFlat reads lists of objects that have a file, a place, and a message each:
// pylint, shellcheck, mypy, ruff and their kin.
func readFlat(data []byte, rep *sieve.DocumentReporter) bool {
	var all []map[string]any
	if json.Unmarshal(data, &all) != nil || len(all) == 0 {
		return false
	}
	first := func(m map[string]any, names ...string) any {
		for _, n := range names {
			if v, ok := m[n]; ok && v != nil {
				return v
			}
		}
		return nil
	}
	text := func(v any) string {
		switch x := v.(type) {
		case string:
			return x
		case float64:
			return strconv.FormatFloat(x, 'f', -1, 64)
		}
		return ""
	}
	number := func(v any) int {
		f, _ := v.(float64)
		if f < 0 || f > 1e9 {
			return 0
		}
		return int(f)
	}
	var problems []problem.Problem
	for _, m := range all {
		at, _ := m["location"].(map[string]any)
		end, _ := m["end_location"].(map[string]any)
		p := problem.Problem{Severity: problem.Warning}
		p.File = text(first(m, "path", "file", "filename", "fileName"))
		p.Message = text(first(m, "message", "msg"))
		if p.File == "" || p.Message == "" {
			return false
		}
		p.File = rep.Place(p.File)
		p.Line, p.Column = number(first(m, "line", "lineNumber")), number(first(m, "column", "columnNumber", "col"))
		p.EndLine, p.EndColumn = number(m["endLine"]), number(m["endColumn"])
		if at != nil {
			p.Line, p.Column = number(first(at, "row", "line")), number(at["column"])
		}
		if end != nil {
			p.EndLine, p.EndColumn = number(first(end, "row", "line")), number(end["column"])
		}
		p.Code = text(first(m, "message-id", "messageId", "code", "rule", "ruleId"))
		word := strings.ToLower(text(first(m, "severity", "level", "type")))
		switch {
		case m["message-id"] != nil || m["messageId"] != nil: // pylint counts columns from zero
			p.Column++
			if p.EndColumn > 0 {
				p.EndColumn++
			}
			if word != "error" && word != "fatal" {
				p.Severity = problem.Warning
			} else {
				p.Severity = problem.Error
			}
			if word == "convention" || word == "refactor" || word == "info" {
				p.Severity = problem.Note
			}
		case word == "error" || word == "fatal" || word == "2":
			p.Severity = problem.Error
		case word == "note" || word == "info" || word == "style" || word == "hint" || word == "help":
			p.Severity = problem.Note
		case word == "" && at != nil: // ruff has no severities: its findings are errors
			p.Severity = problem.Error
		}
		if strings.Contains(string(data), `"fix"`) && p.Code != "" && m["file"] != nil && isNumber(p.Code) {
			p.Code = "SC" + p.Code // shellcheck
		}
		if hint := text(m["hint"]); hint != "" {
			p.Related = append(p.Related, problem.Related{Message: hint})
		}
		problems = append(problems, p)
	}
	for _, p := range problems {
		rep.Report(p)
	}
	return true
}

// readFlatObject reads one such object on a line of its own.
func readFlatObject(data []byte, rep *sieve.DocumentReporter) bool {
	return readFlat(append(append([]byte("["), data...), ']'), rep)
}

// readComments reads an object with a list.
func readComments(data []byte, rep *sieve.DocumentReporter) bool {
	var said struct{ Comments json.RawMessage }
	return json.Unmarshal(data, &said) == nil && readFlat(said.Comments, rep)
}

func isNumber(s string) bool {
	_, err := strconv.Atoi(s)
	return err == nil
}

// readGoTest reads a line of go test -json (cmd/test2json). The output of each
// package is put together again and read as it would be without -json.
func readGoTest(data []byte, rep *sieve.DocumentReporter) bool {
	var event struct {
		Action, Package, ImportPath, Test, Output string
	}
	if json.Unmarshal(data, &event) != nil || event.Action == "" || event.Package+event.ImportPath == "" {
		return false
	}
	name := event.Package
	if name == "" {
		name = event.ImportPath
	}
	rep.WritePart(name, event.Output)
	if event.Test == "" && (event.Action == "pass" || event.Action == "fail" || event.Action == "skip" || event.Action == "build-fail") {
		rep.EndPart(name)
	}
	return true
}
