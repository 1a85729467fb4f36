package reach

import (
	"bytes"
	"path"
	"regexp"
	"strings"
)

// Builds that do not print their commands say in a few words what they compile. A label is one of these when what
// stands behind it is the file, and nothing else.
var (
	// "[ 50%] ", "[2/7] ", "(3/9) "
	counter = regexp.MustCompile(`^(?:\[\s*\d+%\]|\[\s*\d+/\d+\]|\(\s*\d+/\d+\))\s+`)
	// "[1 of 3] Compiling Main             ( src/Main.hs, Main.o )"
	moduleStep = regexp.MustCompile(`^\[ ?\d+ of \d+\] Compiling \S+\s+\( ([^,]+), `)
)

// Before the file that is compiled, and before what is linked: "  CC [M]  net/heat.o", "cxx: a.cpp", "  CCLD     prog".
var (
	compileLabels = names("CC CXX CPP C++ FC F77 F90 FORTRAN OBJC OBJCXX CUDA NVCC AS CPPAS VALAC OCAMLC OCAMLOPT OCAML ERLC HC GHC JAVAC compiling Compiling COMPILE compile Compile Compiled cc cxx c++ gcc g++ clang")
	linkLabels    = names("CCLD CXXLD F77LD FCLD LD LINK Link LINKING Linking")
)

// isStep reports whether a line may say what is compiled or linked, by its first byte and its first word.
func isStep(at byte, word []byte) bool {
	if at == '[' || at == '(' {
		return true
	}
	label := bytes.Trim(word, "[]:")
	return compileLabels[string(label)] || linkLabels[string(label)] || string(label) == "Building" ||
		bytes.HasPrefix(label, []byte("HOST")) || bytes.HasPrefix(label, []byte("BUILD_")) || bytes.HasPrefix(label, []byte("TARGET_"))
}

// step returns the file that a line says is compiled, or what it says is linked; each is as it was printed.
func step(t string) (compiled, linked string) {
	if t[0] == '[' || t[0] == '(' {
		if m := moduleStep.FindStringSubmatch(t); m != nil {
			return m[1], ""
		}
		t = counter.ReplaceAllString(t, "")
	}
	word, rest, ok := strings.Cut(t, " ")
	if !ok {
		if word, rest, ok = strings.Cut(t, "\t"); !ok {
			return "", ""
		}
	}
	label := strings.Trim(word, "[]:")
	for _, before := range []string{"HOST", "BUILD_", "TARGET_"} {
		label = strings.TrimPrefix(label, before)
	}
	links := linkLabels[label]
	if !links && !compileLabels[label] && label != "Building" {
		return "", ""
	}
	words := strings.Fields(rest)
	if len(words) > 1 && len(words[0]) == 3 && words[0][0] == '[' { // "[M]"
		words = words[1:]
	}
	// "Building C object a.c.o", "Compiling C++ object kiln.p/a.cpp.o", "Linking CXX static library liba.a"
	for len(words) > 1 && len(words) <= 4 && (objectWords[words[0]] || len(words) > 2 && objectWords[words[1]] || len(words) > 3) {
		words = words[1:]
	}
	if len(words) != 1 {
		return "", ""
	}
	name := strings.TrimRight(words[0], ".:")
	switch {
	case links:
		return "", name
	case isSource(name) || isObject(name):
		return name, ""
	}
	return "", ""
}

// objectWords stand between what is done and the file.
var objectWords = names("object obj static shared executable library module target")

// isSource reports whether a file is of a language whose files are compiled one by one.
func isSource(file string) bool {
	return sourceEndings[strings.ToLower(strings.TrimPrefix(path.Ext(file), "."))]
}

// isObject reports whether a file is what a compiler makes of one source.
func isObject(file string) bool {
	return objectEndings[strings.ToLower(strings.TrimPrefix(path.Ext(file), "."))]
}

var (
	sourceEndings = names(`c cc cpp cxx c++ ii i m mm s sx asm f for ftn fpp f77 f90 f95 f03 f08 cu hip hs lhs ml mli nim erl ex d ada adb ads swift scala kt java vala`)
	headerEndings = names(`h hh hpp hxx h++ ipp tcc inl inc def hrl`)
	objectEndings = names("o obj lo os hi cmo cmx cmi beam mod class ko")
)

// isHeader reports whether a file is one that others include.
func isHeader(file string) bool {
	return headerEndings[strings.ToLower(strings.TrimPrefix(path.Ext(file), "."))]
}

// isObjectOf reports whether an object is that of a source, by the names that build systems give: beside it, under a
// folder of the build with the same path below it (CMake's CMakeFiles/kiln.dir/src/coil.c.o), or with the path in its
// name (Meson's kiln.p/src_coil.c.o). An object that has only the last part of the name, as build/coil.o, is that of a
// source if no other source of the workspace is called so, which alone says.
func isObjectOf(object, source string, alone func(base string) bool) bool {
	if isSource(object) {
		return object == source
	}
	stem := strings.TrimSuffix(object, path.Ext(object))
	full := isSource(stem) // coil.c.o
	name := source
	if !full {
		name = strings.TrimSuffix(source, path.Ext(source))
	}
	switch {
	case stem == name, path.Base(stem) == path.Base(name) && path.Dir(path.Dir(stem)) == path.Dir(name): // .libs/coil.o
		return true
	case strings.Contains(stem, ".p/"): // Meson
		_, mangled, _ := strings.Cut(stem, ".p/")
		flat := strings.ReplaceAll(name, "/", "_")
		mangled = strings.TrimLeft(mangled, "._")
		return flat == mangled || strings.HasSuffix(flat, "_"+mangled) && (strings.Contains(mangled, "_") || alone(path.Base(source)))
	case path.Base(stem) != path.Base(name):
		return strings.HasSuffix(stem, "-"+path.Base(name)) && alone(path.Base(source)) // Automake's kiln-coil.o
	}
	if _, below, ok := strings.Cut(stem, ".dir/"); ok { // CMake
		below = strings.ReplaceAll(below, "__/", "")
		return below == name || strings.HasSuffix(name, "/"+below) && (strings.Contains(below, "/") || alone(path.Base(source)) || sameTarget(stem, name))
	}
	return alone(path.Base(source)) || path.Dir(name) != "." && strings.HasSuffix(path.Dir(stem), "/"+path.Dir(name))
}

// sameTarget reports whether the folder of CMake's files, build/src/CMakeFiles/kiln.dir, is that of a source's folder.
func sameTarget(stem, name string) bool {
	above, _, _ := strings.Cut(stem, "/CMakeFiles/")
	dir := path.Dir(name)
	return dir != "." && (above == dir || strings.HasSuffix(above, "/"+dir))
}
