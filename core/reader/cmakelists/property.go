package cmakelists

import (
	"path"
	"strings"

	"tidytally/core/reader/declare"
)

// Properties of targets, folders, tests and all, as they are set and read back (cmake-properties(7)).

// A property is one of a thing.
type property struct{ kind, of, name string }

// setProperty follows set_property().
func (s *scope) setProperty(w []string) {
	if len(w) < 2 {
		return
	}
	i := 1
	var of []string
	for i < len(w) && w[i] != "PROPERTY" && w[i] != "APPEND" && w[i] != "APPEND_STRING" {
		of = append(of, w[i])
		i++
	}
	appends, joined := false, false
	for i < len(w) && w[i] != "PROPERTY" {
		appends, joined = appends || w[i] == "APPEND", joined || w[i] == "APPEND_STRING"
		i++
	}
	if i+1 >= len(w) {
		return
	}
	name, values := w[i+1], w[i+2:]
	if len(of) == 0 {
		of = []string{""}
	}
	for _, x := range of {
		key := s.property(w[0], x, name)
		switch old := s.reader.properties[key]; {
		case joined:
			s.reader.properties[key] = old + strings.Join(values, "")
		case appends && old != "":
			s.reader.properties[key] = strings.Join(append(items(old), values...), ";")
		default:
			s.reader.properties[key] = strings.Join(values, ";")
		}
		if w[0] == "CACHE" && name == "VALUE" {
			s.reader.cache[x] = strings.Join(values, ";")
		}
	}
}

// property returns the key of a property of a thing.
func (s *scope) property(kind, of, name string) property {
	if kind == "DIRECTORY" {
		if of == "" {
			of = s.source()
		}
		of = under(s.source(), of)
	}
	return property{kind, of, name}
}

// setProperties follows set_target_properties() and its like: names, PROPERTIES, and pairs.
func (s *scope) setProperties(kind string, w []string) {
	for i, x := range w {
		if x != "PROPERTIES" {
			continue
		}
		for k := i + 1; k+1 < len(w); k += 2 {
			of := w[:i]
			if kind == "DIRECTORY" {
				of = []string{""}
			}
			for _, t := range of {
				s.reader.properties[s.property(kind, t, w[k])] = w[k+1]
			}
		}
		return
	}
}

// getProperty follows get_property(variable kind [of] PROPERTY name [SET|DEFINED…]).
func (s *scope) getProperty(w []string) {
	if len(w) < 4 {
		return
	}
	of, i := "", 2
	if w[i] != "PROPERTY" {
		of, i = w[i], i+1
	}
	for i < len(w) && w[i] != "PROPERTY" {
		i++
	}
	if i+1 >= len(w) {
		return
	}
	v, set := s.propertyOf(w[1], of, w[i+1])
	if i+2 < len(w) && w[i+2] == "SET" {
		v = "0"
		if set {
			v = "1"
		}
	}
	s.set(w[0], v)
}

// propertyOf returns the value of a property; one that CMake itself sets may be unknown.
func (s *scope) propertyOf(kind, of, name string) (value string, set bool) {
	c := s.reader
	if unknown(of, name) {
		return declare.Unknown, true
	}
	if v, ok := c.properties[s.property(kind, of, name)]; ok {
		return v, true
	}
	if kind == "VARIABLE" {
		v, ok := s.get(name)
		return v, ok
	}
	dir := s.dir
	if kind == "DIRECTORY" && of != "" {
		rel, ok := c.rel(under(s.source(), of))
		if !ok {
			return declare.Unknown, true
		}
		dir = rel
	}
	switch name {
	case "BUILDSYSTEM_TARGETS":
		return strings.Join(c.targetsOf[dir], ";"), true
	case "TESTS":
		return strings.Join(c.testsOf[dir], ";"), true
	case "SUBDIRECTORIES":
		return strings.Join(c.foldersOf[dir], ";"), true
	case "SOURCE_DIR":
		if kind == "TARGET" {
			if at, ok := c.folderOf[of]; ok {
				return c.abs(at), true
			}
		}
		return c.abs(dir), true
	case "NAME", "ALIASED_TARGET":
		return of, true
	case "TYPE":
		if t, ok := c.typeOf[of]; ok {
			return t, true
		}
		return declare.Unknown, true
	case "SOURCES":
		return declare.Unknown, true
	case "PARENT_DIRECTORY":
		if dir == c.root {
			return "", true
		}
		return c.abs(path.Dir(dir)), true
	case "IN_TRY_COMPILE", "GENERATOR_IS_MULTI_CONFIG":
		return "0", true
	case "ENABLED_LANGUAGES", "TARGET_SUPPORTS_SHARED_LIBS", "COMPILE_FEATURES", "LOCATION", "BINARY_DIR":
		return declare.Unknown, true
	}
	return "", false
}
