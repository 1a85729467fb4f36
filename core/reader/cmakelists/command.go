package cmakelists

import (
	"path"
	"slices"
	"strconv"
	"strings"

	"tidytally/core/reader/declare"
)

// command follows one command that is no control flow.
func (c *cmakeReader) command(cmd *cmakeCommand, s *scope, depth int) outcome {
	w := s.words(cmd.args)
	first := ""
	if len(w) > 0 {
		first = w[0]
	}
	if f, ok := c.functions[cmd.name]; ok { // it may have the name of one of CMake's own
		return c.call(cmd.name, f, w, s, depth)
	}
	switch cmd.name {
	case "message":
		if first == "FATAL_ERROR" && len(c.conditions) > 0 { // else what was decided is wrong: projects can be configured
			return failed
		}
	case "set":
		s.setCommand(w, cmd.args)
	case "unset":
		switch {
		case first == "" || unknown(first):
		case slices.Contains(w, "CACHE"):
			delete(c.cache, first)
		case slices.Contains(w, "PARENT_SCOPE"):
			s.toParent(first, notSet)
		default:
			s.vars[first] = notSet
		}
	case "option":
		if _, set := s.get(first); !set && !unknown(first) && first != "" {
			c.cache[first] = "OFF"
			if len(w) > 2 {
				c.cache[first] = w[2]
			}
			if len(w) > 1 {
				c.option(first, "BOOL", w[1], c.cache[first])
			}
		}
	case "cmake_dependent_option":
		if len(w) > 4 {
			c.option(first, "BOOL", w[1], w[2])
		}
		c.dependentOption(w, cmd.args, s)
	case "list":
		s.listCommand(w)
	case "string":
		s.stringCommand(w)
	case "math":
		s.math(w)
	case "get_filename_component":
		s.fileName(w)
	case "cmake_path":
		s.pathCommand(w)
	case "file":
		s.fileCommand(w)
	case "set_property":
		s.setProperty(w)
	case "get_property":
		s.getProperty(w)
	case "set_target_properties":
		s.setProperties("TARGET", w)
	case "set_tests_properties":
		s.setProperties("TEST", w)
	case "set_directory_properties":
		s.setProperties("DIRECTORY", append([]string{""}, w...))
	case "get_target_property", "get_test_property":
		if len(w) > 2 {
			kind, of, name := "TARGET", w[1], w[2]
			if cmd.name == "get_test_property" {
				kind, of, name, w[0] = "TEST", w[0], w[1], w[2]
			}
			v, set := s.propertyOf(kind, of, name)
			if !set && kind == "TARGET" {
				v = w[0] + "-NOTFOUND"
			}
			s.set(w[0], v)
		}
	case "get_directory_property":
		if len(w) > 1 {
			of, name := "", w[len(w)-1]
			if w[1] == "DIRECTORY" && len(w) > 3 {
				of = w[2]
			}
			v, _ := s.propertyOf("DIRECTORY", of, name)
			if len(w) > 2 && w[len(w)-2] == "DEFINITION" {
				v = s.value(name)
			}
			s.set(w[0], v)
		}
	case "get_cmake_property", "cmake_host_system_information", "site_name", "try_run", "try_compile", "separate_arguments", "execute_process", "find_program", "find_library", "find_path", "find_file":
		c.asks(cmd.name, w, s)
	case "cmake_parse_arguments":
		s.parseArguments(w)
	case "find_package", "pkg_check_modules", "pkg_search_module", "find_dependency":
		if first != "" && !unknown(first) {
			c.packages[first], c.packages[strings.ToUpper(first)] = true, true
		}
	case "project":
		c.project(w, s)
	case "aux_source_directory", "create_test_sourcelist":
		for i, x := range w {
			if (cmd.name == "aux_source_directory") == (i == 1) && i < 2 && !unknown(x) {
				s.set(x, declare.Unknown)
			}
		}
	case "install":
		c.installs = true
	case "enable_testing":
		c.enableTesting(s, true)
	case "include":
		return c.include(w, s, depth)
	case "include_guard":
		if c.guarded[s.file] {
			return returned
		}
		c.guarded[s.file] = true
	case "add_subdirectory", "subdirs":
		for i, dir := range w {
			if i == 0 || cmd.name == "subdirs" {
				if c.subdirectory(dir, cmd, s, depth) == failed {
					return failed
				}
			}
		}
	case "cmake_language":
		return c.language(w, s, cmd, depth)
	case "fetchcontent_makeavailable", "fetchcontent_populate", "cpmaddpackage", "conan_cmake_run":
		c.opaque = true
	default:
		if strings.HasPrefix(cmd.name, "check_") {
			c.asks(cmd.name, w, s)
			break
		}
		c.declares(cmd, w, s)
	}
	return atEnd
}

