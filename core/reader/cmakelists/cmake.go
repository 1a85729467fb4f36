package cmakelists

import (
	"cmp"
	"fmt"
	"maps"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"tidytally/core/reader/declare"
	"tidytally/core/task"
)

// CMake projects (cmake-language(7), cmake-commands(7)). The commands that set
// variables, make targets and tests, loop, branch and call are followed with the
// values that are plain; where a condition depends on what only a configure run
// knows, both sides are read.

func Wants(name string) bool { return name == "CMakeLists.txt" }

const (
	cmakeMaxCommands = 200_000
	cmakeMaxDepth    = 60
	defaultBuild     = "build" // the folder to build in if none is configured
)

type cmakeCommand struct {
	name string
	args []cmakeArg
	line int
}

type cmakeArg struct {
	text   string
	quoted bool
	raw    bool // a bracket argument: nothing is replaced in it
}

type cmakeFunction struct {
	params []string
	body   []cmakeCommand
	file   string
	macro  bool
}

type cmakeReader struct {
	file  *declare.File
	root  string // folder of the top CMakeLists.txt
	build string // the folder that is built in, relative to root
	// conditions are those around what is read that could not be decided.
	conditions []string
	// setup is what must be done before anything can be built; the zero value if it is done.
	setup     task.Setup
	found     *declare.Found
	functions map[string]cmakeFunction
	steps     int
	seen      map[string]bool
	names     map[string]bool
	tests     bool
	installs  bool
	limit     bool
	included  map[string]bool
	// maybe are other values that variables may have, because a condition could not be
	// decided.
	maybe map[string][]maybeValue
}

type cmakeScope struct {
	vars   map[string]string
	parent *cmakeScope
	dir    string // current source folder
	file   string
}

func (s *cmakeScope) get(name string) (string, bool) {
	for ; s != nil; s = s.parent {
		if v, ok := s.vars[name]; ok {
			return v, v != declare.Unknown
		}
	}
	return "", false
}

// known reports whether a variable was set to something, even if unknown.
func (s *cmakeScope) has(name string) bool {
	for ; s != nil; s = s.parent {
		if _, ok := s.vars[name]; ok {
			return true
		}
	}
	return false
}

func Read(f *declare.File) (found declare.Found) {
	dir := path.Dir(f.Path)
	for at := dir; at != "."; {
		at = path.Dir(at)
		if f.Exists(path.Join(at, "CMakeLists.txt")) {
			return found // read from there
		}
	}
	c := cmakeReader{file: f, root: dir, found: &found, functions: map[string]cmakeFunction{}, seen: map[string]bool{}, names: map[string]bool{}, included: map[string]bool{}}
	scope := &cmakeScope{vars: map[string]string{
		"CMAKE_SYSTEM_NAME": "Linux", "UNIX": "1", "CMAKE_CURRENT_LIST_FILE": f.Path, "CMAKE_BUILD_TYPE": "", "CMAKE_C_COMPILER_ID": "GNU", "CMAKE_CXX_COMPILER_ID": "GNU",
		"CMAKE_VERSION": "3.25.1", "CMAKE_SOURCE_DIR": dir, "BUILD_SHARED_LIBS": "", "CMAKE_GENERATOR": "Unix Makefiles", "CMAKE_SIZEOF_VOID_P": "8", "BUILD_TESTING": "ON",
	}}
	c.build = defaultBuild
	configured := buildFolders(f, dir)
	if len(configured) > 0 {
		c.build = configured[0]
	} else {
		c.setup = task.Setup{Path: c.build + "/CMakeCache.txt", State: "the build is not configured", Command: "cmake -S . -B " + c.build}
	}
	c.run(c.parse(f.Path, f.Data), c.enter(scope, dir, f.Path), 0)
	if len(configured) > 0 {
		c.reconcile()
	}
	if len(found.Tasks) > 0 || c.names["project"] {
		var steps []*task.Task
		add := func(setup task.Setup, name string, kind task.Kind, about string, argv ...string) {
			steps = append(steps, &task.Task{
				Name: name, Source: "cmake", File: f.Path, Line: 1, Manner: task.Inferred, Dir: dir, Kind: kind, About: about,
				Command: task.Command{Argv: argv}, Setup: setup,
			})
		}
		add(task.Setup{}, "configure", task.Build, "Configure the build in "+c.build, "cmake", "-S", ".", "-B", c.build)
		add(c.setup, "build", task.Build, "Build everything", "cmake", "--build", c.build)
		if c.tests {
			add(c.setup, "test", task.Test, "Run the tests", "ctest", "--test-dir", c.build)
		}
		if c.installs {
			add(c.setup, "install", task.Other, "Install what was built", "cmake", "--install", c.build)
		}
		for _, other := range configured[min(1, len(configured)):] {
			add(c.setup, "build "+other, task.Build, "Build everything in "+other, "cmake", "--build", other)
		}
		found.Tasks = append(steps, found.Tasks...)
	}
	return found
}

func (c *cmakeReader) enter(parent *cmakeScope, dir, file string) *cmakeScope {
	return &cmakeScope{parent: parent, dir: dir, file: file, vars: map[string]string{
		"CMAKE_CURRENT_SOURCE_DIR": dir, "CMAKE_CURRENT_LIST_DIR": path.Dir(file), "CMAKE_CURRENT_BINARY_DIR": declare.Unknown, "CMAKE_BINARY_DIR": declare.Unknown,
	}}
}

func (c *cmakeReader) fault(file string, line int, format string, args ...any) {
	if len(c.found.Faults) < 100 {
		c.found.Faults = append(c.found.Faults, task.Fault{File: file, Line: line, Message: fmt.Sprintf(format, args...)})
	}
}

