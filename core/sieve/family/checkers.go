package family

import (
	"bytes"
	"fmt"
	"strings"

	"tidytally/core/problem"
	"tidytally/core/sieve"
	"tidytally/core/sieve/lex"
)

var checkersFamily = sieve.Family{
	Name:    "checkers",
	Columns: problem.UTF16,
	Leads:   oneOf("::error|::warning|::notice|would reformat |error: cannot format |ERROR: |Assertion failed: "),
	Behind:  oneOf("line |[error] |[warning] |error |warning |Assertion `"),
	Endings: oneOf("js|jsx|mjs|cjs|ts|tsx|vue|svelte|css|scss|sass|less|html|md|markdown"),
	New:     func() sieve.Scanner { return checkersScanner{} },
}

// checkersScanner reads the one-line forms of checkers: ESLint's and stylelint's unix,
// compact and visualstudio, yamllint's parsable, markdownlint, black, isort, workflow
// commands of CI, and the assertions of C programs.
type checkersScanner struct{}

func (checkersScanner) Flush(*sieve.Reporter, bool) {}

func (checkersScanner) Scan(l *sieve.Line, rep *sieve.Reporter) bool {
	for _, read := range [...]func([]byte) (problem.Problem, bool){workflowCommand, lineAndColumn, ruleBeforeColon, severityAtEnd, severityInBrackets, markdownRule, wouldReformat, assertion} {
		p, ok := read(l.Text)
		if !ok {
			continue
		}
		if p.File != "" {
			p.File = rep.Place(p.File)
		}
		rep.Begin(l, p)
		rep.Finish()
		return true
	}
	return false
}

// checkSeverity reads the word that a checker has for a severity.
func checkSeverity(word string) (problem.Severity, bool) {
	switch strings.ToLower(word) {
	case "error", "fatal":
		return problem.Error, true
	case "warning", "warn":
		return problem.Warning, true
	case "info", "notice":
		return problem.Note, true
	}
	return 0, false
}

// ruleAtEnd cuts "(rule)" off a message.
func ruleAtEnd(message string) (text, rule string) {
	i := strings.LastIndex(message, " (")
	if i < 1 || !strings.HasSuffix(message, ")") || strings.Contains(message[i+2:], " ") {
		return message, ""
	}
	return strings.TrimRight(message[:i], " "), message[i+2 : len(message)-1]
}

// lineAndColumn reads "/w/a.js: line 3, col 7, Error - 'x' is not defined. (no-undef)".
func lineAndColumn(t []byte) (p problem.Problem, ok bool) {
	file, rest, found := strings.Cut(string(t), ": line ")
	line, n := lex.Number([]byte(rest))
	rest, cut := strings.CutPrefix(rest[n:], ", col ")
	if !found || n == 0 || !cut {
		return p, false
	}
	column, k := lex.Number([]byte(rest))
	rest, cut = strings.CutPrefix(rest[k:], ", ")
	word, message, dash := strings.Cut(rest, " - ")
	severity, known := checkSeverity(word)
	p.Place, p.Severity = problem.Place{File: file, Line: line, Column: column}, severity
	p.Message, p.Code = ruleAtEnd(message)
	return p, k > 0 && cut && dash && known && lex.PlausibleFile(file)
}

// ruleBeforeColon reads "/w/a.js(3,7): error no-undef : 'x' is not defined.".
func ruleBeforeColon(t []byte) (p problem.Problem, ok bool) {
	i := bytes.Index(t, []byte("): "))
	if i < 1 {
		return p, false
	}
	word, rest, _ := strings.Cut(string(t[i+3:]), " ")
	rule, message, cut := strings.Cut(rest, " : ")
	if p.Severity, ok = checkSeverity(word); !ok || !cut || rule == "" || strings.Contains(rule, " ") {
		return p, false
	}
	p.Code, p.Message = rule, message
	p.Place, ok = lex.PlaceAtEnd(t[:i+1])
	return p, ok
}

