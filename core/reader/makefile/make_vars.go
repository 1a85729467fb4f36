package makefile

import (
	"path"
	"path/filepath"
	"runtime"
	"sort"
	"strconv"
	"strings"

	"tidytally/core/reader/declare"
)

const (
	makeMaxDepth = 64      // expansions in expansions
	makeMaxText  = 1 << 20 // bytes that one expansion may give
	makeMaxSteps = 200_000 // expansions in one makefile
)

// makeVar is a variable of a makefile.
type makeVar struct {
	value  string
	simple bool   // expanded already (:=)
	origin string // file, default, override, environment, automatic
	plain  bool   // assigned with ?=
	file   string
	line   int
}

// builtinVars are the variables of GNU make that occur in target names and
// conditions (manual, "Variables Used by Implicit Rules" and "Other Special
// Variables").
var builtinVars = map[string]string{
	"MAKE": "make", "SHELL": "/bin/sh", "MAKELEVEL": "0", "MAKE_VERSION": "4.3", "MAKE_COMMAND": "make",
	"CC": "cc", "CXX": "g++", "AR": "ar", "AS": "as", "LD": "ld", "RM": "rm -f", "CPP": "$(CC) -E", "FC": "f77",
	"ARFLAGS": "rv", "LEX": "lex", "YACC": "yacc", ".RECIPEPREFIX": "", "COMPILE.c": "$(CC) $(CFLAGS) $(CPPFLAGS) $(TARGET_ARCH) -c",
	".FEATURES": "target-specific order-only second-expansion else-if shortest-stem undefine oneshell nocomment grouped-target extra-prereqs archives jobserver output-sync check-symlink load",
	"MAKE_HOST": "x86_64-pc-linux-gnu", ".LIBPATTERNS": "lib%.so lib%.a",
}

// get finds a variable, the makefile's before make's own.
func (m *makeReader) get(name string) (makeVar, bool) {
	if v, ok := m.vars[name]; ok {
		return v, true
	}
	if v, ok := builtinVars[name]; ok {
		return makeVar{value: v, origin: "default"}, true
	}
	return makeVar{}, false
}

// value returns the expanded value of a variable.
func (m *makeReader) value(name string) string {
	for i := len(m.scopes) - 1; i >= 0; i-- {
		if v, ok := m.scopes[i][name]; ok {
			return v
		}
	}
	v, ok := m.get(name)
	if !ok {
		// A substitution reference: $(name:a=b).
		if i := strings.IndexByte(name, ':'); i > 0 {
			if from, to, found := strings.Cut(name[i+1:], "="); found {
				if !strings.Contains(from, "%") {
					from, to = "%"+from, "%"+to
				}
				return eachWord(m.value(m.expand(name[:i])), func(w string) string { return patsubst(m.expand(from), m.expand(to), w) })
			}
		}
		return ""
	}
	if v.simple {
		return v.value
	}
	if m.active[name] {
		m.faultOnce("recursion", "variable "+name+" refers to itself")
		return ""
	}
	m.active[name] = true
	defer delete(m.active, name)
	return m.expand(v.value)
}

// expand replaces variables and functions in a text. What cannot be known
// becomes unknown.
func (m *makeReader) expand(s string) string {
	if strings.IndexByte(s, '$') < 0 {
		return s
	}
	m.steps++
	if m.depth >= makeMaxDepth || m.steps > makeMaxSteps {
		m.faultOnce("limit", "expansion stopped at a limit; targets may be missing")
		return ""
	}
	m.depth++
	defer func() { m.depth-- }()
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] != '$' {
			b.WriteByte(s[i])
			continue
		}
		i++
		if i >= len(s) {
			break
		}
		if b.Len() > makeMaxText {
			m.faultOnce("limit", "expansion stopped at a limit; targets may be missing")
			break
		}
		switch c := s[i]; c {
		case '$':
			b.WriteByte('$')
		case '(', '{':
			end := closing(s, i)
			if end < 0 {
				return b.String()
			}
			b.WriteString(m.reference(s[i+1 : end]))
			i = end
		default:
			b.WriteString(m.value(string(c)))
		}
	}
	return b.String()
}

// closing finds the bracket that closes the one at s[open].
func closing(s string, open int) int {
	want := byte(')')
	if s[open] == '{' {
		want = '}'
	}
	depth := 0
	for i := open; i < len(s); i++ {
		switch s[i] {
		case s[open]:
			depth++
		case want:
			if depth--; depth == 0 {
				return i
			}
		}
	}
	return -1
}