// faultOfLimit records a limit of this reader, or a guess about a command that may not be executed.
func (c *cmakeReader) faultOfLimit(file string, line int, format string, args ...any) {
	n := len(c.found.Faults)
	if c.fault(file, line, format, args...); len(c.found.Faults) > n {
		c.found.Faults[n].Limit = true
	}
}

// parse reads the commands of a file.
func (c *cmakeReader) parse(file string, data []byte) (out []cmakeCommand) {
	s := strings.TrimPrefix(string(data), "\ufeff")
	line := 1
	i := 0
	skip := func() bool { // blanks and comments
		for i < len(s) {
			switch {
			case s[i] == '\n':
				line++
				i++
			case s[i] == ' ' || s[i] == '\t' || s[i] == '\r':
				i++
			case s[i] == '#':
				if body, n := bracket(s[i+1:]); n > 0 {
					line += strings.Count(body, "\n")
					i += 1 + n
					continue
				}
				for i < len(s) && s[i] != '\n' {
					i++
				}
			default:
				return true
			}
		}
		return false
	}
	for skip() {
		start := i
		for i < len(s) && (s[i] == '_' || s[i]|0x20 >= 'a' && s[i]|0x20 <= 'z' || s[i] >= '0' && s[i] <= '9') {
			i++
		}
		cmd := cmakeCommand{name: strings.ToLower(s[start:i]), line: line}
		if i == start {
			c.fault(file, line, "a command should stand here; the commands before were read")
			return out
		}
		for i < len(s) && (s[i] == ' ' || s[i] == '\t') {
			i++
		}
		if i >= len(s) || s[i] != '(' {
			c.fault(file, line, "a bracket should stand behind %s; the commands before were read", cmd.name)
			return out
		}
		i++
		for depth := 1; depth > 0; {
			if !skip() {
				c.fault(file, cmd.line, "the bracket behind %s is not closed; the commands before were read", cmd.name)
				return out
			}
			switch s[i] {
			case '(':
				depth++
				cmd.args = append(cmd.args, cmakeArg{text: "("})
				i++
			case ')':
				if depth--; depth > 0 {
					cmd.args = append(cmd.args, cmakeArg{text: ")"})
				}
				i++
			case '"':
				j := i + 1
				for j < len(s) && s[j] != '"' {
					if s[j] == '\\' {
						j++
					}
					j++
				}
				j = min(j, len(s))
				text := s[min(i+1, j):j]
				line += strings.Count(text, "\n")
				cmd.args = append(cmd.args, cmakeArg{text: text, quoted: true})
				i = min(j+1, len(s))
			default:
				if body, n := bracket(s[i:]); n > 0 {
					line += strings.Count(body, "\n")
					cmd.args = append(cmd.args, cmakeArg{text: body, quoted: true, raw: true})
					i += n
					continue
				}
				j := i
				for j < len(s) && strings.IndexByte(" \t\r\n()#\"", s[j]) < 0 {
					if s[j] == '\\' {
						j++
					}
					if j+1 < len(s) && s[j] == '$' && s[j+1] == '(' { // a legacy reference to make's variables
						for j < len(s) && s[j] != ')' {
							j++
						}
					}
					j++
				}
				j = min(j, len(s))
				cmd.args = append(cmd.args, cmakeArg{text: s[i:j]})
				i = j
			}
		}
		out = append(out, cmd)
	}
	return out
}

// bracket reads a bracket argument [=[…]=] and returns its length.
func bracket(s string) (body string, n int) {
	if len(s) < 4 || s[0] != '[' {
		return "", 0
	}
	k := 1
	for k < len(s) && s[k] == '=' {
		k++
	}
	if k >= len(s) || s[k] != '[' {
		return "", 0
	}
	end := strings.Index(s[k+1:], "]"+strings.Repeat("=", k-1)+"]")
	if end < 0 {
		return "", 0
	}
	return s[k+1 : k+1+end], k + 1 + end + k + 1
}

// expand replaces ${NAME}; ok is false if a part is not known.
func (c *cmakeReader) expand(s string, scope *cmakeScope) (string, bool) {
	ok := true
	for range 20 {
		end := strings.IndexByte(s, '}')
		if end < 0 {
			break
		}
		start := strings.LastIndex(s[:end], "${")
		if start < 0 {
			if e := strings.LastIndex(s[:end], "$ENV{"); e >= 0 {
				return s, false
			}
			break
		}
		v, known := scope.get(s[start+2 : end])
		if !known && scope.has(s[start+2:end]) {
			ok = false
		}
		if len(s)+len(v) > 1<<16 {
			return "", false
		}
		s = s[:start] + v + s[end+1:]
	}
	if strings.Contains(s, "$<") || strings.Contains(s, "${") || strings.Contains(s, declare.Unknown) {
		ok = false
	}
	return cmakeEscapes.Replace(s), ok
}