// severityAtEnd reads "/w/a.js:3:7: 'x' is not defined. [Error/no-undef]" and
// "a.css:3:7: Unexpected unit (unit-no-unknown) [error]".
func severityAtEnd(t []byte) (p problem.Problem, ok bool) {
	if t[len(t)-1] != ']' {
		return p, false
	}
	i := bytes.Index(t, []byte(": "))
	j := bytes.LastIndex(t, []byte(" ["))
	if i < 1 || j < i+2 {
		return p, false
	}
	word, rule, ruled := strings.Cut(string(t[j+2:len(t)-1]), "/")
	severity, known := checkSeverity(word)
	if !known {
		return p, false
	}
	if p.Place, ok = lex.PlaceAtEnd(t[:i]); !ok || p.Column == 0 {
		return p, false
	}
	p.Severity, p.Message, p.Code = severity, string(t[i+2:j]), rule
	if !ruled {
		p.Message, p.Code = ruleAtEnd(p.Message)
	}
	return p, true
}

// severityInBrackets reads "a.yml:2:2: [error] too many spaces (colons)".
func severityInBrackets(t []byte) (p problem.Problem, ok bool) {
	i := bytes.Index(t, []byte(": ["))
	if i < 1 {
		return p, false
	}
	word, message, cut := strings.Cut(string(t[i+3:]), "] ")
	if p.Severity, ok = checkSeverity(word); !ok || !cut {
		return p, false
	}
	p.Message, p.Code = ruleAtEnd(message)
	p.Place, ok = lex.PlaceAtEnd(t[:i])
	return p, ok && p.Column > 0
}

// markdownRule reads "README.md:3:81 error MD013/line-length Line length [Expected: 80;
// Actual: 99]"; the column and the severity may be missing.
func markdownRule(t []byte) (p problem.Problem, ok bool) {
	i := bytes.IndexByte(t, ' ')
	if i < 4 {
		return p, false
	}
	rest := string(t[i+1:])
	if word, behind, _ := strings.Cut(rest, " "); word == "error" || word == "warning" {
		p.Severity, _ = checkSeverity(word)
		rest = behind
	}
	rule, message, cut := strings.Cut(rest, " ")
	number, named := strings.CutPrefix(rule, "MD")
	if _, n := lex.Number([]byte(number)); !named || !cut || n != 3 || len(number) > n && number[n] != '/' {
		return p, false
	}
	p.Code, p.Message = rule, message
	p.Place, ok = lex.PlaceAtEnd(t[:i])
	return p, ok
}

// workflowCommand reads "::error file=app.js,line=10,col=15::message" (GitHub Docs,
// "Workflow commands", "Setting an error message").
func workflowCommand(t []byte) (p problem.Problem, ok bool) {
	rest, found := strings.CutPrefix(string(t), "::")
	if !found {
		return p, false
	}
	head, message, cut := strings.Cut(rest, "::")
	word, properties, _ := strings.Cut(head, " ")
	if p.Severity, ok = checkSeverity(word); !ok || !cut {
		return p, false
	}
	for property := range strings.SplitSeq(properties, ",") {
		name, value, _ := strings.Cut(strings.TrimSpace(property), "=")
		value = unescapeCommand.Replace(value)
		n, k := lex.Number([]byte(value))
		if k != len(value) {
			n = 0
		}
		switch name {
		case "file":
			p.File = value
		case "line":
			p.Line = n
		case "col":
			p.Column = n
		case "endLine":
			p.EndLine = n
		case "endColumn":
			p.EndColumn = n
		}
	}
	if p.EndColumn > 0 && p.EndLine == 0 {
		p.EndLine = p.Line
	}
	p.Message = unescapeCommand.Replace(message)
	// yamllint says the place and the rule once more.
	if text, again := strings.CutPrefix(p.Message, fmt.Sprintf("%d:%d ", p.Line, p.Column)); again && p.Line > 0 {
		p.Message, p.Code = ruleAtEnd(text)
		if rule, rest, cut := strings.Cut(text, "] "); cut && strings.HasPrefix(rule, "[") {
			p.Message, p.Code = rest, rule[1:]
		}
	}
	if text, link, linked := strings.Cut(p.Message, ") - https://"); linked && !strings.Contains(link, " ") {
		p.Message, p.Code = ruleAtEnd(text + ")")
	}
	return p, p.File != "" || p.Severity != problem.Note
}

