package sieve

import (
	"bytes"

	"tidytally/core/sieve/lex"
)

// A prefix is what a runner of several things puts before each line that they print:
// the time, the step's number, the name of the package, of the container or of the
// thread, the level of a log. One call takes one part of it off; what it leaves may
// begin with another part.

// prefixForm is a shape of prefix.
type prefixForm uint8

const (
	noPrefix    prefixForm = iota
	dated                  // 2026-11-26T08:44:01.07Z, 2026/11/26 08:44:01, Nov 26 08:44:01 host
	stepped                // #8 0.326, the step of an image build and its seconds
	clocked                // [08:44:01], 08:44:01.123
	elapsed                // [  12.345], [1.2s], 0.412
	levelled               // INFO, [debug], WARN:
	barred                 // web-1  |
	bracketed              // [web], [@shop/web]:, (web), <web>, {web}
	tasked                 // packages/web build:
	named                  // @shop/web:, job:
	pointed                // web>, web », web ❯
	dashed                 // shop.web.Main -
	coded                  // ➤ YN0000:
	tabbed                 // job, step, both with a tab behind, before a date
	prefixForms = iota
)

// maxPrefix is the length in bytes of the longest part of a prefix.
const maxPrefix = 96

// antWidth is the number of bytes that Ant puts before each line of a task: its name in brackets, to the right
// (DefaultLogger, LEFT_COLUMN_SIZE).
const antWidth = 12

// certainPrefix reads a part of a prefix that is one wherever it occurs. rest is where
// the line begins; name is empty if lines differ in it only by time.
func certainPrefix(t []byte) (form prefixForm, name []byte, rest int) {
	if len(t) < 8 {
		return noPrefix, nil, 0
	}
	c := t[0]
	if lex.IsDigit(c) { // the seconds of an image build, always of three digits
		if n := seconds(t); n > 4 && t[n-5] == '.' {
			return elapsed, nil, n
		}
	}
	if c == ' ' && len(t) >= antWidth && t[antWidth-2] == ']' && t[antWidth-1] == ' ' {
		if name := bytes.TrimLeft(t[:antWidth-2], " "); len(name) > 1 && name[0] == '[' && bytes.Trim(name[1:], "abcdefghijklmnopqrstuvwxyz-:.") == nil {
			return stepped, name, antWidth
		}
	}
	if c == '[' && lex.IsDigit(t[1]) {
		if n := clock24(t[1:]); n > 0 && 2+n < len(t) && t[1+n] == ']' && t[2+n] == ' ' {
			return clocked, nil, 3 + n
		}
	}
	switch {
	case c == '2' || c == '1' || c == '[' && (t[1] == '2' || t[1] == '1'):
		if n := date(t); n > 0 {
			return dated, nil, n
		}
	case c == '#':
		_, k := lex.Number(t[1:])
		if k == 0 || 1+k >= len(t) || t[1+k] != ' ' {
			return noPrefix, nil, 0
		}
		if n := seconds(t[2+k:]); n > 0 {
			return stepped, t[:1+k], 2 + k + n
		}
	case c >= 'A' && c <= 'S' && t[3] == ' ':
		if n := syslog(t); n > 0 {
			return dated, nil, n
		}
	}
	if name, rest = tabbedPrefix(t); rest > 0 {
		return tabbed, name, rest
	}
	return noPrefix, nil, 0
}

// tabbedPrefix reads the job and the step of a CI log that was fetched as a whole:
// both end in a tab, and a date follows.
func tabbedPrefix(t []byte) (name []byte, rest int) {
	first := bytes.IndexByte(t[:min(len(t), maxPrefix)], '\t')
	if first < 1 {
		return nil, 0
	}
	second := bytes.IndexByte(t[first+1:min(len(t), first+1+maxPrefix)], '\t')
	if second < 1 || first+second+3 >= len(t) {
		return nil, 0
	}
	rest = first + 1 + second + 1
	behind := bytes.TrimPrefix(t[rest:], []byte("\ufeff"))
	if len(behind) < 20 || date(behind) == 0 {
		return nil, 0
	}
	return t[:rest-1], len(t) - len(behind)
}