var cmakeEscapes = strings.NewReplacer(`\"`, `"`, `\ `, " ", `\\`, `\`, `\;`, ";")

// words expands arguments to words: an argument without quotes is a list.
func (c *cmakeReader) words(args []cmakeArg, scope *cmakeScope) (out []string, known bool) {
	known = true
	for _, a := range args {
		text, ok := a.text, true
		if !a.raw {
			text, ok = c.expand(a.text, scope)
		}
		if !ok {
			known = false
			text = declare.Unknown
		}
		if a.quoted {
			out = append(out, text)
			continue
		}
		for _, w := range strings.Split(text, ";") {
			if w != "" {
				out = append(out, w)
			}
		}
	}
	return out, known
}

// run follows commands.
func (c *cmakeReader) run(cmds []cmakeCommand, scope *cmakeScope, depth int) (returned bool) {
	if depth > cmakeMaxDepth {
		return true
	}
	for i := 0; i < len(cmds); i++ {
		if c.steps++; c.steps > cmakeMaxCommands {
			if !c.limit {
				c.limit = true
				c.faultOfLimit(scope.file, cmds[i].line, "more than %d commands; targets may be missing", cmakeMaxCommands)
			}
			return true
		}
		cmd := &cmds[i]
		switch cmd.name {
		case "if":
			i = c.branch(cmds, i, scope, depth)
			continue
		case "foreach":
			end := c.end(cmds, i, "foreach", "endforeach")
			c.loop(cmd, cmds[i+1:end], scope, depth)
			i = end
			continue
		case "while":
			i = c.end(cmds, i, "while", "endwhile")
			continue
		case "function", "macro":
			end := c.end(cmds, i, cmd.name, "end"+cmd.name)
			if w, _ := c.words(cmd.args, scope); len(w) > 0 {
				c.functions[strings.ToLower(w[0])] = cmakeFunction{w[1:], cmds[i+1 : end], scope.file, cmd.name == "macro"}
			}
			i = end
			continue
		case "return":
			return true
		}
		c.command(cmd, scope, depth)
	}
	return false
}

// end finds the command that closes the block opened at i. Looking for it
// counts as work, so that blocks in blocks stay within the limit.
func (c *cmakeReader) end(cmds []cmakeCommand, i int, open, end string) int {
	defer func(from int) { c.steps += from / 32 }(len(cmds) - i)
	depth := 0
	for k := i; k < len(cmds); k++ {
		switch cmds[k].name {
		case open:
			depth++
		case end:
			if depth--; depth == 0 {
				return k
			}
		}
	}
	return len(cmds)
}

// branch follows an if block and returns the index of its endif.
func (c *cmakeReader) branch(cmds []cmakeCommand, i int, scope *cmakeScope, depth int) int {
	end := c.end(cmds, i, "if", "endif")
	taken := false
	sides := cmakeSides{c: c, scope: scope}
	start := i
	for k, level := i+1, 1; k <= end; k++ {
		name := "endif"
		if k < len(cmds) {
			name = cmds[k].name
		}
		if k < end {
			if name == "if" {
				level++
			} else if name == "endif" {
				level--
			}
			if level != 1 || name != "elseif" && name != "else" {
				continue
			}
		}
		// The branch from start to k.
		cond, yes, known := cmds[start], true, true
		if !taken && cond.name != "else" {
			yes, known = c.condition(cond.args, scope)
		}
		switch {
		case taken:
		case !known:
			c.conditions = append(c.conditions, cond.condition(cmds[i]))
			sides.run(cmds[start+1:k], depth+1)
			c.conditions = c.conditions[:len(c.conditions)-1]
		case yes && sides.before != nil: // if none of those that are not known
			c.conditions = append(c.conditions, cond.condition(cmds[i]))
			sides.run(cmds[start+1:k], depth+1)
			c.conditions = c.conditions[:len(c.conditions)-1]
			taken, sides.whole = true, true
		case yes:
			c.run(cmds[start+1:k], scope, depth+1)
			taken = true
		}
		start = k
	}
	sides.join()
	return end
}

// condition returns the condition of a branch as it is written; first is the if of the
// block.
func (cmd cmakeCommand) condition(first cmakeCommand) string {
	if cmd.name == "else" {
		return "the else of " + first.condition(first)
	}
	words := make([]string, len(cmd.args))
	for i, a := range cmd.args {
		words[i] = a.text
	}
	return cmd.name + "(" + strings.Join(words, " ") + ")"
}

// condition evaluates an if; known is false if it cannot be decided.
func (c *cmakeReader) condition(args []cmakeArg, scope *cmakeScope) (yes, known bool) {
	c.eachPossible(scope, args, func(now bool) {
		y, k := c.conditionNow(args, scope)
		switch {
		case now:
			yes, known = y, k
		case y != yes || !k:
			known = false
		}
	})
	return yes, known
}

// conditionNow evaluates an if with the variables as they are.
func (c *cmakeReader) conditionNow(args []cmakeArg, scope *cmakeScope) (yes, known bool) {
	p := cmakeCondition{c: c, args: args, scope: scope}
	yes, known = p.or()
	if p.i < len(args) {
		return false, false
	}
	return yes, known
}

type cmakeCondition struct {
	c     *cmakeReader
	args  []cmakeArg
	scope *cmakeScope
	i     int
}

func (p *cmakeCondition) peek() string {
	if p.i < len(p.args) && !p.args[p.i].quoted {
		return p.args[p.i].text
	}
	return ""
}

func (p *cmakeCondition) or() (yes, known bool) {
	yes, known = p.and()
	for p.peek() == "OR" {
		p.i++
		y, k := p.and()
		if yes && known || y && k {
			yes, known = true, true
		} else {
			yes, known = yes || y, known && k
		}
	}
	return yes, known
}

func (p *cmakeCondition) and() (yes, known bool) {
	yes, known = p.not()
	for p.peek() == "AND" {
		p.i++
		y, k := p.not()
		if !yes && known || !y && k {
			yes, known = false, true
		} else {
			yes, known = yes && y, known && k
		}
	}
	return yes, known
}

func (p *cmakeCondition) not() (yes, known bool) {
	if p.peek() == "NOT" {
		p.i++
		yes, known = p.not()
		return !yes, known
	}
	if p.peek() == "(" {
		p.i++
		yes, known = p.or()
		if p.peek() == ")" {
			p.i++
		}
		return yes, known
	}
	return p.test()
}

var cmakeFalse = []string{"", "0", "OFF", "NO", "FALSE", "N", "IGNORE", "NOTFOUND"}

func cmakeTruth(s string) bool {
	u := strings.ToUpper(s)
	return !slices.Contains(cmakeFalse, u) && !strings.HasSuffix(u, "-NOTFOUND")
}

func (p *cmakeCondition) test() (yes, known bool) {
	if p.i >= len(p.args) {
		return false, false
	}
	word := p.peek()
	switch word {
	case "TARGET", "COMMAND", "POLICY", "EXISTS", "TEST", "IS_DIRECTORY", "IS_ABSOLUTE", "IS_SYMLINK":
		p.i += 2
		if p.i > len(p.args) {
			return false, false
		}
		text, ok := p.c.expand(p.args[p.i-1].text, p.scope)
		switch {
		case word == "COMMAND":
			_, defined := p.c.functions[strings.ToLower(text)]
			return defined, defined
		case word == "TARGET" && ok:
			return p.c.names[text], p.c.names[text]
		case (word == "EXISTS" || word == "IS_DIRECTORY") && ok:
			there := p.c.file.Exists(path.Clean(text))
			return there, there
		case word == "POLICY":
			return true, true
		}
		return false, false
	case "DEFINED":
		p.i += 2
		if p.i > len(p.args) {
			return false, false
		}
		name := p.args[p.i-1].text
		if strings.HasPrefix(name, "ENV{") {
			return false, false
		}
		return p.scope.has(name), true
	}
	left, lok := p.value(true, false)
	op := p.peek()
	switch op {
	case "STREQUAL", "EQUAL", "MATCHES", "VERSION_LESS", "VERSION_GREATER", "VERSION_EQUAL", "VERSION_LESS_EQUAL", "VERSION_GREATER_EQUAL",
		"LESS", "GREATER", "LESS_EQUAL", "GREATER_EQUAL", "STRLESS", "STRGREATER", "IN_LIST", "PATH_EQUAL":
		p.i++
		right, rok := p.value(op != "MATCHES" && op != "IN_LIST", true)
		if !lok || !rok {
			return false, false
		}
		switch op {
		case "STREQUAL":
			return left == right, true
		case "EQUAL":
			l, r, ok := numbers(left, right)
			return ok && l == r, true
		case "MATCHES":
			re, err := regexp.Compile(right)
			if err != nil {
				return false, false
			}
			return re.MatchString(left), true
		case "IN_LIST":
			list, _ := p.scope.get(right)
			return slices.Contains(strings.Split(list, ";"), left), true
		}
		if strings.HasPrefix(op, "VERSION_") {
			return ordered(compareVersions(left, right), strings.TrimPrefix(op, "VERSION_")), true
		}
		if l, r, ok := numbers(left, right); ok {
			return ordered(cmp.Compare(l, r), op), true
		}
		return false, false
	}
	if !lok {
		return false, false
	}
	return cmakeTruth(left), true
}

// value returns an operand: the value of a variable, if the word names one. right
// says that the operand follows an operator.
func (p *cmakeCondition) value(dereference, right bool) (string, bool) {
	if p.i >= len(p.args) {
		return "", false
	}
	a := p.args[p.i]
	p.i++
	text, ok := p.c.expand(a.text, p.scope)
	if !ok || a.quoted || !dereference {
		return text, ok
	}
	if v, known := p.scope.get(text); known {
		return v, true
	}
	if p.scope.has(text) {
		return "", false
	}
	switch strings.ToUpper(text) {
	case "1", "ON", "YES", "TRUE", "Y", "0", "OFF", "NO", "FALSE", "N", "IGNORE", "NOTFOUND":
		return text, true
	case "MSVC", "WIN32", "APPLE", "MINGW", "CYGWIN", "IOS", "ANDROID", "BORLAND", "XCODE", "EMSCRIPTEN":
		return "", true // not on this system
	}
	if text != "" && strings.Trim(text, "0123456789") == "" {
		return text, true
	}
	// A word that names no variable: false alone, itself beside an operator.
	if right {
		return text, true
	}
	if next := p.peek(); next != "" && next != "AND" && next != "OR" && next != ")" {
		return text, true
	}
	if strings.HasSuffix(text, "_FOUND") || strings.HasPrefix(text, "HAVE_") {
		return "", false
	}
	return "", true
}

// loop follows a foreach.
func (c *cmakeReader) loop(cmd *cmakeCommand, body []cmakeCommand, scope *cmakeScope, depth int) {
	w, _ := c.words(cmd.args, scope)
	if len(w) == 0 {
		return
	}
	name, items := w[0], w[1:]
	if len(items) > 0 {
		switch items[0] {
		case "IN":
			var list []string
			mode := ""
			for _, x := range items[1:] {
				switch {
				case x == "LISTS" || x == "ITEMS" || x == "ZIP_LISTS":
					mode = x
				case mode == "LISTS":
					v, _ := scope.get(x)
					list = append(list, strings.Split(v, ";")...)
				default:
					list = append(list, x)
				}
			}
			items = list
		case "RANGE":
			from, to := 0, 0
			if len(items) == 2 {
				to = declare.PlainNumber(items[1])
			} else if len(items) > 2 {
				from = declare.PlainNumber(items[1])
				to = declare.PlainNumber(items[2])
			}
			items = nil
			for k := from; k <= to && k-from < 10_000; k++ {
				items = append(items, strconv.Itoa(k))
			}
		}
	}
	c.steps += len(items) / 8 // to make the list was work too
	for _, x := range items {
		if x == "" {
			continue
		}
		scope.vars[name] = x
		if c.run(body, scope, depth+1) {
			return
		}
	}
	delete(scope.vars, name)
}

func (c *cmakeReader) command(cmd *cmakeCommand, scope *cmakeScope, depth int) {
	if len(c.maybe) > 0 && manifold[cmd.name] {
		read := map[string]bool{}
		c.eachPossible(scope, cmd.args, func(bool) {
			w, _ := c.words(cmd.args, scope)
			if key := strings.Join(w, "\x00"); !read[key] {
				read[key] = true
				c.commandOf(cmd, w, scope, depth)
			}
		})
		return
	}
	w, _ := c.words(cmd.args, scope)
	c.commandOf(cmd, w, scope, depth)
}

// manifold are the commands that are read with all values that variables may have.
var manifold = map[string]bool{"add_executable": true, "add_library": true, "add_custom_target": true, "add_test": true, "add_subdirectory": true}

// commandOf reads a command whose arguments were expanded to w.
func (c *cmakeReader) commandOf(cmd *cmakeCommand, w []string, scope *cmakeScope, depth int) {
	first := ""
	if len(w) > 0 {
		first = w[0]
	}
	if strings.Contains(first, declare.Unknown) && cmd.name != "message" {
		return
	}
	switch cmd.name {
	case "set":
		c.set(w, scope)
	case "unset":
		delete(scope.vars, first)
	case "option":
		if !scope.has(first) {
			scope.vars[first] = "OFF"
			if len(w) > 2 {
				scope.vars[first] = w[2]
			}
		}
	case "cmake_dependent_option":
		scope.vars[first] = declare.Unknown
	case "list":
		c.list(w, scope)
	case "string":
		if len(w) > 3 && (first == "TOUPPER" || first == "TOLOWER") && !strings.Contains(w[1], declare.Unknown) {
			scope.vars[w[2]] = strings.ToUpper(w[1])
			break
		}
		if len(w) == 3 && (first == "TOUPPER" || first == "TOLOWER") {
			v := strings.ToUpper(w[1])
			if first == "TOLOWER" {
				v = strings.ToLower(w[1])
			}
			scope.vars[w[2]] = v
		} else if first == "REGEX" && len(w) > 4 && !slices.ContainsFunc(w, func(x string) bool { return strings.Contains(x, declare.Unknown) }) {
			c.regex(w[1:], scope)
		} else if len(w) == 5 && first == "REPLACE" {
			scope.vars[w[3]] = strings.ReplaceAll(w[4], w[1], w[2])
		} else if len(w) > 1 && (first == "CONCAT" || first == "APPEND") {
			scope.vars[w[1]] = strings.Join(w[2:], "")
		} else {
			unknownOutputs(w, scope)
		}
	case "get_filename_component":
		if len(w) >= 3 {
			c.fileName(w, scope)
		}
	case "file":
		if first == "GLOB" || first == "GLOB_RECURSE" {
			c.glob(w, scope)
		}
	case "execute_process":
		for i, x := range w {
			if strings.HasSuffix(x, "_VARIABLE") && i+1 < len(w) {
				scope.vars[w[i+1]] = declare.Unknown
			}
		}
	case "find_package", "find_program", "find_library", "find_path", "check_c_compiler_flag", "check_include_file", "pkg_check_modules",
		"check_cxx_compiler_flag", "check_function_exists", "check_symbol_exists", "check_c_source_compiles", "try_compile", "check_library_exists":
		for _, x := range w {
			if cmd.name == "find_package" {
				scope.vars[x+"_FOUND"] = declare.Unknown
				break
			}
			if x == first && !strings.HasPrefix(cmd.name, "check_") || strings.HasPrefix(cmd.name, "check_") || strings.Contains(x, "_") {
				scope.vars[x] = declare.Unknown
			}
		}
	case "project":
		c.names["project"] = true
		for k, v := range map[string]string{"PROJECT_NAME": first, "PROJECT_SOURCE_DIR": scope.dir, first + "_SOURCE_DIR": scope.dir, "PROJECT_BINARY_DIR": declare.Unknown} {
			scope.vars[k] = v
		}
		if scope.dir == c.root {
			scope.vars["CMAKE_PROJECT_NAME"] = first
		}
	case "install":
		c.installs = true
	case "enable_testing":
		c.tests = true
	case "include":
		if first == "CTest" {
			c.tests = true
			break
		}
		c.include(first, scope, depth)
	case "add_subdirectory":
		c.subdirectory(first, cmd, scope, depth)
	case "add_executable", "add_library":
		if slices.Contains(w, "ALIAS") || slices.Contains(w, "IMPORTED") || len(w) > 1 && w[1] == "INTERFACE" {
			if first != "" {
				c.names[first] = true
			}
			break
		}
		c.target(first, cmd, scope, w)
	case "add_custom_target":
		c.target(first, cmd, scope, w)
	case "add_test":
		name := first
		if first == "NAME" && len(w) > 1 {
			name = w[1]
		}
		c.test(name, cmd, scope)
	default:
		if f, ok := c.functions[cmd.name]; ok {
			c.call(f, w, scope, depth)
		}
	}
}

func unknownOutputs(w []string, scope *cmakeScope) {
	for _, x := range w[min(1, len(w)):] {
		if x != "" && strings.ToUpper(x) == x && scope.has(x) {
			scope.vars[x] = declare.Unknown
		}
	}
	if len(w) > 0 && w[0] == "REGEX" && len(w) > 4 {
		scope.vars[w[4]] = declare.Unknown
	}
}

func (c *cmakeReader) set(w []string, scope *cmakeScope) {
	if len(w) == 0 {
		return
	}
	values := w[1:]
	at := scope
	for i, x := range values {
		if x == "CACHE" {
			values = values[:i]
			if scope.has(w[0]) {
				return
			}
			break
		}
		if x == "PARENT_SCOPE" {
			values = values[:i]
			if scope.parent != nil {
				at = scope.parent
			}
			break
		}
	}
	v := strings.Join(values, ";")
	if strings.Contains(v, declare.Unknown) {
		v = declare.Unknown
	}
	if len(v) < 1<<18 {
		delete(c.maybe, w[0])
		at.vars[w[0]] = v
	}
}

func (c *cmakeReader) list(w []string, scope *cmakeScope) {
	if len(w) < 3 || w[0] != "APPEND" && w[0] != "PREPEND" {
		if len(w) > 1 {
			switch w[0] {
			case "REMOVE_ITEM", "REMOVE_DUPLICATES", "SORT", "REVERSE", "FILTER", "LENGTH", "GET", "JOIN", "REMOVE_AT", "INSERT", "TRANSFORM":
				c.change(w, scope)
			default:
				unknownOutputs(w, scope)
			}
		}
		return
	}
	old, _ := scope.get(w[1])
	parts := append([]string(nil), w[2:]...)
	if old != "" {
		parts = append([]string{old}, parts...)
	}
	if v := strings.Join(parts, ";"); len(v) < 1<<18 {
		scope.vars[w[1]] = v
	}
}

func (c *cmakeReader) fileName(w []string, scope *cmakeScope) {
	base := path.Base(w[1])
	switch w[2] {
	case "NAME":
	case "NAME_WE":
		base, _, _ = strings.Cut(base, ".")
	case "NAME_WLE":
		base = strings.TrimSuffix(base, path.Ext(base))
	case "DIRECTORY", "PATH":
		base = path.Dir(w[1])
	case "EXT":
		base = path.Ext(base)
	default:
		base = w[1]
	}
	scope.vars[w[0]] = base
}

func (c *cmakeReader) glob(w []string, scope *cmakeScope) {
	if len(w) < 3 {
		return
	}
	var out []string
	relative := ""
	for i := 2; i < len(w); i++ {
		switch p := w[i]; {
		case p == "RELATIVE" && i+1 < len(w):
			relative = w[i+1]
			i++
		case p == "LIST_DIRECTORIES":
			i++
		case p == "CONFIGURE_DEPENDS":
		case strings.Contains(p, declare.Unknown):
			scope.vars[w[1]] = declare.Unknown
			return
		default:
			dir := scope.dir
			if strings.HasPrefix(p, dir+"/") {
				p = strings.TrimPrefix(p, dir+"/")
			}
			for _, f := range c.file.Glob(dir, p) {
				f = path.Join(dir, f)
				if relative != "" {
					if rel, err := filepath.Rel(relative, f); err == nil {
						f = filepath.ToSlash(rel)
					}
				}
				out = append(out, f)
			}
		}
	}
	scope.vars[w[1]] = strings.Join(out, ";")
}

func (c *cmakeReader) include(name string, scope *cmakeScope, depth int) {
	for _, rel := range []string{path.Join(scope.dir, name), path.Join(path.Dir(scope.file), name), name, path.Join(c.root, "cmake", name+".cmake"), path.Join(c.root, "cmake/modules", name+".cmake"), path.Join(c.root, "CMake", name+".cmake")} {
		if name == "" || !c.file.Exists(rel) || c.included[rel] && depth > 20 {
			continue
		}
		data, err := c.file.Open(rel)
		if err != nil {
			continue
		}
		c.included[rel] = true
		file := scope.file
		scope.file = rel
		c.run(c.parse(rel, data), scope, depth+1)
		scope.file = file
		return
	}
}

func (c *cmakeReader) subdirectory(name string, cmd *cmakeCommand, scope *cmakeScope, depth int) {
	if name == "" {
		return
	}
	dir := name
	if !strings.HasPrefix(name, scope.dir+"/") || !c.file.Exists(name) {
		dir = path.Join(scope.dir, name)
	}
	file := path.Join(dir, "CMakeLists.txt")
	if c.seen[file] {
		return
	}
	c.seen[file] = true
	data, err := c.file.Open(file)
	if err != nil {
		if !c.file.Exists(file) {
			c.faultOfLimit(scope.file, cmd.line, "add_subdirectory %s: there is no CMakeLists.txt; the rest of the file was read", name)
		}
		return
	}
	c.run(c.parse(file, data), c.enter(scope, dir, file), depth+1)
}

// call runs a function or macro of the project with its arguments.
func (c *cmakeReader) call(f cmakeFunction, args []string, scope *cmakeScope, depth int) {
	inner := scope
	if !f.macro {
		inner = &cmakeScope{parent: scope, vars: map[string]string{}, dir: scope.dir, file: f.file}
	}
	saved := map[string]string{}
	bind := func(name, value string) {
		if f.macro {
			saved[name], _ = scope.get(name)
		}
		inner.vars[name] = value
	}
	for i, p := range f.params {
		v := ""
		if i < len(args) {
			v = args[i]
		}
		bind(p, v)
	}
	for i, a := range args {
		if i < 10 {
			bind("ARGV"+strconv.Itoa(i), a)
		}
	}
	bind("ARGN", strings.Join(args[min(len(f.params), len(args)):], ";"))
	bind("ARGV", strings.Join(args, ";"))
	bind("ARGC", strconv.Itoa(len(args)))
	file := scope.file
	inner.file = f.file
	c.run(f.body, inner, depth+1)
	scope.file = file
	if f.macro {
		for k, v := range saved {
			scope.vars[k] = v
		}
	}
}

func (c *cmakeReader) target(name string, cmd *cmakeCommand, scope *cmakeScope, w []string) {
	if name == "" || c.names[name] || strings.ContainsAny(name, "$<>\n ") || strings.Contains(name, declare.Unknown) {
		return
	}
	t := c.targetTask(name, scope.file, cmd.line)
	c.conditional(t)
	if cmd.name == "add_custom_target" {
		t.Kind = task.KindOf(name)
		if i := slices.Index(w, "COMMENT"); i >= 0 && i+1 < len(w) && !strings.Contains(w[i+1], declare.Unknown) {
			t.About = declare.Shorten(w[i+1])
		}
	}
}

// conditional says of a task which undecided conditions it stands under.
func (c *cmakeReader) conditional(t *task.Task) {
	if t != nil && len(c.conditions) > 0 {
		t.SetOrigin("name", task.Origin{File: t.File, Line: t.Line, Manner: task.Declared, Note: "depends on " + declare.Shorten(strings.Join(c.conditions, ", "))})
	}
}

// targetTask adds the task that builds a target, unless there is one.
func (c *cmakeReader) targetTask(name, file string, line int) *task.Task {
	if c.names[name] {
		return nil
	}
	c.names[name] = true
	t := &task.Task{
		Name: name, Source: "cmake", File: file, Line: line, Manner: task.Declared, Dir: c.root, Kind: task.Build, Setup: c.setup,
		Command: task.Command{Argv: []string{"cmake", "--build", c.build, "--target", name}},
	}
	c.found.Tasks = append(c.found.Tasks, t)
	return t
}

// testTask adds the task that runs a test, unless there is one.
func (c *cmakeReader) testTask(name, file string, line int) *task.Task {
	if c.names["test "+name] {
		return nil
	}
	c.names["test "+name], c.tests = true, true
	t := &task.Task{
		Name: "test " + name, Source: "cmake", File: file, Line: line, Manner: task.Declared, Dir: c.root, Kind: task.Test, Setup: c.setup,
		Command: task.Command{Argv: []string{"ctest", "--test-dir", c.build, "-R", "^" + regexp.QuoteMeta(name) + "$"}},
	}
	c.found.Tasks = append(c.found.Tasks, t)
	return t
}

func (c *cmakeReader) test(name string, cmd *cmakeCommand, scope *cmakeScope) {
	if name == "" || strings.Contains(name, declare.Unknown) || strings.ContainsAny(name, "$\n") {
		return
	}
	c.conditional(c.testTask(name, scope.file, cmd.line))
}

// maybeValue is a value that a variable may have, if it is set.
type maybeValue struct {
	text string
	set  bool
}

const (
	// maxMaybe is the number of variables with several values, and maxValues that of
	// such values of one. Each costs a further look at each target.
	maxMaybe  = 256
	maxValues = 4
)

// eachPossible calls f with the variables as they are, and then with each other value
// that one of them, which the arguments name, may have.
func (c *cmakeReader) eachPossible(scope *cmakeScope, args []cmakeArg, f func(now bool)) {
	f(true)
	for _, name := range slices.Sorted(maps.Keys(c.maybe)) {
		if !slices.ContainsFunc(args, func(a cmakeArg) bool { return strings.Contains(a.text, name) }) {
			continue
		}
		values := c.maybe[name]
		at := scope
		for at != nil && at.parent != nil {
			if _, here := at.vars[name]; here {
				break
			}
			at = at.parent
		}
		current, set := at.vars[name]
		for _, v := range values {
			if v.set {
				at.vars[name] = v.text
			} else {
				delete(at.vars, name)
			}
			c.steps++
			f(false)
		}
		if set {
			at.vars[name] = current
		} else {
			delete(at.vars, name)
		}
		if c.maybe[name] != nil {
			c.maybe[name] = values
		}
	}
}

// cmakeSides runs the branches of an if that may each be taken. Each begins with the
// variables as they were before.
type cmakeSides struct {
	c      *cmakeReader
	scope  *cmakeScope
	before map[string]string // nil if all was decided
	ends   []map[string]string
	whole  bool // one of the branches is taken in any case
}

func (s *cmakeSides) run(cmds []cmakeCommand, depth int) {
	if s.before == nil {
		s.before = maps.Clone(s.scope.vars)
	} else {
		s.scope.vars = maps.Clone(s.before)
	}
	s.c.steps += len(s.before) / 256 // copying them is cheap beside a command
	s.c.run(cmds, s.scope, depth)
	s.ends = append(s.ends, s.scope.vars)
}

// join leaves the variables as the last branch did, and notes the other values that they
// may have.
func (s *cmakeSides) join() {
	if s.before == nil {
		return
	}
	if !s.whole {
		s.ends = append([]map[string]string{s.before}, s.ends...)
	}
	last := s.ends[len(s.ends)-1]
	s.scope.vars = last
	names := map[string]bool{}
	for _, end := range s.ends {
		for name, v := range end {
			if now, set := last[name]; !set || now != v {
				names[name] = true
			}
		}
	}
	for name := range last {
		for _, end := range s.ends {
			if _, set := end[name]; !set {
				names[name] = true
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(names)) {
		now, nowSet := last[name]
		for _, end := range s.ends[:len(s.ends)-1] {
			v, set := end[name]
			if (set != nowSet || v != now) && v != declare.Unknown {
				s.c.mayBe(name, maybeValue{v, set})
			}
		}
		if !nowSet { // a variable that one branch set counts as set
			for _, end := range s.ends {
				if v, set := end[name]; set {
					last[name] = v
					s.c.mayBe(name, maybeValue{})
					break
				}
			}
		}
	}
}

func (c *cmakeReader) mayBe(name string, v maybeValue) {
	values := c.maybe[name]
	if slices.Contains(values, v) || len(values) >= maxValues || values == nil && len(c.maybe) >= maxMaybe {
		return
	}
	if c.maybe == nil {
		c.maybe = map[string][]maybeValue{}
	}
	c.maybe[name] = append(slices.Clip(values), v)
}

// compareVersions compares versions part by part (cmake-language(7), if, "Version
// Comparisons").
func compareVersions(a, b string) int {
	x, y := strings.Split(a, "."), strings.Split(b, ".")
	for i := range max(len(x), len(y)) {
		part := func(parts []string) (n int) {
			if i < len(parts) {
				for _, r := range parts[i] {
					if r < '0' || r > '9' || n > 1e8 {
						break
					}
					n = 10*n + int(r-'0')
				}
			}
			return n
		}
		if d := cmp.Compare(part(x), part(y)); d != 0 {
			return d
		}
	}
	return 0
}

// numbers reads two operands as numbers.
func numbers(a, b string) (x, y float64, ok bool) {
	x, err1 := strconv.ParseFloat(a, 64)
	y, err2 := strconv.ParseFloat(b, 64)
	return x, y, err1 == nil && err2 == nil
}

// ordered reports whether a comparison is what an operator asks for.
func ordered(d int, op string) bool {
	switch op {
	case "LESS":
		return d < 0
	case "GREATER":
		return d > 0
	case "EQUAL":
		return d == 0
	case "LESS_EQUAL":
		return d <= 0
	}
	return d >= 0
}

// regex reads string(REGEX MATCH|MATCHALL regex output input…) and string(REGEX REPLACE
// regex replacement output input…).
func (c *cmakeReader) regex(w []string, scope *cmakeScope) {
	out, input := w[2], strings.Join(w[3:], "")
	if w[0] == "REPLACE" {
		if len(w) < 5 {
			return
		}
		out, input = w[3], strings.Join(w[4:], "")
	}
	re, err := regexp.Compile(w[1])
	if err != nil {
		scope.vars[out] = declare.Unknown
		return
	}
	switch w[0] {
	case "MATCH":
		scope.vars[out] = re.FindString(input)
		for i, part := range re.FindStringSubmatch(input) {
			scope.vars["CMAKE_MATCH_"+strconv.Itoa(i)] = part
		}
	case "MATCHALL":
		scope.vars[out] = strings.Join(re.FindAllString(input, 1000), ";")
	case "REPLACE":
		with := strings.ReplaceAll(w[2], "$", "$$")
		for i := range 10 {
			with = strings.ReplaceAll(with, `\`+strconv.Itoa(i), "${"+strconv.Itoa(i)+"}")
		}
		if v := re.ReplaceAllString(input, with); len(v) < 1<<18 {
			scope.vars[out] = v
		}
	}
}

// change reads the forms of list() that change a list, or ask about it.
func (c *cmakeReader) change(w []string, scope *cmakeScope) {
	old, known := scope.get(w[1])
	if !known && scope.has(w[1]) || slices.ContainsFunc(w, func(x string) bool { return strings.Contains(x, declare.Unknown) }) {
		return // all of it stays listed
	}
	var items []string
	if old != "" {
		items = strings.Split(old, ";")
	}
	index := func(s string) int {
		n, err := strconv.Atoi(s)
		if err != nil {
			return -1
		}
		if n < 0 {
			n += len(items)
		}
		return n
	}
	to := w[1]
	switch w[0] {
	case "REMOVE_ITEM":
		items = slices.DeleteFunc(items, func(x string) bool { return slices.Contains(w[2:], x) })
	case "REMOVE_DUPLICATES":
		seen := map[string]bool{}
		items = slices.DeleteFunc(items, func(x string) bool { was := seen[x]; seen[x] = true; return was })
	case "SORT":
		slices.Sort(items)
	case "REVERSE":
		slices.Reverse(items)
	case "REMOVE_AT":
		for _, x := range w[2:] {
			if n := index(x); n >= 0 && n < len(items) {
				items = slices.Delete(items, n, n+1)
			}
		}
	case "INSERT":
		if n := index(w[2]); n >= 0 && n <= len(items) {
			items = slices.Insert(items, n, w[3:]...)
		}
	case "FILTER":
		if len(w) < 5 || w[3] != "REGEX" {
			return
		}
		re, err := regexp.Compile(w[4])
		if err != nil {
			return
		}
		items = slices.DeleteFunc(items, func(x string) bool { return re.MatchString(x) == (w[2] == "EXCLUDE") })
	case "LENGTH":
		to, items = w[2], []string{strconv.Itoa(len(items))}
	case "JOIN":
		if len(w) < 4 {
			return
		}
		to, items = w[3], []string{strings.Join(items, w[2])}
	case "GET":
		var got []string
		for _, x := range w[2 : len(w)-1] {
			if n := index(x); n >= 0 && n < len(items) {
				got = append(got, items[n])
			}
		}
		to, items = w[len(w)-1], got
	case "TRANSFORM":
		if len(w) < 4 || w[2] != "PREPEND" && w[2] != "APPEND" || len(w) > 4 {
			return
		}
		for i := range items {
			if w[2] == "PREPEND" {
				items[i] = w[3] + items[i]
			} else {
				items[i] += w[3]
			}
		}
	}
	if v := strings.Join(items, ";"); len(v) < 1<<18 {
		scope.vars[to] = v
	}
}