// unescapeCommand undoes the percent escapes of workflow commands.
var unescapeCommand = strings.NewReplacer("%0A", "\n", "%0D", "", "%3A", ":", "%2C", ",", "%25", "%")

// wouldReformat reads what black and isort say of a file.
func wouldReformat(t []byte) (p problem.Problem, ok bool) {
	if file, found := lex.CutPrefix(t, "would reformat "); found {
		p.File, p.Severity, p.Message = string(file), problem.Warning, "is not formatted as black prints it"
		return p, strings.HasSuffix(p.File, ".py") || strings.HasSuffix(p.File, ".pyi") || strings.HasSuffix(p.File, ".ipynb")
	}
	if rest, found := strings.CutPrefix(string(t), "error: cannot format "); found {
		file, message, cut := strings.Cut(rest, ": ")
		p.File, p.Message = file, message
		// "Cannot parse for target version Python 3.12: 3:7: x = ("
		if reason, place, parsed := strings.Cut(message, ": "); parsed && strings.HasPrefix(reason, "Cannot parse") {
			line, n := lex.Number([]byte(place))
			column, k := 0, 0
			if n > 0 && n < len(place) && place[n] == ':' {
				column, k = lex.Number([]byte(place[n+1:]))
			}
			if k > 0 {
				p.Line, p.Column = line, column+1 // counted from zero
			}
		}
		return p, cut && lex.PlausibleFile(file)
	}
	file, found := strings.CutPrefix(string(t), "ERROR: ")
	file, sorted := strings.CutSuffix(file, " Imports are incorrectly sorted and/or formatted.")
	p.File, p.Severity, p.Message = file, problem.Warning, "imports are incorrectly sorted or formatted"
	return p, found && sorted && lex.PlausibleFile(file)
}

// assertion reads "kiln: src/kiln.c:5: main: Assertion `x == 3' failed." of glibc, and
// "Assertion failed: (x == 3), function main, file kiln.c, line 5." of other libraries.
func assertion(t []byte) (p problem.Problem, ok bool) {
	if rest, found := strings.CutPrefix(string(t), "Assertion failed: "); found {
		message, at, cut := strings.Cut(rest, ", file ")
		file, line, numbered := strings.Cut(at, ", line ")
		n, k := lex.Number([]byte(line))
		message, _, _ = strings.Cut(message, ", function ")
		p.Place, p.Message = problem.Place{File: file, Line: n}, "Assertion failed: "+message
		return p, cut && numbered && k > 0 && lex.PlausibleFile(file)
	}
	i := bytes.Index(t, []byte(": Assertion `"))
	if i < 1 || !bytes.HasSuffix(t, []byte("' failed.")) {
		return p, false
	}
	program := bytes.Index(t[:i], []byte(": "))
	if program < 0 {
		return p, false
	}
	where := t[program+2 : i]
	end := bytes.Index(where, []byte(": "))
	if end < 0 {
		return p, false
	}
	// Behind the number of a test, the program's name is in front once more.
	if behind := where[end+2:]; !lex.IsDigit(where[end-1]) {
		if k := bytes.Index(behind, []byte(": ")); k > 0 {
			where, end = behind, k
		}
	}
	p.Place, ok = lex.PlaceAtEnd(where[:end])
	p.Message = string(t[i+2:])
	return p, ok
}