// date reads a date and a time (RFC 3339, ISO 8601 and what loggers make of them) at
// the start of a line. It returns the bytes up to the text.
func date(t []byte) int {
	i, closing := 0, byte(0)
	if t[0] == '[' {
		i, closing = 1, ']'
	}
	if len(t) < i+19 || !digits(t[i:i+4]) || t[i+4] != '-' && t[i+4] != '/' || !digits(t[i+5:i+7]) || t[i+7] != t[i+4] || !digits(t[i+8:i+10]) || t[i+10] != 'T' && t[i+10] != ' ' {
		return 0
	}
	n := clock24(t[i+11:])
	if n == 0 {
		return 0
	}
	i += 11 + n
	// the zone
	if rest := t[i:]; len(rest) > 0 && rest[0] == 'Z' {
		i++
	} else if len(rest) >= 5 && (rest[0] == '+' || rest[0] == '-') && digits(rest[1:3]) {
		if i += 5; rest[3] == ':' && len(rest) > 5 {
			i++
		}
	} else if lex.HasPrefix(rest, " UTC") || lex.HasPrefix(rest, " GMT") {
		i += 4
	}
	if closing != 0 {
		if i >= len(t) || t[i] != closing {
			return 0
		}
		i++
	}
	// The stream that some runners name behind the time: 00O, 01E+.
	if r := t[i:]; len(r) >= 4 && r[0] == ' ' && digits(r[1:3]) && (r[3] == 'O' || r[3] == 'E') {
		if i += 4; i < len(t) && t[i] == '+' {
			i++
		}
	}
	return i + separator(t[i:])
}

// separator returns the length of what separates a time from the text. Only one blank
// belongs to it, because the text may be indented.
func separator(t []byte) int {
	if len(t) == 0 {
		return 0
	}
	for _, s := range [...]string{" - ", " | ", ": ", " ", "\t"} {
		if lex.HasPrefix(t, s) {
			return len(s)
		}
	}
	return 0
}

func digits(t []byte) bool {
	for _, c := range t {
		if !lex.IsDigit(c) {
			return false
		}
	}
	return true
}

// clock24 reads 08:44:01 with a fraction of a second, or without.
func clock24(t []byte) int {
	if len(t) < 8 || !digits(t[:2]) || t[2] != ':' || !digits(t[3:5]) || t[5] != ':' || !digits(t[6:8]) {
		return 0
	}
	n := 8
	if n+1 < len(t) && (t[n] == '.' || t[n] == ',') && lex.IsDigit(t[n+1]) {
		for n++; n < len(t) && lex.IsDigit(t[n]); n++ {
		}
	}
	return n
}

// seconds reads "0.326 ".
func seconds(t []byte) int {
	n := 0
	for n < len(t) && lex.IsDigit(t[n]) {
		n++
	}
	if n == 0 || n > 6 || n >= len(t) || t[n] != '.' {
		return 0
	}
	from := n + 1
	for n = from; n < len(t) && lex.IsDigit(t[n]); n++ {
	}
	if n-from < 1 || n-from > 3 || n >= len(t) || t[n] != ' ' {
		return 0
	}
	return n + 1
}

// syslog reads "Nov 26 08:44:01 host name[12]: " (RFC 3164, section 4.1).
func syslog(t []byte) int {
	switch string(t[:3]) {
	case "Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec":
	default:
		return 0
	}
	if len(t) < 18 || !(lex.IsDigit(t[4]) || t[4] == ' ') || !lex.IsDigit(t[5]) || t[6] != ' ' {
		return 0
	}
	n := clock24(t[7:])
	if n == 0 || 7+n >= len(t) || t[7+n] != ' ' {
		return 0
	}
	start := 7 + n + 1
	end := bytes.Index(t[start:min(len(t), start+maxPrefix)], []byte(": "))
	if end < 0 || bytes.Count(t[start:start+end], []byte(" ")) != 1 {
		return 0
	}
	return start + end + 2
}

// likelyPrefix reads a part of a prefix that is one only if most lines have it.
func likelyPrefix(t []byte) (form prefixForm, name []byte, rest int) {
	if len(t) < 3 {
		return noPrefix, nil, 0
	}
	c := t[0]
	if kind := prefixStarts[c]; kind == noStart {
		return noPrefix, nil, 0
	}
	switch {
	case c == '[' || c == '(' || c == '<' || c == '{':
		return inBrackets(t)
	case lex.IsDigit(c):
		if n := clock24(t); n > 0 && n < len(t) && (t[n] == ' ' || t[n] == '\t') {
			return clocked, nil, n + separator(t[n:])
		}
	case c == 0xe2:
		if rest, ok := lex.CutPrefix(t, "➤ "); ok {
			if i := bytes.Index(rest[:min(len(rest), 16)], []byte(": ")); i > 0 {
				return coded, nil, len(t) - len(rest) + i + 2
			}
		}
		return noPrefix, nil, 0
	}
	return byName(t)
}