// reference expands the text between the brackets of $(…).
func (m *makeReader) reference(body string) string {
	if i := strings.IndexAny(body, " \t"); i > 0 {
		if f, ok := makeFunctions[body[:i]]; ok {
			return f(m, strings.TrimLeft(body[i:], " \t"))
		}
	}
	if strings.IndexByte(body, '$') >= 0 {
		// $(name$(x):a=b): the name is expanded, the pattern by value.
		if i := topColon(body); i > 0 {
			body = m.expand(body[:i]) + body[i:]
		} else {
			body = m.expand(body)
		}
	}
	if strings.Contains(body, declare.Unknown) {
		return declare.Unknown
	}
	return m.value(body)
}

// topColon finds a ':' outside of nested brackets.
func topColon(s string) int {
	depth := 0
	for i := 0; i < len(s); i++ {
		switch s[i] {
		case '(', '{':
			depth++
		case ')', '}':
			depth--
		case ':':
			if depth == 0 {
				return i
			}
		}
	}
	return -1
}

// arguments splits the arguments of a function at commas outside of brackets,
// at most n of them.
func arguments(s string, n int) []string {
	var args []string
	depth, start := 0, 0
	for i := 0; i < len(s); i++ {
		switch s[i] {
		case '(', '{':
			depth++
		case ')', '}':
			depth--
		case ',':
			if depth == 0 && (n == 0 || len(args) < n-1) {
				args = append(args, s[start:i])
				start = i + 1
			}
		}
	}
	return append(args, s[start:])
}

type makeFunction func(m *makeReader, rest string) string

var makeFunctions map[string]makeFunction

// words1 makes a function of one list, worked on word by word.
func words1(f func(w string) string) makeFunction {
	return func(m *makeReader, rest string) string { return eachWord(m.expand(rest), f) }
}

// texts makes a function of up to n expanded texts.
func texts(n int, f func(m *makeReader, a []string) string) makeFunction {
	return func(m *makeReader, rest string) string {
		a := arguments(rest, n)
		for i := range a {
			a[i] = m.expand(a[i])
		}
		for len(a) < n {
			a = append(a, "")
		}
		return f(m, a)
	}
}