// asks sets what only the machine can answer.
func (c *cmakeReader) asks(name string, w []string, s *scope) {
	unset := func(variable string) {
		if _, set := s.get(variable); !set && variable != "" && !unknown(variable) {
			c.cache[variable] = declare.Unknown
		}
	}
	switch {
	case name == "separate_arguments":
		if len(w) == 1 {
			s.set(w[0], strings.Join(strings.Fields(s.value(w[0])), ";"))
		} else if len(w) > 2 {
			s.set(w[0], strings.Join(strings.Fields(w[len(w)-1]), ";"))
		}
	case name == "execute_process":
		for i, x := range w {
			if strings.HasSuffix(x, "_VARIABLE") && i+1 < len(w) && !unknown(w[i+1]) {
				s.set(w[i+1], declare.Unknown)
			}
		}
	case strings.HasPrefix(name, "check_"): // the result is an argument in capitals, often the last
		for _, x := range w {
			if x != "" && strings.ToUpper(x) == x && identifier(x) == x {
				unset(x)
			}
		}
		if len(w) > 0 && identifier(w[len(w)-1]) == w[len(w)-1] {
			unset(w[len(w)-1])
		}
	case len(w) > 0:
		unset(w[0])
		if _, set := s.vars[w[0]]; name == "get_cmake_property" || name == "cmake_host_system_information" || name == "site_name" || set {
			s.set(w[0], declare.Unknown)
		}
	}
}

// setCommand follows set(). An empty value in quotes is a value.
func (s *scope) setCommand(w []string, args []cmakeArg) {
	c := s.reader
	if len(w) == 0 || unknown(w[0]) {
		return
	}
	name, values := w[0], w[1:]
	if i := slices.Index(values, "CACHE"); i >= 0 {
		_, cached := c.cached(name)
		if !cached || slices.Contains(values[i:], "FORCE") {
			c.cache[name] = strings.Join(values[:i], ";")
			if rest := values[i:]; len(rest) > 2 && !cached && !slices.Contains(rest, "FORCE") {
				c.option(name, rest[1], rest[2], c.cache[name])
			}
		}
		return
	}
	if n := len(values); n > 0 && values[n-1] == "PARENT_SCOPE" {
		if n == 1 {
			s.toParent(name, notSet)
		} else {
			s.toParent(name, strings.Join(values[:n-1], ";"))
		}
		return
	}
	if strings.HasPrefix(name, "ENV{") {
		return
	}
	if len(args) == 1 {
		s.vars[name] = notSet
		return
	}
	s.set(name, strings.Join(values, ";"))
}

// dependentOption follows cmake_dependent_option(option help value conditions otherwise).
func (c *cmakeReader) dependentOption(w []string, args []cmakeArg, s *scope) {
	if len(w) < 5 || unknown(w[0]) {
		return
	}
	yes, known := true, true
	for _, condition := range items(w[3]) {
		var parts []cmakeArg
		for word := range strings.FieldsSeq(strings.NewReplacer("(", " ( ", ")", " ) ").Replace(condition)) {
			parts = append(parts, cmakeArg{text: word})
		}
		y, k := c.condition(parts, s)
		if k && !y {
			yes, known = false, true
			break
		}
		known = known && k
	}
	_, set := s.get(w[0])
	switch {
	case !known:
		s.set(w[0], merged([]string{w[2], w[4]}))
	case !yes:
		s.set(w[0], w[4])
	case !set:
		c.cache[w[0]] = w[2]
	}
}