type prefixStart uint8

const (
	noStart prefixStart = iota
	maybeStart
)

// prefixStarts says which bytes a likely prefix begins with.
var prefixStarts = func() (starts [256]prefixStart) {
	for i := range starts {
		if c := byte(i); lex.IsLetter(c) || lex.IsDigit(c) || bytes.IndexByte([]byte("@+[(<{ ./\xe2"), c) >= 0 {
			starts[i] = maybeStart
		}
	}
	return starts
}()

// inBrackets reads [name], (name), <name> and {name}, a clock and a level among them.
func inBrackets(t []byte) (form prefixForm, name []byte, rest int) {
	closing := map[byte]byte{'[': ']', '(': ')', '<': '>', '{': '}'}[t[0]]
	end := bytes.IndexByte(t[:min(len(t), maxPrefix)], closing)
	if end < 2 {
		return noPrefix, nil, 0
	}
	name, rest = bytes.TrimRight(t[1:end], " "), end+1
	if len(name) == 0 {
		return noPrefix, nil, 0
	}
	behind := 0
	switch r := t[rest:]; {
	case lex.HasPrefix(r, ": "), lex.HasPrefix(r, " | "):
		behind = bytes.IndexByte(r, ' ') + 1
		if r[0] == ' ' {
			behind = 3
		}
	case lex.HasPrefix(r, " "), lex.HasPrefix(r, "\t"):
		behind = 1
	case len(r) == 0, string(r) == ":":
		behind = len(r)
	default:
		return noPrefix, nil, 0
	}
	rest += behind
	if t[0] == '[' {
		if n := clock24(name); n == len(name) {
			return clocked, nil, rest
		}
		number := bytes.TrimLeft(name, " +")
		if unit := bytes.TrimRight(number, "ms"); len(unit) > 0 && bytes.IndexByte(unit, '.') > 0 && len(bytes.Trim(unit, "0123456789.")) == 0 {
			return elapsed, nil, rest
		}
		if isLevel(name, true) {
			return levelled, nil, rest
		}
	}
	if !isName(name, true) {
		return noPrefix, nil, 0
	}
	return bracketed, name, rest
}

// byName reads the forms that begin with a name.
func byName(t []byte) (form prefixForm, name []byte, rest int) {
	start := 0
	for start < len(t) && t[start] == ' ' && start < 24 {
		start++
	}
	end := start
	for end < len(t) && end < maxPrefix && nameBytes[t[end]] {
		end++
	}
	if end == start || end >= len(t) {
		return noPrefix, nil, 0
	}
	name = t[start:end]
	// "web-1  | ", and with a name that is right of blanks.
	bar := end
	for bar < len(t) && t[bar] == ' ' && bar < maxPrefix {
		bar++
	}
	for _, mark := range [...]string{"|", "│", "┃"} {
		if behind, ok := lex.CutPrefix(t[bar:], mark); ok && name[len(name)-1] != ':' && isName(name, false) && !isLevel(name, false) {
			rest = len(t) - len(behind)
			if len(behind) > 0 && behind[0] == ' ' {
				rest++
			} else if len(behind) > 0 {
				return noPrefix, nil, 0
			}
			return barred, name, rest
		}
	}
	if start > 0 {
		return noPrefix, nil, 0
	}
	behind := t[end:]
	if name[len(name)-1] == ':' && behind[0] == ' ' {
		name, behind = name[:len(name)-1], t[end-1:]
	}
	switch {
	case isLevel(name, false) && (behind[0] == ' ' || behind[0] == ':'), behind[0] == ':' && quietLevels[string(name)]:
		return levelled, nil, len(t) - len(behind) + separator(behind)
	case !isName(name, false):
		return noPrefix, nil, 0
	case lex.HasPrefix(behind, ": "), len(behind) == 1 && behind[0] == ':':
		if isSource(name) || isTool(name) {
			return noPrefix, nil, 0
		}
		return named, name, len(t) - len(behind) + min(2, len(behind))
	case lex.HasPrefix(behind, "> "):
		return pointed, name, end + 2
	case lex.HasPrefix(behind, " » "), lex.HasPrefix(behind, " ❯ "):
		return pointed, name, end + 1 + bytes.IndexByte(behind[1:], ' ') + 1
	case lex.HasPrefix(behind, " - ") && bytes.IndexByte(name, '.') > 0 && !isSource(name):
		return dashed, nil, end + 3
	case behind[0] == ' ':
		// "packages/web build: "
		task := behind[1:]
		k := 0
		for k < len(task) && k < 40 && nameBytes[task[k]] {
			k++
		}
		if k > 1 && task[k-1] == ':' && k < len(task) && task[k] == ' ' {
			k--
		}
		if k > 0 && lex.HasPrefix(task[k:], ": ") && bytes.IndexByte(task[:k], '/') < 0 && isName(task[:k], false) && !isSource(task[:k]) && !isSource(name) {
			return tasked, name, end + 1 + k + 2
		}
	}
	return noPrefix, nil, 0
}

