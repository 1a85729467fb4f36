package makefile

import (
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"tidytally/core/reader/declare"
	"tidytally/core/task"
)

// Makefiles are read as GNU make reads them (manual, chapters "Writing Makefiles",
// "Writing Rules", "How to Use Variables", "Conditional Parts of Makefiles",
// "Functions"), but nothing is run: what $(shell …) would give is unknown, and where
// a condition depends on it both sides are read.

func Wants(name string) bool {
	switch name {
	case "Makefile", "makefile", "GNUmakefile", "Makefile.in", "Makefile.am":
		return true
	}
	return false
}

const (
	makeMaxTargets = 20_000 // of each kind: intermediate ones, and those that people name
	makeMaxFiles   = 500
	makeMaxEvals   = 10_000
)

// makeReader is the state of reading one makefile and its includes.
type makeReader struct {
	file    *declare.File
	dir     string   // where make runs, relative to the workspace
	command []string // what is called with the name of a target; make if nil
	vars    map[string]makeVar
	found   declare.Found
	// template is "am" or "in" if a makefile will be made of the file, automake whether
	// automake made it.
	template string
	automake bool

	scopes []map[string]string // of foreach and call
	active map[string]bool     // variables under expansion
	depth  int
	steps  int
	evals  int
	told   map[string]bool

	at      place // of the line being read
	main    int   // the line of the main file that led here
	stack   []string
	files   int
	prefix  string
	open    []openRule // the targets that recipe lines belong to; nil outside of rules
	conds   []makeCond
	comment []string
	targets map[string]*makeTarget
	// intermediate is how many of the targets are made on the way to others. They are
	// bounded by themselves, so that they never displace one that people name.
	intermediate int
	order        []string
	phony        map[string]bool
	goal         string
	missing      []missingInclude
	both         bool // inside of a condition that could not be decided
	// maybe are earlier values of variables that were set in such a condition: make may
	// have left them as they were.
	maybe    map[string][]earlierVar
	inDefine *makeDefine
}

type place struct {
	file string
	line int
}

type makeTarget struct {
	name    string
	at      place
	main    int
	about   string
	needs   []string
	recipe  []string
	decided bool   // the place is that of the rule with the recipe
	under   string // the condition of the rule, if it could not be decided
}

// openRule is one rule of a target; recipe lines may follow.
type openRule struct {
	target *makeTarget
	at     place
	main   int
	double bool // a double-colon rule: it adds a recipe, and replaces none
}

type makeCond struct {
	taken   bool // a branch has been taken
	reading bool
	unsure  bool
	text    string // as it is written, "" if the condition has no line of its own
}

type missingInclude struct {
	name string
	at   place
}

type makeDefine struct {
	name  string
	op    string
	lines []string
	depth int
	at    place
}

// Read reads a makefile.
func Read(f *declare.File) declare.Found {
	m := &makeReader{
		file: f, dir: path.Dir(f.Path),
		vars: map[string]makeVar{}, active: map[string]bool{}, told: map[string]bool{},
		targets: map[string]*makeTarget{}, phony: map[string]bool{}, prefix: "\t", template: templateOf(f.Path), automake: madeByAutomake(f.Data),
	}
	base := path.Base(f.Path)
	if madeByCMake(f) || m.template != "" && superseded(f, m.dir, m.template) {
		return declare.Found{}
	}
	if InDebian(m.dir, base) { // it runs where the folder is
		m.dir, m.command = path.Dir(m.dir), []string{"make", "-f", "debian/rules"}
	}
	if base != "GNUmakefile" && f.Exists(path.Join(m.dir, "GNUmakefile")) || base == "Makefile" && f.Exists(path.Join(m.dir, "makefile")) {
		return declare.Found{} // make never looks at this one
	}
	m.vars["CURDIR"] = makeVar{value: path.Join(f.Root(), m.dir), simple: true, origin: "file"}
	m.vars["MAKEFILE_LIST"] = makeVar{value: " " + base, simple: true, origin: "file"}
	m.read(f.Path, m.substituted(f.Data))
	for _, inc := range m.missing {
		if m.targets[inc.name] == nil {
			m.faultAt(inc.at, fmt.Sprintf("include %s: there is no such file; the rest of the file was read", inc.name))
		}
	}
	m.automakeTasks()
	m.tasks()
	m.markTemplate()
	return m.found
}

func (m *makeReader) faultAt(at place, message string) {
	m.fault(task.Fault{File: at.file, Line: at.line, Message: message})
}

func (m *makeReader) fault(f task.Fault) {
	if len(m.found.Faults) < 100 {
		m.found.Faults = append(m.found.Faults, f)
	}
}

// limits are the sorts of faults that report a limit of this reader, not a mistake.
var limits = map[string]bool{"limit": true, "maybe": true, "files": true, "intermediate": true, "targets": true}

