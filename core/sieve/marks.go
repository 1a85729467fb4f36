package sieve

import (
	"cmp"
	"regexp"
	"slices"
	"strings"
)

// An expression for a line of output, written from marks on one line of it.

// Mark says what a part of a line is.
type Mark struct {
	// Name is a group of a rule (file, line, column, severity, code, message), or Varies.
	Name       string
	Start, End int // in bytes
}

// Varies marks a part that is another in each line and says nothing.
const Varies = "varies"

// markForms are the expressions of the groups.
var markForms = map[string]string{
	"file": `\S+?`, "line": `\d+`, "column": `\d+`, "endLine": `\d+`, "endColumn": `\d+`, "severity": `\w+`, "code": `\S+?`, "message": `.+`, Varies: `.*?`,
}

// ofMarks finds numbers and white space in what is taken as it stands: they may be others in the next
// line.
var ofMarks = regexp.MustCompile(`\d+|\s+`)

// Expression returns a regular expression that matches a line and what has the same shape: the
// parts that are marked are captured, numbers and white space may be others, all else is taken as
// it stands. Marks that overlap an earlier one are left out.
func Expression(line string, marks []Mark) string {
	sorted := slices.SortedFunc(slices.Values(marks), func(a, b Mark) int { return cmp.Compare(a.Start, b.Start) })
	var b strings.Builder
	b.WriteByte('^')
	plain := func(text string) {
		at := 0
		for _, m := range ofMarks.FindAllStringIndex(text, -1) {
			b.WriteString(regexp.QuoteMeta(text[at:m[0]]))
			if text[m[0]] >= '0' && text[m[0]] <= '9' {
				b.WriteString(`\d+`)
			} else {
				b.WriteString(`\s+`)
			}
			at = m[1]
		}
		b.WriteString(regexp.QuoteMeta(text[at:]))
	}
	at := 0
	for _, m := range sorted {
		if m.Start < at || m.End <= m.Start || m.End > len(line) {
			continue
		}
		plain(line[at:m.Start])
		form := markForms[m.Name]
		if m.Name == "file" && strings.ContainsAny(line[m.Start:m.End], " \t") {
			form = `.+?`
		}
		if m.Name == Varies {
			b.WriteString(form)
		} else {
			b.WriteString("(?P<" + m.Name + ">" + form + ")")
		}
		at = m.End
	}
	plain(line[at:])
	b.WriteByte('$')
	return b.String()
}

// words of a line that may be a place, and those that name a severity.
var (
	markedPlace    = regexp.MustCompile(`([^\s:("'<>\[\]]*[./][^\s:("'<>\[\]]*\w)["']?(?:(?::|\(|, line |\[| line )(\d+)(?:[:,](\d+))?)?`)
	markedSeverity = regexp.MustCompile(`(?i)\b(fatal|error|warning|warn|note|info|hint)\b`)
	markedLine     = regexp.MustCompile(`(?i)\bline:? (\d+)`)
)

// Guess marks what looks like the place, the severity and the message of a line.
func Guess(line string) (marks []Mark) {
	end := 0
	add := func(name string, at []int, group int) {
		if len(at) > 2*group && at[2*group] >= 0 {
			marks = append(marks, Mark{name, at[2*group], at[2*group+1]})
			end = max(end, at[2*group+1])
		}
	}
	place := markedPlace.FindStringSubmatchIndex(line)
	add("file", place, 1)
	add("line", place, 2)
	add("column", place, 3)
	if len(place) == 0 || place[4] < 0 {
		add("line", markedLine.FindStringSubmatchIndex(line), 1)
	}
	if at := markedSeverity.FindStringSubmatchIndex(line); at != nil && !slices.ContainsFunc(marks, func(m Mark) bool { return at[0] < m.End && m.Start < at[1] }) {
		add("severity", at, 1)
	}
	if start := end + len(line[end:]) - len(strings.TrimLeft(line[end:], " \t:)],\"'-")); start < len(line) {
		marks = append(marks, Mark{"message", start, len(line)})
	}
	return marks
}