// parseArguments follows cmake_parse_arguments(), in both its forms.
func (s *scope) parseArguments(w []string) {
	var given []string
	var prefix string
	var kinds [3][]string
	switch {
	case len(w) >= 6 && w[0] == "PARSE_ARGV":
		n, _ := strconv.Atoi(w[1])
		count, err := strconv.Atoi(s.value("ARGC"))
		if err != nil {
			return
		}
		for i := n; i < count; i++ {
			given = append(given, s.value("ARGV"+strconv.Itoa(i)))
		}
		prefix = w[2]
		for i := range kinds {
			kinds[i] = items(w[3+i])
		}
	case len(w) >= 4:
		prefix, given = w[0], w[4:]
		for i := range kinds {
			kinds[i] = items(w[1+i])
		}
	default:
		return
	}
	if unknown(prefix) {
		return
	}
	for _, name := range kinds[0] {
		s.set(prefix+"_"+name, "FALSE")
	}
	for _, name := range slices.Concat(kinds[1], kinds[2]) {
		s.vars[prefix+"_"+name] = notSet
	}
	s.vars[prefix+"_UNPARSED_ARGUMENTS"], s.vars[prefix+"_KEYWORDS_MISSING_VALUES"] = notSet, notSet
	values := map[string][]string{}
	var rest []string
	key, many := "", false
	doubt := false // what stands here may be a keyword
	for _, x := range given {
		switch {
		case slices.Contains(kinds[0], x):
			s.set(prefix+"_"+x, "TRUE")
			key = ""
		case slices.Contains(kinds[1], x):
			key, many = x, false
		case slices.Contains(kinds[2], x):
			key, many = x, true
			if values[key] == nil {
				values[key] = []string{}
			}
		case key == "":
			rest = append(rest, x)
		default:
			if values[key] = append(values[key], x); !many {
				key = ""
			}
		}
		doubt = doubt || x == declare.Unknown
	}
	for name, list := range values {
		if len(list) > 0 {
			s.setList(prefix+"_"+name, list)
		}
	}
	if len(rest) > 0 {
		s.setList(prefix+"_UNPARSED_ARGUMENTS", rest)
	}
	if doubt {
		for _, name := range slices.Concat(kinds[0], kinds[1], kinds[2]) {
			if v, set := s.get(prefix + "_" + name); !set || v == "FALSE" {
				s.set(prefix+"_"+name, declare.Unknown)
			}
		}
	}
}

// project follows project().
func (c *cmakeReader) project(w []string, s *scope) {
	if len(w) == 0 {
		return
	}
	name := w[0]
	c.names["project"] = true
	version := ""
	if i := slices.Index(w, "VERSION"); i >= 0 && i+1 < len(w) {
		version = w[i+1]
	}
	top := s.dir == c.root
	leads := []string{"PROJECT", name}
	if top {
		leads = append(leads, "CMAKE_PROJECT")
	}
	for _, lead := range leads {
		s.set(lead+"_VERSION", version)
		parts := strings.Split(version, ".")
		for i, part := range []string{"MAJOR", "MINOR", "PATCH", "TWEAK"} {
			v := ""
			if i < len(parts) {
				v = parts[i]
			}
			s.set(lead+"_VERSION_"+part, v)
		}
		s.set(lead+"_SOURCE_DIR", s.source())
		s.set(lead+"_BINARY_DIR", c.abs(c.built(s.dir)))
		s.set(lead+"_IS_TOP_LEVEL", map[bool]string{true: "ON", false: "OFF"}[top])
	}
	s.set("PROJECT_NAME", name)
	if top {
		s.set("CMAKE_PROJECT_NAME", name)
	}
}