// nameBytes are those that the name of a package, a task or a container consists of.
var nameBytes = func() (is [256]bool) {
	for i := range is {
		c := byte(i)
		is[i] = lex.IsLetter(c) || lex.IsDigit(c) || bytes.IndexByte([]byte("@._-/+:#"), c) >= 0
	}
	return is
}()

// isName reports whether t may be the name before a line, of one word or, if blanks is
// set, of several.
func isName(t []byte, blanks bool) bool {
	letters, digits, slash := false, false, false
	for i, c := range t {
		if !nameBytes[c] && !(blanks && (c == ' ' || c == ',')) {
			return false
		}
		switch {
		case lex.IsDigit(c):
			if digits = true; i > 0 && t[i-1] == ':' {
				return false // "a.c:12" is a place
			}
		case c == '/':
			slash = true
		case lex.IsLetter(c), c != ' ' && c != ',':
			letters = letters || lex.IsLetter(c)
		}
	}
	return letters || digits && !slash // "1/20" counts steps
}

// isTool reports whether a name is that of a tool that puts it before what it says
// itself, or a word that begins a diagnostic.
func isTool(name []byte) bool {
	name = name[bytes.LastIndexByte(name, '/')+1:]
	name = bytes.TrimRight(name, "0123456789.-")
	if i := bytes.LastIndexByte(name, '-'); i >= 0 { // arm-none-eabi-gcc
		name = name[i+1:]
	}
	return tools[string(name)]
}

var tools = func() map[string]bool {
	m := map[string]bool{}
	for _, name := range [...]string{
		"gcc", "g++", "cc", "c++", "cpp", "clang", "clang++", "ld", "gold", "lld", "as", "ar", "collect", "cc1", "cc1plus", "f", "lto", "gfortran", "make", "gmake", "ninja",
		"cmake", "bash", "sh", "zsh", "dash", "ksh", "python", "perl", "lua", "luac", "luajit", "awk", "gawk", "mawk", "git", "npm", "yarn", "pnpm", "go", "cargo", "rustc", "java",
		"javac", "node", "php", "ruby", "tsc", "e", "w", "error", "warning", "note", "hint", "help", "fatal", "info", "Error", "Warning", "Note", "Fatal", "FAIL", "PASS", "ERROR",
		"E", "W", "I", "TypeError", "SyntaxError", "ReferenceError", "RangeError", "Caused", "Suppressed", "FAILED", "FAILURE", "panic", "mypy", "pytest", "eslint",
	} {
		m[name] = true
	}
	return m
}()

// isSource reports whether a name ends like that of a source file.
func isSource(name []byte) bool {
	i := bytes.LastIndexByte(name, '.')
	return i >= 0 && lex.IsSourceEnding(string(bytes.ToLower(name[i+1:])))
}

// quietLevels are those that no compiler puts before a diagnostic.
var quietLevels = map[string]bool{"info": true, "debug": true, "trace": true, "verbose": true, "notice": true}

// isLevel reports whether a word is the level of a line of a log. small lets it be of
// small letters, as loggers print it in brackets.
func isLevel(t []byte, small bool) bool {
	if len(t) > 8 {
		return false
	}
	word := string(t)
	if small {
		word = string(bytes.ToUpper(t))
	}
	switch word {
	case "INFO", "WARN", "WARNING", "ERROR", "DEBUG", "TRACE", "FATAL", "NOTICE", "VERBOSE", "SEVERE", "FINE", "ERR", "DBG", "INF", "WRN":
		return true
	}
	return false
}
