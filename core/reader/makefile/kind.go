package makefile

import (
	"path"
	"slices"
	"strings"

	"tidytally/core/task"
)

// What a target is: what its recipe does decides, then its name.

// doing is what a command of a recipe does.
type doing int

const (
	nothing doing = iota // that says anything
	makes                // it compiles, links, archives
	tests
	checks
	removes
	runs // what the makefile makes
)

// does has what programs do, by their names without a version or a target: arm-none-eabi-gcc-12 is gcc.
var does = map[string]doing{}

func init() {
	for what, names := range map[doing]string{
		makes:   "cc gcc g++ c++ clang clang++ tcc icc icx nvcc gfortran f77 f90 ifort gnat gnatmake gprbuild ld ld.lld gold ar ranlib as nasm yasm windres objcopy strip libtool rustc javac kotlinc scalac ghc ocamlc ocamlopt ocamlfind swiftc zig nim fpc dmd ldc2 erlc elixirc tsc esbuild rollup webpack moc uic rcc lex flex yacc bison protoc xelatex pdflatex lualatex latexmk latex makeinfo jar",
		tests:   "pytest py.test ctest prove jest vitest mocha phpunit rspec bats tox nox nosetests gotestsum runghc-test",
		checks:  "eslint flake8 pylint ruff mypy pyright black isort prettier golangci-lint staticcheck gofmt shellcheck cppcheck clang-tidy clang-format rubocop phpcs phpstan hlint yamllint markdownlint codespell",
		removes: "rm rmdir unlink",
	} {
		for name := range strings.FieldsSeq(names) {
			does[name] = what
		}
	}
}

// verbs has what some programs do by the word behind them.
var verbs = map[string]map[string]doing{
	"go":    {"build": makes, "install": makes, "test": tests, "vet": checks, "run": runs, "generate": makes, "clean": removes},
	"cargo": {"build": makes, "test": tests, "clippy": checks, "check": checks, "fmt": checks, "run": runs, "clean": removes, "bench": tests},
	"npm":   {"test": tests}, "yarn": {"test": tests}, "pnpm": {"test": tests}, "dotnet": {"build": makes, "test": tests, "run": runs}, "mvn": {"test": tests, "package": makes, "clean": removes},
	"docker": {"build": makes, "run": runs}, "podman": {"build": makes, "run": runs},
}

// prefixes are programs that start the one behind them.
var prefixes = map[string]bool{"env": true, "time": true, "exec": true, "nice": true, "sudo": true, "ccache": true, "sccache": true, "command": true, "xvfb-run": true, "valgrind": true, "timeout": true, "if": true, "then": true, "else": true, "do": true, "!": true, "(": true, "{": true}

// maxRecipe bounds the lines of a recipe that are looked at.
const maxRecipe = 60

// kindOf returns the kind of a target, and why: what its recipe does, else what its name says. stays reports whether it may stay up:
// what only makes, checks or removes files does not.
func (m *makeReader) kindOf(name string, t *makeTarget) (kind task.Kind, why string, stays bool) {
	byName := task.KindOf(name)
	if m.steps > makeMaxSteps/2 {
		return byName, "", true
	}
	var seen []doing
	replacer := strings.NewReplacer("$@", name, "$(@)", name, "${@}", name, "$<", first(t.needs), "$^", strings.Join(t.needs[:min(len(t.needs), 20)], " "))
	for _, line := range t.recipe[:min(len(t.recipe), maxRecipe)] {
		for _, command := range strings.FieldsFunc(m.expand(replacer.Replace(strings.ReplaceAll(line, "\\\n", " "))), func(r rune) bool { return strings.ContainsRune(";&|\n", r) }) {
			if d := m.doing(command, name, t); d != nothing {
				seen = append(seen, d)
			}
		}
	}
	if len(seen) == 0 {
		return byName, "", true
	}
	last := seen[len(seen)-1]
	all := func(d doing) bool { return !slices.ContainsFunc(seen, func(s doing) bool { return s != d }) }
	switch {
	case !m.phony[name] && slices.Contains(seen, makes) && last != runs && last != tests:
		return task.Build, "by its recipe, which compiles, links or archives", false
	case all(removes):
		return task.Clean, "by its recipe, which removes files", false
	case slices.Contains(seen, tests):
		return task.Test, "by its recipe, which calls a test runner", false
	case last == checks:
		return task.Check, "by its recipe, which calls a checker", false
	case last == runs:
		if byName == task.Other || byName == task.Build {
			return task.Run, "by its recipe, which runs what is made", true
		}
		return byName, "", true
	case last == makes && byName != task.Test && byName != task.Check && byName != task.Run:
		return task.Build, "by its recipe, which compiles, links or archives", false
	}
	return byName, "", byName != task.Clean
}

func first(list []string) string {
	if len(list) == 0 {
		return ""
	}
	return list[0]
}

// doing returns what a command of the recipe of a target does.
func (m *makeReader) doing(command, target string, t *makeTarget) doing {
	words := strings.Fields(strings.TrimLeft(strings.TrimSpace(command), "@-+ \t"))
	for len(words) > 0 && (prefixes[words[0]] || strings.Contains(words[0], "=") && !strings.HasPrefix(words[0], "-") || strings.HasPrefix(words[0], "-")) {
		words = words[1:]
	}
	if len(words) == 0 {
		return nothing
	}
	program := strings.Trim(words[0], `"'`)
	base := path.Base(program)
	if what, ok := verbs[base]; ok {
		for _, w := range words[1:] {
			if !strings.HasPrefix(w, "-") {
				return what[w]
			}
		}
		return nothing
	}
	if d := does[base]; d != nothing {
		return d
	}
	if program == base || strings.HasPrefix(program, "/") { // a cross compiler, or one with a version
		base = strings.TrimRight(strings.TrimRight(base, "0123456789."), "-")
		if d := does[base]; d != nothing {
			return d
		}
		if i := strings.LastIndexByte(base, '-'); i > 0 && does[base[i+1:]] == makes {
			return makes
		}
	}
	own := strings.TrimPrefix(program, "./")
	if own != target && (slices.Contains(t.needs, own) || m.targets[own] != nil && own != program || slices.Contains(t.needs, program)) {
		return runs
	}
	return nothing
}
