package cmakelists

import (
	"path"
	"path/filepath"
	"slices"
	"strings"

	"tidytally/core/reader/declare"
	"tidytally/core/workspace"
)

// Paths: get_filename_component(), cmake_path() and file() (cmake-commands(7)). Of files, those of the workspace are read.

// abs returns the absolute path of one of the workspace.
func (c *cmakeReader) abs(rel string) string {
	return path.Join(filepath.ToSlash(c.file.Root()), rel)
}

// rel returns a path of the workspace, relative to its root; false for one outside.
func (c *cmakeReader) rel(abs string) (string, bool) {
	abs = path.Clean(abs)
	root := filepath.ToSlash(c.file.Root())
	if abs == root {
		return ".", true
	}
	return strings.CutPrefix(abs, strings.TrimSuffix(root, "/")+"/")
}

// built returns the folder that is built in for one of the sources, both relative to the workspace.
func (c *cmakeReader) built(dir string) string {
	rel, err := filepath.Rel(c.root, dir)
	if err != nil {
		return path.Join(c.root, c.build)
	}
	return path.Join(c.root, c.build, filepath.ToSlash(rel))
}

// inBuild reports whether a path of the workspace lies where the build is made: what is there nobody knows.
func (c *cmakeReader) inBuild(rel string) bool {
	at := path.Join(c.root, c.build)
	return rel == at || strings.HasPrefix(rel, at+"/")
}

// under returns the absolute path of one that starts in a folder.
func under(dir, name string) string {
	if path.IsAbs(name) || unknown(name) {
		return name
	}
	return path.Join(dir, name)
}

func dirOf(name string) string {
	if !strings.Contains(name, "/") {
		return ""
	}
	return path.Dir(name)
}

// source is the absolute path of the current source folder.
func (s *scope) source() string { return s.reader.abs(s.dir) }

// fileName follows get_filename_component().
func (s *scope) fileName(w []string) {
	if len(w) < 3 {
		return
	}
	s.set(w[0], declare.Unknown)
	name := w[1]
	if unknown(name) {
		return
	}
	base := name[strings.LastIndexByte(name, '/')+1:]
	switch w[2] {
	case "NAME":
	case "NAME_WE":
		base, _, _ = strings.Cut(base[min(1, len(base)):], ".")
		base = name[strings.LastIndexByte(name, '/')+1:][:min(1, len(name)-strings.LastIndexByte(name, '/')-1)] + base
	case "NAME_WLE":
		base = strings.TrimSuffix(base, path.Ext(base))
	case "DIRECTORY", "PATH":
		base = dirOf(name)
	case "EXT":
		if i := strings.IndexByte(base[min(1, len(base)):], '.'); i >= 0 {
			base = base[i+1:]
		} else {
			base = ""
		}
	case "LAST_EXT":
		base = path.Ext(base)
	case "ABSOLUTE", "REALPATH":
		from := s.source()
		if i := slices.Index(w, "BASE_DIR"); i >= 0 && i+1 < len(w) {
			from = under(from, w[i+1])
		}
		base = under(from, name)
		if !unknown(base) {
			base = path.Clean(base)
		}
	default:
		return
	}
	s.set(w[0], base)
}