// faultOnce reports a fault, one of each sort per file.
func (m *makeReader) faultOnce(sort, message string) {
	if !m.told[sort] {
		m.told[sort] = true
		m.fault(task.Fault{File: m.at.file, Line: m.at.line, Message: message, Limit: limits[sort]})
	}
}

// read reads the lines of one file.
func (m *makeReader) read(name string, data []byte) {
	if slices.Contains(m.stack, name) {
		m.faultAt(m.at, fmt.Sprintf("include cycle through %s; the rest of the file was read", path.Base(name)))
		return
	}
	if m.files++; m.files > makeMaxFiles {
		m.faultOnce("files", fmt.Sprintf("more than %d included files; the others were not read", makeMaxFiles))
		return
	}
	m.stack = append(m.stack, name)
	saved, conds, comment := m.at, m.conds, m.comment
	m.conds, m.comment, m.open = nil, nil, nil
	m.lines(name, strings.TrimPrefix(string(data), "\ufeff"), 1)
	if len(m.conds) > 0 {
		m.faultAt(m.at, "missing endif; the file was read to its end")
	}
	if m.inDefine != nil {
		m.faultAt(m.inDefine.at, "missing endef: the definition of "+m.inDefine.name+" is not closed")
		m.inDefine = nil
	}
	m.at, m.conds, m.comment, m.open = saved, conds, comment, nil
	m.stack = m.stack[:len(m.stack)-1]
}