// include follows include(): a file, or a module by its name.
func (c *cmakeReader) include(w []string, s *scope, depth int) outcome {
	if len(w) == 0 || unknown(w[0]) {
		c.opaque = true
		return atEnd
	}
	name := w[0]
	if name == "CTest" {
		if _, set := s.get("BUILD_TESTING"); !set {
			c.cache["BUILD_TESTING"] = "ON"
		}
		yes, known := c.condition([]cmakeArg{{text: "BUILD_TESTING"}}, s)
		if yes || !known {
			c.enableTesting(s, known)
		}
		return atEnd
	}
	var places []string
	if strings.HasSuffix(name, ".cmake") || strings.Contains(name, "/") || strings.HasSuffix(name, ".txt") {
		places = append(places, under(s.source(), name))
	} else {
		for _, dir := range s.list("CMAKE_MODULE_PATH") {
			if !unknown(dir) {
				places = append(places, path.Join(under(s.source(), dir), name+".cmake"))
			}
		}
	}
	for _, at := range places {
		rel, ok := c.rel(at)
		if !ok || !c.file.Exists(rel) {
			continue
		}
		data, err := c.file.Open(rel)
		if err != nil {
			continue
		}
		if c.included[rel] && depth > 20 {
			return atEnd
		}
		c.included[rel] = true
		file := s.file
		s.enter(rel)
		out := c.run(c.parse(rel, data), s, depth+1)
		s.enter(file)
		if out == failed {
			return failed
		}
		return atEnd
	}
	if len(places) > 0 && !slices.Contains(w, "OPTIONAL") && strings.Contains(name, "/") {
		c.opaque = true // it is made by the configure run, or lies outside
	}
	return atEnd
}

// enter sets what says which file is read.
func (s *scope) enter(file string) {
	s.file = file
	s.set("CMAKE_CURRENT_LIST_FILE", s.reader.abs(file))
	s.set("CMAKE_CURRENT_LIST_DIR", path.Dir(s.reader.abs(file)))
}

func (c *cmakeReader) subdirectory(name string, cmd *cmakeCommand, s *scope, depth int) outcome {
	if name == "" || unknown(name) {
		return atEnd
	}
	dir, ok := c.rel(under(s.source(), name))
	file := path.Join(dir, "CMakeLists.txt")
	if !ok || c.seen[file] {
		c.opaque = c.opaque || !ok
		return atEnd
	}
	c.seen[file] = true
	data, err := c.file.Open(file)
	if err != nil {
		if !c.file.Exists(file) {
			c.faultOfLimit(s.file, cmd.line, "add_subdirectory %s: there is no CMakeLists.txt; the rest of the file was read", name)
		}
		return atEnd
	}
	c.foldersOf[s.dir] = append(c.foldersOf[s.dir], c.abs(dir))
	inner := s.inner(dir, file)
	inner.enter(file)
	inner.set("CMAKE_CURRENT_SOURCE_DIR", c.abs(dir))
	inner.set("CMAKE_CURRENT_BINARY_DIR", c.abs(c.built(dir)))
	if out := c.run(c.parse(file, data), inner, depth+1); out == failed {
		return failed
	}
	return atEnd
}

// language follows cmake_language().
func (c *cmakeReader) language(w []string, s *scope, cmd *cmakeCommand, depth int) outcome {
	if len(w) < 2 || unknown(w[0], w[1]) {
		return atEnd
	}
	switch w[0] {
	case "CALL":
		call := cmakeCommand{name: strings.ToLower(w[1]), line: cmd.line}
		for _, a := range w[2:] {
			call.args = append(call.args, cmakeArg{text: a, quoted: true, raw: true})
		}
		return c.command(&call, s, depth+1)
	case "EVAL":
		if w[1] == "CODE" && depth < cmakeMaxDepth {
			code := strings.Join(w[2:], " ")
			if unknown(code) {
				c.opaque = true
				return atEnd
			}
			cmds := c.parse(s.file, []byte(code))
			for i := range cmds {
				cmds[i].line = cmd.line
			}
			return c.run(cmds, s, depth+1)
		}
	}
	return atEnd
}