// GNU make manual, chapter "Functions for Transforming Text".
func init() {
	makeFunctions = map[string]makeFunction{
		"subst": texts(3, func(_ *makeReader, a []string) string {
			if a[0] == "" {
				return a[2] + a[1]
			}
			return strings.ReplaceAll(a[2], a[0], a[1])
		}),
		"patsubst": texts(3, func(_ *makeReader, a []string) string {
			return eachWord(a[2], func(w string) string { return patsubst(strings.TrimSpace(a[0]), strings.TrimSpace(a[1]), w) })
		}),
		"strip": texts(1, func(_ *makeReader, a []string) string { return strings.Join(strings.Fields(a[0]), " ") }),
		"findstring": texts(2, func(_ *makeReader, a []string) string {
			if strings.Contains(a[1], a[0]) {
				return a[0]
			}
			return uncertain(a[1])
		}),
		"filter":     texts(2, func(_ *makeReader, a []string) string { return filterWords(a[0], a[1], true) }),
		"filter-out": texts(2, func(_ *makeReader, a []string) string { return filterWords(a[0], a[1], false) }),
		"sort": texts(1, func(_ *makeReader, a []string) string {
			w := strings.Fields(a[0])
			sort.Strings(w)
			out := w[:0]
			for i, s := range w {
				if i == 0 || s != w[i-1] {
					out = append(out, s)
				}
			}
			return strings.Join(out, " ")
		}),
		"word": texts(2, func(_ *makeReader, a []string) string {
			w := strings.Fields(a[1])
			if n := declare.PlainNumber(a[0]); n >= 1 && n <= len(w) {
				return w[n-1]
			}
			return uncertain(a[1])
		}),
		"words":     texts(1, func(_ *makeReader, a []string) string { return strconv.Itoa(len(strings.Fields(a[0]))) }),
		"wordlist":  texts(3, wordlist),
		"firstword": texts(1, func(_ *makeReader, a []string) string { return pick(a[0], 0) }),
		"lastword":  texts(1, func(_ *makeReader, a []string) string { return pick(a[0], -1) }),
		"dir": words1(func(w string) string {
			if i := strings.LastIndexByte(w, '/'); i >= 0 {
				return w[:i+1]
			}
			return "./"
		}),
		"notdir": words1(func(w string) string { return w[strings.LastIndexByte(w, '/')+1:] }),
		"suffix": words1(func(w string) string { return path.Ext(w) }),
		"basename": words1(func(w string) string {
			return strings.TrimSuffix(w, path.Ext(w))
		}),
		"addsuffix": texts(2, func(_ *makeReader, a []string) string {
			return eachWord(a[1], func(w string) string { return w + a[0] })
		}),
		"addprefix": texts(2, func(_ *makeReader, a []string) string {
			return eachWord(a[1], func(w string) string { return a[0] + w })
		}),
		"join": texts(2, func(_ *makeReader, a []string) string {
			x, y := strings.Fields(a[0]), strings.Fields(a[1])
			for i := range y {
				if i < len(x) {
					x[i] += y[i]
				} else {
					x = append(x, y[i])
				}
			}
			return strings.Join(x, " ")
		}),
		"wildcard": texts(1, func(m *makeReader, a []string) string { return m.wildcard(a[0]) }),
		"realpath": words1(func(w string) string { return path.Clean(w) }),
		"abspath": func(m *makeReader, rest string) string {
			return eachWord(m.expand(rest), func(w string) string {
				if path.IsAbs(w) || w == declare.Unknown {
					return path.Clean(w)
				}
				return path.Join(filepath.ToSlash(m.file.Root()), m.dir, w)
			})
		},
		"if": func(m *makeReader, rest string) string {
			a := arguments(rest, 3)
			cond := m.expand(strings.TrimSpace(a[0]))
			if cond == declare.Unknown && len(a) > 1 {
				return declare.Unknown
			}
			if cond != "" && len(a) > 1 {
				return m.expand(a[1])
			}
			if cond == "" && len(a) > 2 {
				return m.expand(a[2])
			}
			return ""
		},
		"or": func(m *makeReader, rest string) string {
			for _, a := range arguments(rest, 0) {
				if v := m.expand(strings.TrimSpace(a)); v != "" {
					return v
				}
			}
			return ""
		},
		"and": func(m *makeReader, rest string) (v string) {
			for _, a := range arguments(rest, 0) {
				if v = m.expand(strings.TrimSpace(a)); v == "" {
					return ""
				}
			}
			return v
		},
		"foreach": func(m *makeReader, rest string) string {
			a := arguments(rest, 3)
			if len(a) < 3 {
				return ""
			}
			name := strings.TrimSpace(m.expand(a[0]))
			var out []string
			for _, w := range strings.Fields(m.expand(a[1])) {
				if w == declare.Unknown {
					continue
				}
				m.scopes = append(m.scopes, map[string]string{name: w})
				out = append(out, m.expand(a[2]))
				m.scopes = m.scopes[:len(m.scopes)-1]
			}
			return strings.Join(out, " ")
		},
		"call": func(m *makeReader, rest string) string {
			a := arguments(rest, 0)
			scope := map[string]string{}
			for i := range a {
				a[i] = m.expand(a[i])
				scope[strconv.Itoa(i)] = a[i]
			}
			name := strings.TrimSpace(a[0])
			scope["0"] = name
			for i := len(a); i < 10; i++ {
				scope[strconv.Itoa(i)] = ""
			}
			v, ok := m.get(name)
			if !ok {
				if f, ok := makeFunctions[name]; ok {
					return f(m, strings.Join(a[1:], ","))
				}
				return ""
			}
			m.scopes = append(m.scopes, scope)
			defer func() { m.scopes = m.scopes[:len(m.scopes)-1] }()
			if v.simple {
				return v.value
			}
			return m.expand(v.value)
		},
		"eval": func(m *makeReader, rest string) string {
			m.evaluate(m.expand(rest))
			return ""
		},
		"value": texts(1, func(m *makeReader, a []string) string {
			v, _ := m.get(strings.TrimSpace(a[0]))
			return v.value
		}),
		"origin": texts(1, func(m *makeReader, a []string) string {
			v, ok := m.get(strings.TrimSpace(a[0]))
			if !ok {
				return "undefined"
			}
			return v.origin
		}),
		"flavor": texts(1, func(m *makeReader, a []string) string {
			v, ok := m.get(strings.TrimSpace(a[0]))
			switch {
			case !ok:
				return "undefined"
			case v.simple:
				return "simple"
			}
			return "recursive"
		}),
		"shell":   texts(1, func(_ *makeReader, a []string) string { return withoutShell(a[0]) }),
		"guile":   func(*makeReader, string) string { return declare.Unknown },
		"file":    func(*makeReader, string) string { return "" },
		"error":   func(*makeReader, string) string { return "" },
		"warning": func(*makeReader, string) string { return "" },
		"info":    func(*makeReader, string) string { return "" },
	}
}