// lines reads a text that starts at a line of the file. With line 0, all of it
// counts as the place where it was evaluated.
func (m *makeReader) lines(file, text string, line int) {
	fixed := line == 0
	for len(text) > 0 {
		start := line
		var raw string
		raw, text, line = declare.CutLine(text, line)
		if !fixed {
			m.at = place{file, start}
			if len(m.stack) == 1 {
				m.main = start
			}
		}
		if m.inDefine != nil {
			m.define(raw)
			continue
		}
		if m.prefix != "" && strings.HasPrefix(raw, m.prefix) && m.open != nil && m.reading() {
			text, line = m.recipe(raw[len(m.prefix):], text, line)
			continue
		}
		// A backslash joins lines: one blank replaces it and the blanks around it.
		logical := strings.TrimRight(raw, " \t")
		if strings.HasSuffix(raw, `\`) {
			logical, text, line = joinLines(raw, text, line)
		}
		m.logical(logical)
	}
}

// continued reports whether a line ends in an odd number of backslashes.
func continued(s string) bool {
	n := 0
	for n < len(s) && s[len(s)-1-n] == '\\' {
		n++
	}
	return n%2 == 1
}

func joinLines(raw, text string, line int) (joined, rest string, next int) {
	var b strings.Builder
	for continued(raw) {
		b.WriteString(strings.TrimRight(raw[:len(raw)-1], " \t"))
		b.WriteByte(' ')
		if text == "" {
			raw = ""
			break
		}
		raw, text, line = declare.CutLine(text, line)
		raw = strings.TrimLeft(raw, " \t")
	}
	b.WriteString(raw)
	return b.String(), text, line
}

// recipe reads a recipe line with the lines that continue it.
func (m *makeReader) recipe(first, text string, line int) (string, int) {
	m.addRecipe(first)
	for continued(first) && text != "" {
		first, text, line = declare.CutLine(text, line)
		m.addRecipe(strings.TrimPrefix(first, m.prefix))
	}
	return text, line
}

func (m *makeReader) addRecipe(s string) {
	for i := range m.open {
		r := &m.open[i]
		t := r.target
		if !t.decided || t.at != r.at && !r.double {
			// The rule with the recipe is the one that counts, the last of several.
			t.at, t.main, t.decided, t.recipe = r.at, r.main, true, nil
		}
		if len(t.recipe) < 500 {
			t.recipe = append(t.recipe, s)
		}
	}
}

func (m *makeReader) reading() bool {
	for _, c := range m.conds {
		if !c.reading {
			return false
		}
	}
	return true
}

// logical reads one line that is no recipe.
func (m *makeReader) logical(s string) {
	trimmed := strings.TrimLeft(s, " \t")
	if trimmed == "" {
		m.comment = m.comment[:0]
		return
	}
	if trimmed[0] == '#' {
		m.comment = append(m.comment, trimmed)
		return
	}
	word, rest := declare.CutWord(trimmed)
	if m.conditional(word, rest) || !m.reading() {
		m.comment = m.comment[:0]
		return
	}
	s = stripComment(trimmed)
	plain, about := s, ""
	if len(s) < len(trimmed) {
		about = trimmed[len(s):]
	}
	s = strings.TrimRight(plain, " \t")
	word, rest = declare.CutWord(s)
	if m.directive(word, rest) || m.assignment(s, "file") {
		m.comment, m.open = m.comment[:0], nil
		return
	}
	m.rule(s, about)
	m.comment = m.comment[:0]
}

// stripComment cuts a comment off, unless its '#' is quoted or inside of a
// reference.
func stripComment(s string) string {
	depth := 0
	for i := 0; i < len(s); i++ {
		switch s[i] {
		case '\\':
			i++
		case '(', '{':
			if i > 0 && s[i-1] == '$' || depth > 0 {
				depth++
			}
		case ')', '}':
			if depth > 0 {
				depth--
			}
		case '#':
			if depth == 0 {
				return s[:i]
			}
		}
	}
	return s
}

// conditional reads ifeq, ifneq, ifdef, ifndef, else and endif.
func (m *makeReader) conditional(word, rest string) bool {
	switch word {
	case "if":
		if m.template != "am" { // automake manual, "Usage of Conditionals"
			return false
		}
		m.conds = append(m.conds, makeCond{taken: true, reading: true, unsure: true, text: conditionText(word, rest)})
	case "ifeq", "ifneq", "ifdef", "ifndef":
		c := makeCond{}
		if m.reading() {
			c = m.decide(word, rest)
			c.text = conditionText(word, rest)
		} else {
			c.taken = true // whatever it says, no branch is read
		}
		m.conds = append(m.conds, c)
	case "else":
		if len(m.conds) == 0 {
			m.faultOnce("else", "else without a condition; the rest of the file was read")
			return true
		}
		c := &m.conds[len(m.conds)-1]
		rest = stripComment(rest)
		switch {
		case c.unsure: // the other side is read too
			c.text = "the else of " + strings.TrimPrefix(c.text, "the else of ")
		case c.taken:
			c.reading = false
		case strings.TrimSpace(rest) != "":
			inner, innerRest := declare.CutWord(rest)
			c.reading = true // so that reading tells of the outer conditions
			if m.reading() {
				*c = m.decide(inner, innerRest)
				c.text = conditionText(inner, innerRest)
			}
		default:
			c.taken, c.reading = true, true
		}
	case "endif":
		if len(m.conds) == 0 {
			m.faultOnce("endif", "endif without a condition; the rest of the file was read")
			return true
		}
		m.conds = m.conds[:len(m.conds)-1]
	default:
		return false
	}
	m.both = slices.ContainsFunc(m.conds, func(c makeCond) bool { return c.unsure })
	return true
}

// conditionText returns a condition as it is shown: one line.
func conditionText(word, rest string) string {
	return declare.Shorten(word + " " + stripComment(rest))
}

// undecided returns the conditions around the line being read that could not be decided.
func (m *makeReader) undecided() string {
	var texts []string
	for _, c := range m.conds {
		if c.unsure && c.text != "" {
			texts = append(texts, c.text)
		}
	}
	if len(texts) == 0 {
		return "what only a run tells"
	}
	return strings.Join(texts, ", ")
}

// decide evaluates a condition.
func (m *makeReader) decide(word, rest string) makeCond {
	rest = strings.TrimSpace(stripComment(rest))
	switch word {
	case "ifdef", "ifndef":
		name := strings.TrimSpace(m.expand(rest))
		if strings.Contains(name, declare.Unknown) {
			return makeCond{taken: true, reading: true, unsure: true}
		}
		return m.decided(func() bool {
			v, ok := m.get(name)
			return (ok && v.value != "") == (word == "ifdef")
		}, "$("+name+")")
	case "ifeq", "ifneq":
		a, b, ok := comparands(rest)
		if !ok {
			m.faultOnce("condition", "invalid syntax in conditional; both sides were read")
			return makeCond{taken: true, reading: true, unsure: true}
		}
		unknown := false
		c := m.decided(func() bool {
			a, b := strings.TrimSpace(m.expand(a)), strings.TrimSpace(m.expand(b))
			unknown = unknown || strings.Contains(a, declare.Unknown) || strings.Contains(b, declare.Unknown)
			return (a == b) == (word == "ifeq")
		}, a, b)
		if unknown {
			return makeCond{taken: true, reading: true, unsure: true}
		}
		return c
	}
	m.faultOnce("condition", "invalid syntax in conditional; both sides were read")
	return makeCond{taken: true, reading: true, unsure: true}
}

// decided evaluates a condition with all values that variables may have.
func (m *makeReader) decided(yes func() bool, texts ...string) makeCond {
	var c makeCond
	m.eachPossible(func(now bool) {
		switch holds := yes(); {
		case now:
			c.taken, c.reading = holds, holds
		case holds != c.taken:
			c.unsure = true
		}
	}, texts...)
	if c.unsure {
		c.taken, c.reading = true, true
	}
	return c
}

// comparands reads (a,b), "a" "b" and 'a' 'b'.
func comparands(s string) (a, b string, ok bool) {
	if s == "" {
		return "", "", false
	}
	if s[0] == '(' {
		end := closing(s, 0)
		if end < 0 {
			return "", "", false
		}
		args := arguments(s[1:end], 2)
		if len(args) != 2 {
			return "", "", false
		}
		return strings.TrimRight(args[0], " \t"), strings.TrimLeft(args[1], " \t"), true
	}
	quoted := func(s string) (string, string, bool) {
		s = strings.TrimLeft(s, " \t")
		if s == "" || s[0] != '"' && s[0] != '\'' {
			return "", "", false
		}
		end := strings.IndexByte(s[1:], s[0])
		if end < 0 {
			return "", "", false
		}
		return s[1 : 1+end], s[2+end:], true
	}
	if a, s, ok = quoted(s); !ok {
		return "", "", false
	}
	b, _, ok = quoted(s)
	return a, b, ok
}

// directive reads include, define, export and the like.
func (m *makeReader) directive(word, rest string) bool {
	switch word {
	case "include", "-include", "sinclude":
		if strings.HasPrefix(rest, ":") || strings.HasPrefix(rest, "=") {
			return false
		}
		m.include(rest, word == "include")
	case "define":
		m.beginDefine(rest)
	case "override", "export", "private", "unexport":
		if rest == "" || word == "unexport" {
			return true
		}
		inner, innerRest := declare.CutWord(rest)
		if inner == "define" {
			m.beginDefine(innerRest)
			return true
		}
		if inner == "override" || inner == "export" || inner == "private" {
			return m.directive(inner, innerRest)
		}
		if !m.assignment(rest, word) && word != "export" {
			return false
		}
	case "undefine":
		delete(m.vars, strings.TrimSpace(m.expand(rest)))
	case "vpath", "load", "-load":
		return !strings.HasPrefix(rest, ":")
	case "endef":
		m.faultOnce("endef", "endef without define; the rest of the file was read")
	default:
		return false
	}
	return true
}

func (m *makeReader) beginDefine(rest string) {
	name := strings.TrimSpace(rest)
	op := "="
	for _, o := range []string{":::=", "::=", ":=", "+=", "?=", "!=", "="} {
		if n, ok := strings.CutSuffix(name, o); ok {
			name, op = strings.TrimSpace(n), o
			break
		}
	}
	m.inDefine = &makeDefine{name: m.expand(name), op: op, at: m.at}
}

// define reads a line of a definition.
func (m *makeReader) define(raw string) {
	d := m.inDefine
	trimmed := strings.TrimLeft(raw, " ")
	word, _ := declare.CutWord(strings.TrimSpace(stripComment(trimmed)))
	switch {
	case word == "define" && !strings.HasPrefix(raw, "\t"):
		d.depth++
	case word == "endef":
		if d.depth == 0 {
			m.inDefine = nil
			m.set(d.name, d.op, strings.Join(d.lines, "\n"), "file", d.at)
			return
		}
		d.depth--
	}
	if len(d.lines) < 10_000 {
		d.lines = append(d.lines, raw)
	}
}

// assignment reads name = value and its kin.
func (m *makeReader) assignment(s, origin string) bool {
	name, op, value, ok := splitAssignment(s)
	if !ok {
		return false
	}
	name = strings.TrimSpace(m.expand(name))
	if name == "" || strings.ContainsAny(name, " \t") && !strings.Contains(name, declare.Unknown) {
		return name == ""
	}
	m.set(name, op, value, origin, m.at)
	return true
}

// splitAssignment finds the operator of an assignment; a ':' that comes first
// makes the line a rule.
func splitAssignment(s string) (name, op, value string, ok bool) {
	depth := 0
	for i := 0; i < len(s); i++ {
		switch c := s[i]; c {
		case '$':
			if i+1 < len(s) && s[i+1] != '(' && s[i+1] != '{' {
				i++
			}
		case '(', '{':
			depth++
		case ')', '}':
			depth--
		case ':', '=', '+', '?', '!':
			if depth > 0 {
				continue
			}
			rest := s[i:]
			for _, o := range []string{":::=", "::=", ":=", "+=", "?=", "!=", "="} {
				if strings.HasPrefix(rest, o) {
					name = strings.TrimSpace(s[:i])
					return name, o, strings.TrimLeft(rest[len(o):], " \t"), name != ""
				}
			}
			if c == ':' {
				return "", "", "", false
			}
		case ' ', '\t':
			// A name is one word: after it only an operator may come.
			if depth > 0 {
				continue
			}
			rest := strings.TrimLeft(s[i:], " \t")
			if rest == "" || strings.IndexByte(":=+?!", rest[0]) < 0 {
				return "", "", "", false
			}
		}
	}
	return "", "", "", false
}

func (m *makeReader) set(name, op, value, origin string, at place) {
	old, had := m.vars[name]
	if had && old.origin == "override" && origin != "override" {
		return
	}
	v := makeVar{value: value, origin: origin, file: at.file, line: at.line}
	if origin != "override" {
		v.origin = "file"
	}
	switch op {
	case "?=":
		if had {
			return
		}
		if _, builtin := builtinVars[name]; builtin {
			return
		}
		v.plain = true
	case ":=", "::=", ":::=":
		v.value, v.simple = m.expand(value), true
	case "!=":
		v.value, v.simple = withoutShell(value), true
	case "+=":
		if b, ok := m.get(name); ok {
			v.simple, v.plain = b.simple, b.plain
			if v.simple {
				value = m.expand(value)
			}
			if len(b.value)+len(value) > makeMaxText {
				m.faultOnce("limit", "variable "+name+" grew over a limit; targets may be missing")
				return
			}
			v.value = b.value + " " + value
		}
	}
	// In a branch that make may not take, the old value stays possible too; the
	// newer one is the better guess.
	switch {
	case m.both:
		m.keepEarlier(name)
	case op != "+=" && op != "?=":
		delete(m.maybe, name)
	}
	m.vars[name] = v
	if name == ".RECIPEPREFIX" {
		if m.prefix = "\t"; v.value != "" {
			m.prefix = v.value[:1]
		}
	}
	if name == ".DEFAULT_GOAL" {
		m.goal = strings.TrimSpace(m.expand(v.value))
	}
}

// earlierVar is an earlier value of a variable, if it had one.
type earlierVar struct {
	makeVar
	set bool
}

const (
	// maxEarlier is the number of earlier values that are kept of a variable, and
	// maxMaybe that of such variables. Each costs a further expansion of each rule.
	maxEarlier = 4
	maxMaybe   = 64
)

// keepEarlier notes the value of a variable that is about to be set in a condition that
// could not be decided.
func (m *makeReader) keepEarlier(name string) {
	old, set := m.vars[name]
	kept := m.maybe[name]
	if len(kept) >= maxEarlier || kept == nil && len(m.maybe) >= maxMaybe {
		m.faultOnce("maybe", "variable "+name+" depends on too many conditions that cannot be decided; targets may be missing")
		return
	}
	if m.maybe == nil {
		m.maybe = map[string][]earlierVar{}
	}
	m.maybe[name] = append(kept, earlierVar{old, set})
}

// eachPossible calls f with the variables as they are, and then with each earlier value
// that a variable of the texts may still have.
func (m *makeReader) eachPossible(f func(now bool), texts ...string) {
	f(true)
	if len(m.maybe) == 0 {
		return
	}
	used := map[string]bool{}
	all := false
	for _, text := range texts {
		all = m.uses(text, used) || all
	}
	for _, name := range slices.Sorted(maps.Keys(m.maybe)) {
		if !all && !used[name] {
			continue
		}
		current, set := m.vars[name]
		for _, earlier := range m.maybe[name] {
			if earlier.set {
				m.vars[name] = earlier.makeVar
			} else {
				delete(m.vars, name)
			}
			f(false)
		}
		if set {
			m.vars[name] = current
		} else {
			delete(m.vars, name)
		}
	}
}

// uses collects the variables that a text refers to, directly or through others. It
// returns true if it cannot tell, because a name is computed.
func (m *makeReader) uses(text string, used map[string]bool) (computed bool) {
	for i := strings.IndexByte(text, '$'); i >= 0 && i+1 < len(text) && len(used) < 1000; {
		rest := text[i+1:]
		name := rest[:1]
		if name == "(" || name == "{" {
			end := strings.IndexAny(rest[1:], "(){}:, \t$")
			if end < 0 {
				end = len(rest) - 1
			}
			if name = rest[1 : 1+end]; name == "call" || 1+end < len(rest) && rest[1+end] == '$' {
				return true
			}
		}
		if !used[name] && name != "$" {
			used[name] = true
			if v, ok := m.vars[name]; ok {
				computed = m.uses(v.value, used) || computed
			}
			for _, earlier := range m.maybe[name] {
				computed = m.uses(earlier.value, used) || computed
			}
		}
		next := strings.IndexByte(text[i+2:], '$')
		if next < 0 {
			break
		}
		i += 2 + next
	}
	return computed
}

// include reads other makefiles. Their names are relative to the folder where make
// runs.
func (m *makeReader) include(rest string, must bool) {
	for _, name := range strings.Fields(m.expand(rest)) {
		if strings.Contains(name, declare.Unknown) {
			continue
		}
		names := []string{name}
		if strings.ContainsAny(name, "*?[") {
			names = m.file.Glob(m.dir, name)
		}
		for _, n := range names {
			rel := n
			if path.IsAbs(n) {
				r, ok := strings.CutPrefix(path.Clean(n), m.file.Root()+"/")
				if !ok {
					why := "lies outside the workspace"
					if unset := m.unset(rest); unset != "" {
						why = "$(" + unset + ") is not set here"
					}
					m.fault(task.Fault{File: m.at.file, Line: m.at.line, Message: fmt.Sprintf("include %s: %s; it was not read", strings.TrimSpace(rest), why), Limit: true})
					continue
				}
				rel = r
			} else {
				rel = path.Join(m.dir, n)
			}
			if !m.file.Exists(rel) {
				if must {
					m.missing = append(m.missing, missingInclude{n, m.at})
				}
				continue
			}
			data, err := m.file.Open(rel)
			if err != nil {
				m.faultAt(m.at, fmt.Sprintf("include %s: %v; the rest of the file was read", n, err))
				continue
			}
			list := m.vars["MAKEFILE_LIST"]
			list.value += " " + n
			m.vars["MAKEFILE_LIST"] = list
			m.read(rel, data)
		}
	}
}

// evaluate reads a text that $(eval …) made.
func (m *makeReader) evaluate(text string) {
	if m.evals++; m.evals > makeMaxEvals || len(text) > makeMaxText {
		m.faultOnce("limit", "expansion stopped at a limit; targets may be missing")
		return
	}
	conds, open, comment, define := m.conds, m.open, m.comment, m.inDefine
	m.conds, m.open, m.comment, m.inDefine = nil, nil, nil, nil
	m.lines("", text, 0)
	m.conds, m.open, m.comment, m.inDefine = conds, open, comment, define
}

// rule reads "targets : prerequisites ; recipe".
func (m *makeReader) rule(s, comment string) {
	m.open = nil
	// The recipe behind a ';' is not expanded. The ';' counts outside of references
	// only.
	inline := ""
	hasInline := false
	if i := topByte(s, ';'); i >= 0 {
		inline, hasInline, s = s[i+1:], true, s[:i]
	}
	text := m.expand(s)
	if strings.TrimSpace(text) == "" {
		return // $(eval …), $(info …) alone on a line
	}
	several := len(m.maybe) > 0 && strings.Contains(s, "$") && !strings.Contains(s, "$(eval") && !strings.Contains(s, "$(call")
	if several {
		both, read := m.both, map[string]bool{text: true}
		var open []openRule
		m.eachPossible(func(now bool) {
			other := m.expand(s)
			if now || read[other] || strings.TrimSpace(other) == "" {
				return
			}
			read[other], m.both = true, true
			m.ruleOf(s, other, comment)
			open = append(open, m.open...)
		}, s)
		m.both, m.open = both, nil
		defer func() { // recipe lines are those of all
			m.open = append(m.open, open...)
			if hasInline {
				m.addRecipe(strings.TrimSpace(inline))
			}
		}()
	}
	m.ruleOf(s, text, comment)
	if hasInline && !several {
		m.addRecipe(strings.TrimSpace(inline))
	}
}

// ruleOf reads a rule s that was expanded to text.
func (m *makeReader) ruleOf(s, text, comment string) {
	m.open = nil
	if strings.Contains(text, "\n") && strings.Contains(s, "$") {
		// A call that returned several lines without eval: make refuses it too.
		m.faultOnce("lines", "an expansion gives several lines outside of $(eval); they were not read")
		return
	}
	colon := targetColon(text)
	if colon < 0 {
		if m.unreadable(s) {
			m.faultOnce("separator", "missing separator; the rest of the file was read")
		}
		return
	}
	left, right := text[:colon], text[colon+1:]
	double := strings.HasPrefix(right, ":")
	right = strings.TrimPrefix(right, ":")
	if l, ok := strings.CutSuffix(strings.TrimRight(left, " \t"), "&"); ok {
		left = l
	}
	// target: VAR = value sets a variable for a target and makes no rule.
	if isTargetVariable(s) {
		return
	}
	prerequisites, static := right, ""
	if i := targetColon(right); i >= 0 {
		static, prerequisites = strings.TrimSpace(right[:i]), right[i+1:]
	}
	prerequisites = strings.ReplaceAll(prerequisites, "|", " ")
	needs := strings.Fields(prerequisites)
	targets := strings.Fields(unescapeTarget(left))
	if len(targets) == 1 && targets[0] == ".PHONY" {
		for _, n := range needs {
			m.phony[n] = true
		}
		return
	}
	about := m.describe(comment)
	m.open = []openRule{}
	for _, name := range targets {
		name = strings.TrimPrefix(strings.ReplaceAll(name, spaceMark, " "), "./")
		if name == "" || strings.Contains(name, declare.Unknown) || static == "" && strings.Contains(name, "%") || specialTarget(name) {
			continue
		}
		of := needs
		if static != "" {
			of = nil
			if st, ok := stem(static, name); ok {
				for _, n := range needs {
					of = append(of, strings.Replace(n, "%", st, 1))
				}
			}
		}
		if t := m.target(name, about, of); t != nil {
			m.open = append(m.open, openRule{t, m.at, m.main, double})
		}
	}
}

const spaceMark = "\x01"

func unescapeTarget(s string) string { return targetEscapes.Replace(s) }

var targetEscapes = strings.NewReplacer(`\ `, spaceMark, `\:`, ":", `\#`, "#", `$$`, "$")

// unreadable reports whether make would stop at a line without a separator. A line
// left by an unknown expansion is not such a line.
func (m *makeReader) unreadable(s string) bool {
	return !strings.Contains(m.expand(s), declare.Unknown) && !m.both
}

func topByte(s string, want byte) int {
	depth := 0
	for i := 0; i < len(s); i++ {
		switch s[i] {
		case '(', '{':
			if i > 0 && s[i-1] == '$' || depth > 0 {
				depth++
			}
		case ')', '}':
			if depth > 0 {
				depth--
			}
		case want:
			if depth == 0 && (i == 0 || s[i-1] != '\\') {
				return i
			}
		}
	}
	return -1
}

// targetColon returns the index of the colon behind the targets; a quoted one, or
// that of a drive letter, does not count.
func targetColon(s string) int {
	for i := 0; i < len(s); i++ {
		if s[i] == '\\' {
			i++
			continue
		}
		if s[i] == ':' {
			if i > 0 && i+1 < len(s) && (s[i+1] == '/' || s[i+1] == '\\') && (i == 1 || s[i-2] == ' ') && s[i-1] != ' ' && s[i+1] == '\\' {
				continue
			}
			return i
		}
	}
	return -1
}

// isTargetVariable reports whether a line is "target: NAME = value" and no rule.
func isTargetVariable(s string) bool {
	i := topByte(s, ':')
	if i < 0 {
		return false
	}
	rest := strings.TrimLeft(strings.TrimLeft(s[i+1:], ":"), " \t")
	for {
		word, more := declare.CutWord(rest)
		if word == "export" || word == "override" || word == "private" || word == "unexport" {
			rest = more
			continue
		}
		break
	}
	_, _, _, ok := splitAssignment(rest)
	return ok
}

// specialTarget reports whether a name is one of make's own targets or a suffix
// rule.
func specialTarget(name string) bool {
	if name[0] != '.' || strings.Contains(name, "/") {
		return false
	}
	rest := name[1:]
	if strings.ToUpper(rest) == rest && rest != "" {
		return true // .PHONY, .SUFFIXES, .DEFAULT …
	}
	return strings.Count(name, ".") == 2 || suffixes[name] // .c.o, .c
}

var suffixes = map[string]bool{".c": true, ".cc": true, ".cpp": true, ".o": true, ".y": true, ".l": true, ".sh": true, ".f": true, ".s": true, ".S": true, ".txt": true, ".tex": true}

func (m *makeReader) target(name, about string, needs []string) *makeTarget {
	t := m.targets[name]
	if t == nil {
		intermediate := madeOnTheWay(name) && !m.phony[name]
		switch {
		case intermediate && m.intermediate >= makeMaxTargets:
			m.faultOnce("intermediate", fmt.Sprintf("more than %d intermediate targets; the others are not listed", makeMaxTargets))
			return nil
		case !intermediate && len(m.targets)-m.intermediate >= makeMaxTargets:
			m.faultOnce("targets", fmt.Sprintf("more than %d targets; the others are not listed", makeMaxTargets))
			return nil
		case intermediate:
			m.intermediate++
		}
		t = &makeTarget{name: name, at: m.at, main: m.main}
		if m.both {
			t.under = m.undecided()
		}
		m.targets[name] = t
		m.order = append(m.order, name)
		if m.goal == "" && (name[0] != '.' || strings.Contains(name, "/")) {
			m.goal = name
		}
	}
	if t.about == "" {
		t.about = about
	}
	if len(t.needs) < 1000 {
		t.needs = append(t.needs, needs...)
	}
	return t
}

// describe returns the "##" comment of the rule, or the comment lines right above
// it.
func (m *makeReader) describe(comment string) string {
	if text, ok := strings.CutPrefix(comment, "##"); ok {
		return declare.Shorten(strings.TrimLeft(text, "#!?:@ \t"))
	}
	var words []string
	for _, c := range m.comment {
		text := strings.TrimSpace(strings.TrimLeft(c, "#!?:@"))
		if strings.Trim(text, "-=*#~_+./ ") == "" {
			words = nil // a ruled line: what stands above is a title
			continue
		}
		words = append(words, text)
	}
	return declare.Shorten(strings.Join(words, " "))
}

// tasks turns the targets into tasks.
func (m *makeReader) tasks() {
	base := path.Base(m.file.Path)
	shared := m.overridable()
	for _, name := range m.order {
		t := m.targets[name]
		phony := m.phony[name]
		if strings.ContainsAny(name, "\n=") || len(name) > 500 {
			continue // cannot be given to make as a goal
		}
		kind, why, stays := m.kindOf(name, t)
		k := &task.Task{
			Name: name, Source: "make", File: m.file.Path, Line: t.at.line, Manner: task.Declared,
			Dir: m.dir, About: t.about, Kind: kind, Default: name == m.goal,
			Hidden:        (!phony && madeOnTheWay(name) || m.ofItself(name)) && name != m.goal,
			Script:        strings.Join(t.recipe, "\n"),
			ScriptInFile:  true,
			Prerequisites: m.goals(t.needs),
		}
		argv := []string{"make"}
		if m.command != nil {
			argv = slices.Clone(m.command)
		}
		ask := append(slices.Clone(argv), "--question") // GNU make manual, 9.8 Summary of Options
		if strings.HasPrefix(name, "-") {
			argv, ask = append(argv, "--"), append(ask, "--")
		}
		k.Command, k.Question.Command = task.Command{Argv: append(argv, name)}, task.Command{Argv: append(ask, name)}
		k.LongRunning = stays && task.LongRunningOf(name, k.Script)
		if why != "" {
			k.SetOrigin("kind", task.Origin{File: m.file.Path, Line: t.at.line, Manner: task.Inferred, Note: why})
		}
		if t.at.file != m.file.Path && t.at.file != "" {
			k.Line = t.main
			k.SetOrigin("name", task.Origin{File: t.at.file, Line: t.at.line, Manner: task.Declared, Note: "included by " + base})
		}
		if t.under != "" {
			o := k.Origin("name")
			o.Note = strings.TrimPrefix(o.Note+"; depends on "+t.under, "; ")
			k.SetOrigin("name", o)
		}
		if !m.automake { // whose variables are its own
			k.Args = m.args(t, shared)
		}
		m.found.Tasks = append(m.found.Tasks, k)
	}
}

// madeOnTheWay reports whether a target is intermediate: a file name with a folder
// or an ending.
func madeOnTheWay(name string) bool {
	return strings.Contains(name, "/") || path.Ext(name) != "" && path.Ext(name) != name
}

// goals keeps those prerequisites that are targets themselves.
func (m *makeReader) goals(needs []string) []string {
	var out []string
	for _, n := range needs {
		if t := m.targets[n]; t != nil && (m.phony[n] || !madeOnTheWay(n)) && !slices.Contains(out, n) {
			out = append(out, n)
		}
	}
	return out
}

const maxArgs = 24

// overridable names the variables that are meant to be set from outside.
func (m *makeReader) overridable() []string {
	var names []string
	for name, v := range m.vars {
		if v.plain && len(names) < maxArgs {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names
}

// args offers the variables that the recipe uses, and those set with "?=".
func (m *makeReader) args(t *makeTarget, shared []string) []task.Arg {
	names := slices.Clone(shared)
	for _, line := range t.recipe {
		for _, n := range referenced(line) {
			if v, ok := m.vars[n]; ok && v.origin == "file" && len(v.value) < 200 && !slices.Contains(names, n) && len(names) < maxArgs {
				names = append(names, n)
			}
		}
	}
	var args []task.Arg
	for _, n := range names {
		v := m.vars[n]
		value := v.value
		if !v.simple {
			value = m.expand(value)
		}
		a := task.Arg{Name: n, Default: strings.TrimSpace(value)}
		if strings.Contains(a.Default, declare.Unknown) {
			a.Default, a.About = "", "its default is known only when make runs"
		}
		args = append(args, a)
	}
	return args
}

// referenced names the plain variables that a recipe line refers to.
func referenced(s string) []string {
	var names []string
	for i := 0; i+2 < len(s); i++ {
		if s[i] != '$' {
			continue
		}
		if s[i+1] == '$' {
			i++
			continue
		}
		if s[i+1] != '(' && s[i+1] != '{' {
			continue
		}
		end := closing(s, i+1)
		if end < 0 {
			break
		}
		if body := s[i+2 : end]; body != "" && !strings.ContainsAny(body, " \t:$(){}") {
			names = append(names, body)
		}
	}
	return names
}
