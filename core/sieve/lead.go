package sieve

import (
	"bytes"
	"path"
	"strings"

	"tidytally/core/sieve/lex"
)

// A tool's line may stand behind a name or a mark that is none of the file's: "web
// src/a.ts", "[build] a.c", "✔ a.c". A file's name may have blanks, too. What exists
// decides, and else what the words before the last one look like.

// refused is the place of a line that is no problem: the mark of a test or the hash of
// a commit stands before it, so that what follows is a name or a subject.
const refused = "\x00refused"

// leadOf splits what stands before a place into a lead and a file. ok is false if the
// line is no problem at all.
func (d *folders) leadOf(printed string, o *Options) (file string, ok bool) {
	if i := strings.Index(printed, "::"); i > 0 && strings.IndexByte(printed[i:], '[') > 0 {
		return "", false // the name of a test with its parameters
	}
	i := strings.LastIndexByte(printed, ' ')
	if i < 0 {
		return printed, true
	}
	lead, file := strings.TrimRight(printed[:i], " "), printed[i+1:]
	if lead == "" || file == "" || absolute(lead) && !strings.HasSuffix(lead, ":") {
		return printed, true
	}
	first, rest, _ := strings.Cut(lead, " ")
	if testMarks[first] || (first == "not" || first == "---") && rest != "" || commit(first) || strings.HasPrefix(rest, "HEAD@{") {
		return "", false
	}
	if first == "*" || first == "|" || first == "-" { // of a graph, or of a list
		if second, _, _ := strings.Cut(rest, " "); commit(second) {
			return "", false
		}
	}
	if !strings.ContainsAny(file, "./") {
		return printed, true
	}
	if o.Exists != nil {
		if o.Exists(path.Join(d.at(printed, o), printed)) {
			return printed, true
		}
		if there := file; absolute(there) && o.Exists(there) || o.Exists(path.Join(d.at(there, o), there)) {
			return file, true
		}
	}
	if rest := withoutPrefixes(printed); rest == file {
		return file, true
	}
	switch last := lead[len(lead)-1]; {
	case strings.IndexByte(":|]>)}-*+#%", last) >= 0, last >= 0x80, lex.IsDigit(last) && !strings.Contains(lead, "/") && !strings.ContainsFunc(lead, isLetter):
		return file, true
	case absolute(file):
		return file, true
	}
	return printed, true
}

// withoutPrefixes takes all prefixes off a line.
func withoutPrefixes(line string) string {
	t := []byte(line)
	for range maxDepth {
		_, _, rest := certainPrefix(t)
		if rest == 0 {
			if _, _, rest = likelyPrefix(t); rest == 0 {
				break
			}
		}
		t = bytes.TrimLeft(t[rest:], " ")
	}
	return string(t)
}

func isLetter(r rune) bool { return r < 0x80 && lex.IsLetter(byte(r)) }

// testMarks are what test runners put before the name of a test.
var testMarks = map[string]bool{
	"✔": true, "✓": true, "√": true, "✗": true, "✘": true, "✕": true, "×": true, "✖": true, "●": true, "○": true, "▶": true,
	"ok": true, "PASS": true, "PASSED": true, "FAILED": true, "XFAIL": true, "XPASS": true, "SKIPPED": true, "=== RUN": true,
}

// commit reports whether a word is the hash of a commit, whole or abbreviated.
func commit(word string) bool {
	if len(word) < 7 || len(word) > 40 {
		return false
	}
	digit := false
	for i := 0; i < len(word); i++ {
		c := word[i]
		if !lex.IsDigit(c) && (c < 'a' || c > 'f') {
			return false
		}
		digit = digit || lex.IsDigit(c)
	}
	return digit
}