// withoutShell answers the few commands whose output is known without running them:
// which system this is.
func withoutShell(command string) string {
	command = strings.TrimSpace(strings.TrimSuffix(strings.TrimSpace(command), "2>/dev/null"))
	command = strings.TrimSpace(strings.TrimSuffix(command, "2> /dev/null"))
	switch command {
	case "uname", "uname -s":
		if runtime.GOOS == "darwin" {
			return "Darwin"
		}
		return strings.ToUpper(runtime.GOOS[:1]) + runtime.GOOS[1:]
	case "uname -m", "uname -p":
		if runtime.GOARCH == "amd64" {
			return "x86_64"
		}
		if runtime.GOARCH == "arm64" && runtime.GOOS == "linux" {
			return "aarch64"
		}
		return runtime.GOARCH
	}
	return declare.Unknown
}

// uncertain returns Unknown if the text has an unknown part, or "".
func uncertain(s string) string {
	if strings.Contains(s, declare.Unknown) {
		return declare.Unknown
	}
	return ""
}

func eachWord(s string, f func(string) string) string {
	w := strings.Fields(s)
	out := w[:0]
	for _, x := range w {
		if y := f(x); y != "" {
			out = append(out, y)
		}
	}
	return strings.Join(out, " ")
}

// stem matches a word against a pattern with one '%'.
func stem(pattern, word string) (string, bool) {
	i := strings.IndexByte(pattern, '%')
	if i < 0 {
		return "", pattern == word
	}
	pre, post := pattern[:i], pattern[i+1:]
	if len(word) < len(pre)+len(post) || !strings.HasPrefix(word, pre) || !strings.HasSuffix(word, post) {
		return "", false
	}
	return word[len(pre) : len(word)-len(post)], true
}

func patsubst(from, to, word string) string {
	s, ok := stem(from, word)
	if !ok {
		return word
	}
	if !strings.Contains(from, "%") {
		return to
	}
	return strings.Replace(to, "%", s, 1)
}

func filterWords(patterns, words string, keep bool) string {
	ps := strings.Fields(patterns)
	return eachWord(words, func(w string) string {
		for _, p := range ps {
			if _, ok := stem(p, w); ok {
				if keep {
					return w
				}
				return ""
			}
		}
		if keep && w != declare.Unknown {
			return ""
		}
		return w
	})
}

func wordlist(_ *makeReader, a []string) string {
	w := strings.Fields(a[2])
	from, to := declare.PlainNumber(a[0]), declare.PlainNumber(a[1])
	if from < 1 || from > len(w) || to < from {
		return ""
	}
	return strings.Join(w[from-1:min(to, len(w))], " ")
}

func pick(s string, i int) string {
	w := strings.Fields(s)
	if len(w) == 0 {
		return ""
	}
	if i < 0 {
		i = len(w) - 1
	}
	return w[i]
}

// wildcard lists files of the workspace; those outside are unknown.
func (m *makeReader) wildcard(patterns string) string {
	var out []string
	for _, p := range strings.Fields(patterns) {
		if strings.Contains(p, declare.Unknown) {
			out = append(out, declare.Unknown)
			continue
		}
		if folders, ok := strings.CutSuffix(p, "/"); ok {
			for _, name := range m.file.Glob(m.dir, folders) {
				if m.isFolder(name) {
					out = append(out, name+"/")
				}
			}
			continue
		}
		out = append(out, m.file.Glob(m.dir, p)...)
	}
	return strings.Join(out, " ")
}

// isFolder reports whether a path, relative to make's folder, is a folder.
func (m *makeReader) isFolder(name string) bool {
	p := path.Join(m.dir, name)
	for _, e := range m.file.List(path.Dir(p)) {
		if e.Name == path.Base(p) {
			return e.Type.IsDir()
		}
	}
	return false
}
