package cmakelists

import (
	"maps"
	"slices"
	"strings"

	"tidytally/core/reader/declare"
)

// A scope holds the variables of a folder, a function or a block. What it does not have is looked up in those around it.
type scope struct {
	reader *cmakeReader
	vars   map[string]string
	parent *scope
	dir    string // the current source folder, relative to the workspace
	file   string // that is read
}

// notSet stands in a scope for a variable that was unset there.
const notSet = "\x00\x01"

func (s *scope) inner(dir, file string) *scope {
	return &scope{reader: s.reader, vars: map[string]string{}, parent: s, dir: dir, file: file}
}

// get returns the value of a variable, and whether it is set. It may be unknown in part.
func (s *scope) get(name string) (value string, set bool) {
	for at := s; at != nil; at = at.parent {
		if v, ok := at.vars[name]; ok {
			if v == notSet {
				return "", false
			}
			return v, true
		}
	}
	if v, ok := s.reader.cached(name); ok {
		return v, true
	}
	return "", false
}

// unknowns are the endings of variables that CMake sets by what it finds on the machine.
var unknowns = []string{
	"_COMPILER_VERSION", "_COMPILE_FEATURES", "_COMPILER_TARGET", "_LIBRARY_ARCHITECTURE", "_SYSTEM_VERSION", "_LIBS_INIT", "_INIT", "CMAKE_DL_LIBS", "CMAKE_COMMAND", "CMAKE_CTEST_COMMAND", "CMAKE_ROOT",
	"_BINARY_DIR", "CMAKE_INSTALL_PREFIX", "_INSTALL_LIBDIR", "_INSTALL_FULL_LIBDIR",
}

// everywhere are the variables of the environment that are set in most; of others it is taken that they are not.
var everywhere = map[string]bool{
	"HOME": true, "PATH": true, "USER": true, "LOGNAME": true, "SHELL": true, "PWD": true, "LANG": true, "TERM": true, "HOSTNAME": true, "TMPDIR": true, "CI": true,
	"CC": true, "CXX": true, "CFLAGS": true, "CXXFLAGS": true, "LDFLAGS": true, "PKG_CONFIG_PATH": true, "JAVA_HOME": true, "VIRTUAL_ENV": true, "CONDA_PREFIX": true, "XDG_CACHE_HOME": true,
}

// value returns the value of a variable: "" if it is not set, unknown if only a configure run sets it.
func (s *scope) value(name string) string {
	v, set := s.get(name)
	if !set && s.reader.mayBeSet(name) {
		return declare.Unknown
	}
	return v
}

// mayBeSet reports whether a variable that nothing here sets may be set by what a configure run finds.
func (c *cmakeReader) mayBeSet(name string) bool {
	if strings.HasPrefix(name, "CMAKE_") || strings.HasSuffix(name, "_BINARY_DIR") {
		for _, end := range unknowns {
			if strings.HasSuffix(name, end) {
				return true
			}
		}
	}
	if strings.HasSuffix(name, "_FOUND") || strings.HasPrefix(name, "HAVE_") {
		return true
	}
	for p := range c.packages {
		if strings.HasPrefix(name, p+"_") {
			return true
		}
	}
	return false
}

// cached returns the value of a cache variable.
func (c *cmakeReader) cached(name string) (string, bool) {
	v, ok := c.cache[name]
	return v, ok
}

func (s *scope) set(name, value string) {
	if len(value) > maxValue {
		value = declare.Unknown
	}
	s.vars[name] = value
}

// list returns the items of a variable.
func (s *scope) list(name string) []string {
	v := s.value(name)
	s.reader.steps += len(v) / 128
	return items(v)
}

func (s *scope) setList(name string, list []string) { s.set(name, strings.Join(list, ";")) }

// merged returns what is known of a variable that may have one of several values: what lists have in common at both ends, and
// that something may stand between.
func merged(values []string) string {
	first := values[0]
	same := true
	for _, v := range values[1:] {
		same = same && v == first
	}
	if same {
		return first
	}
	var lists [][]string
	least := 1 << 30
	for _, v := range values {
		if v == notSet {
			v = ""
		}
		list := items(v)
		lists, least = append(lists, list), min(least, len(list))
	}
	agree := func(at func(list []string, i int) string, most int) (n int) {
		for ; n < most; n++ {
			for _, list := range lists[1:] {
				if at(list, n) != at(lists[0], n) {
					return n
				}
			}
		}
		return n
	}
	head := agree(func(list []string, i int) string { return list[i] }, least)
	tail := agree(func(list []string, i int) string { return list[len(list)-1-i] }, least-head)
	list := append(slices.Clone(lists[0][:head]), declare.Unknown)
	return strings.Join(append(list, lists[0][len(lists[0])-tail:]...), ";")
}

// state is what commands change, so that it can be put back and joined.
type state struct {
	vars       []map[string]string // of the scopes, the innermost first
	cache      map[string]string
	properties map[property]string
}

func (s *scope) state() (st state) {
	for at := s; at != nil; at = at.parent {
		st.vars = append(st.vars, at.vars)
		at.vars = maps.Clone(at.vars)
		s.reader.steps += len(at.vars) / 256 // copying them is cheap beside a command
	}
	st.cache, st.properties = s.reader.cache, s.reader.properties
	s.reader.cache, s.reader.properties = maps.Clone(st.cache), maps.Clone(st.properties)
	return st
}

// take returns the state as it is, and puts another one in its place, of which it may change the maps.
func (s *scope) take(next state) (now state) {
	i := 0
	for at := s; at != nil; at = at.parent {
		now.vars = append(now.vars, at.vars)
		at.vars = maps.Clone(next.vars[i])
		i++
	}
	now.cache, now.properties = s.reader.cache, s.reader.properties
	s.reader.cache, s.reader.properties = maps.Clone(next.cache), maps.Clone(next.properties)
	return now
}

// join makes the state what is known after one of several was reached.
func (s *scope) join(ends []state) {
	i := 0
	for at := s; at != nil; at = at.parent {
		var maps []map[string]string
		for _, e := range ends {
			maps = append(maps, e.vars[i])
		}
		at.vars = joined(maps, notSet)
		i++
	}
	var caches []map[string]string
	var properties []map[property]string
	for _, e := range ends {
		caches, properties = append(caches, e.cache), append(properties, e.properties)
	}
	s.reader.cache, s.reader.properties = joined(caches, ""), joined(properties, "")
}

// joined returns what is known of the values of maps of which one holds.
func joined[K comparable](all []map[K]string, absent string) map[K]string {
	out := maps.Clone(all[0])
	for _, m := range all[1:] {
		for k := range m {
			if _, ok := out[k]; !ok {
				out[k] = absent
			}
		}
	}
	for k := range out {
		differs := false
		values := make([]string, len(all))
		for i, m := range all {
			v, ok := m[k]
			if !ok {
				v = absent
			}
			values[i] = v
			differs = differs || v != values[0]
		}
		if out[k] = values[0]; differs {
			out[k] = merged(values)
		}
	}
	return out
}