// pathCommand follows cmake_path().
func (s *scope) pathCommand(w []string) {
	if len(w) < 2 {
		return
	}
	name, args := w[1], w[2:]
	old := s.value(name)
	out := name
	if i := slices.Index(args, "OUTPUT_VARIABLE"); i >= 0 && i+1 < len(args) {
		out, args = args[i+1], slices.Concat(args[:i], args[i+2:])
	}
	base := old[strings.LastIndexByte(old, '/')+1:]
	option := func(key, otherwise string) string {
		if i := slices.Index(args, key); i >= 0 && i+1 < len(args) {
			return args[i+1]
		}
		return otherwise
	}
	normal := func(p string) string {
		if slices.Contains(args, "NORMALIZE") && !unknown(p) {
			return path.Clean(p)
		}
		return p
	}
	switch w[0] {
	case "SET":
		if len(args) > 0 {
			s.set(name, normal(strings.ReplaceAll(args[len(args)-1], `\`, "/")))
		}
		return
	case "APPEND":
		for _, a := range args {
			if path.IsAbs(a) || old == "" {
				old = a
			} else {
				old = strings.TrimSuffix(old, "/") + "/" + a
			}
		}
		s.set(out, old)
		return
	}
	if unknown(old) {
		switch w[0] {
		case "GET":
			if len(args) > 0 {
				out = args[len(args)-1]
			}
		}
		s.set(out, declare.Unknown)
		return
	}
	switch w[0] {
	case "GET":
		if len(args) < 2 {
			return
		}
		last := slices.Contains(args, "LAST_ONLY")
		v := ""
		ext := path.Ext(base)
		if !last {
			if i := strings.IndexByte(base[min(1, len(base)):], '.'); i >= 0 {
				ext = base[i+1:]
			}
		}
		switch args[0] {
		case "FILENAME":
			v = base
		case "EXTENSION":
			v = ext
		case "STEM":
			v = strings.TrimSuffix(base, ext)
		case "PARENT_PATH":
			v = dirOf(old)
		case "RELATIVE_PART":
			v = strings.TrimLeft(old, "/")
		}
		s.set(args[len(args)-1], v)
	case "APPEND_STRING":
		s.set(out, old+strings.Join(args, ""))
	case "REMOVE_FILENAME":
		s.set(out, strings.TrimSuffix(old, base))
	case "REPLACE_FILENAME":
		if len(args) > 0 {
			s.set(out, strings.TrimSuffix(old, base)+args[0])
		}
	case "REMOVE_EXTENSION", "REPLACE_EXTENSION":
		ext := path.Ext(base)
		if !slices.Contains(args, "LAST_ONLY") {
			if i := strings.IndexByte(base[min(1, len(base)):], '.'); i >= 0 {
				ext = base[i+1:]
			}
		}
		with := ""
		if w[0] == "REPLACE_EXTENSION" && len(args) > 0 {
			with = "." + strings.TrimPrefix(args[len(args)-1], ".")
		}
		s.set(out, strings.TrimSuffix(old, ext)+with)
	case "NORMAL_PATH":
		s.set(out, path.Clean(old))
	case "ABSOLUTE_PATH":
		s.set(out, normal(under(under(s.source(), option("BASE_DIRECTORY", ".")), old)))
	case "RELATIVE_PATH":
		if rel, err := filepath.Rel(under(s.source(), option("BASE_DIRECTORY", ".")), under(s.source(), old)); err == nil {
			s.set(out, filepath.ToSlash(rel))
		}
	default:
		if len(args) > 0 {
			s.set(args[len(args)-1], declare.Unknown)
		}
	}
}

// fileCommand follows file().
func (s *scope) fileCommand(w []string) {
	if len(w) < 3 {
		return
	}
	switch w[0] {
	case "GLOB", "GLOB_RECURSE":
		s.glob(w[0] == "GLOB_RECURSE", w[1], w[2:])
	case "STRINGS", "READ":
		s.set(w[2], s.content(w))
	case "RELATIVE_PATH":
		if len(w) > 3 && !unknown(w[2], w[3]) {
			if rel, err := filepath.Rel(w[2], w[3]); err == nil {
				s.set(w[1], filepath.ToSlash(rel))
			}
		} else {
			s.set(w[1], declare.Unknown)
		}
	case "REAL_PATH":
		s.set(w[2], under(s.source(), w[1]))
	case "TO_CMAKE_PATH", "TO_NATIVE_PATH":
		s.set(w[2], strings.ReplaceAll(w[1], ":", ";"))
	case "SIZE", "TIMESTAMP", "READ_SYMLINK", "MD5", "SHA1", "SHA224", "SHA256", "SHA384", "SHA512":
		s.set(w[2], declare.Unknown)
	}
}

// maxRead is the size in bytes of a file that file(READ) and file(STRINGS) read.
const maxRead = 256 << 10

// content returns what file(READ) or file(STRINGS) gives.
func (s *scope) content(w []string) string {
	rel, ok := s.reader.rel(under(s.source(), w[1]))
	if !ok || s.reader.inBuild(rel) || unknown(w...) {
		return declare.Unknown
	}
	data, err := s.reader.file.Open(rel)
	if err != nil || len(data) > maxRead || strings.IndexByte(string(data), 0) >= 0 {
		return declare.Unknown
	}
	if w[0] == "READ" {
		if len(w) > 3 { // a part of it, or as hexadecimal
			return declare.Unknown
		}
		return string(data)
	}
	accept := func(string) bool { return true }
	for i, x := range w {
		switch {
		case x == "REGEX" && i+1 < len(w):
			re, err := cmakeRegexp(w[i+1])
			if err != nil {
				return declare.Unknown
			}
			accept = re.MatchString
		case x == "LIMIT_COUNT" || strings.HasPrefix(x, "LIMIT_") || strings.HasPrefix(x, "LENGTH_"):
			return declare.Unknown
		}
	}
	var lines []string
	for l := range strings.Lines(string(data)) {
		if l = strings.TrimRight(l, "\r\n"); l != "" && accept(l) {
			lines = append(lines, strings.ReplaceAll(l, ";", "\\;"))
		}
	}
	return strings.Join(lines, ";")
}

// maxGlobbed bounds the files that one file(GLOB_RECURSE) finds, and the folders that it looks into.
const maxGlobbed = 20_000

// glob follows file(GLOB) and file(GLOB_RECURSE). Results are sorted, as CMake does.
func (s *scope) glob(recurse bool, out string, args []string) {
	var found []string
	relative, folders := "", !recurse
	for i := 0; i < len(args); i++ {
		switch p := args[i]; {
		case p == "RELATIVE" && i+1 < len(args):
			relative = under(s.source(), args[i+1])
			i++
		case p == "LIST_DIRECTORIES" && i+1 < len(args):
			folders = cmakeTruth(args[i+1])
			i++
		case p == "CONFIGURE_DEPENDS" || p == "FOLLOW_SYMLINKS":
		case unknown(p):
			s.set(out, declare.Unknown)
			return
		default:
			full := under(s.source(), p)
			rel, ok := s.reader.rel(full)
			if !ok || s.reader.inBuild(rel) {
				if !strings.ContainsAny(full, "*?[") {
					found = append(found, full)
					continue
				}
				s.set(out, declare.Unknown)
				return
			}
			found = append(found, s.reader.globbed(rel, recurse, folders)...)
		}
	}
	slices.Sort(found)
	found = slices.Compact(found)
	if relative != "" {
		if unknown(relative) {
			s.set(out, declare.Unknown)
			return
		}
		for i, f := range found {
			if rel, err := filepath.Rel(relative, f); err == nil {
				found[i] = filepath.ToSlash(rel)
			}
		}
	}
	s.setList(out, found)
}

// globbed returns the absolute paths that match a pattern relative to the workspace.
func (c *cmakeReader) globbed(pattern string, recurse, folders bool) (found []string) {
	take := func(rel string, e *workspace.Entry) {
		if e == nil || folders || !e.Type.IsDir() {
			found = append(found, c.abs(rel))
		}
	}
	dir, base := path.Split(pattern)
	dir = path.Clean(dir)
	if !recurse {
		for _, name := range c.file.Glob(".", pattern) {
			if !folders && len(c.file.List(name)) > 0 {
				continue
			}
			take(name, nil)
		}
		return found
	}
	if strings.ContainsAny(dir, "*?[") {
		for _, d := range c.file.Glob(".", dir) {
			found = append(found, c.globbed(path.Join(d, base), true, folders)...)
		}
		return found
	}
	looked := 0
	var walk func(dir string)
	walk = func(dir string) {
		if looked++; looked > maxGlobbed || len(found) > maxGlobbed {
			return
		}
		c.steps++
		for _, e := range c.file.List(dir) {
			rel := path.Join(dir, e.Name)
			if ok, _ := path.Match(base, e.Name); ok && (!strings.HasPrefix(e.Name, ".") || strings.HasPrefix(base, ".")) {
				take(rel, &e)
			}
			if e.Type.IsDir() {
				walk(rel)
			}
		}
	}
	walk(dir)
	return found
}
