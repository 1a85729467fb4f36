package reach

import (
	"maps"
	"path"
	"slices"
	"strings"

	"mvdan.cc/sh/v3/syntax"
)

// A command that a run has printed before it was executed, as make and its like do, or that the run itself is.
type command struct {
	at   int64    // where it stands in the output, in bytes; -1 for the run's own command
	dir  string   // where it runs, as a Reach's paths are
	tool string   // "gcc"
	work work     // what it does
	into string   // what it makes (-o), as a Reach's paths are; "" if that is not said
	args []string // its other words
	of   []string // the sources that it compiles; or the files and folders that it is given
	asks asks     // of a compiler
}

// work is what a command does with the files that it names.
type work uint8

const (
	nothing  work = iota // of interest here: it copies, counts, archives
	compiles             // it compiles or checks each of the sources
	links                // it puts objects together
	checks               // a linter or a test runner: it looks at files and folders
	builds               // a build system: it does what it finds necessary
)

// compilers are those that are called for each source file, or with a few.
var compilers = names(`gcc g++ cc c++ clang clang++ gfortran f77 f90 f95 flang icc icpc icx icpx ifort ifx tcc pcc nvcc hipcc mpicc mpicxx mpic++ mpif77 mpif90 mpifort
	emcc em++ ghc ocamlc ocamlopt nim erlc valac swiftc javac kotlinc scalac nasm yasm as gas gdc ldc2 dmd gnatmake rustc elixirc`)

// isCompiler reports whether a program is a compiler, by its name: with the triple of a cross compiler before it, and a
// version behind it.
func isCompiler(base string) bool {
	if compilers[base] {
		return true
	}
	base = strings.TrimRight(strings.TrimSuffix(base, ".opt"), "0123456789.")
	base = strings.TrimSuffix(base, "-")
	return compilers[base[strings.LastIndexByte(base, '-')+1:]]
}

// linters are tools that look at each file or folder that they are given, or at all if they are given none, each
// time that they run.
var linters = names(`flake8 pycodestyle pydocstyle pyflakes pylint ruff mypy pyright bandit black isort vulture
	eslint stylelint tsc vue-tsc svelte-check prettier biome oxlint standard xo jshint tslint htmlhint markdownlint
	shellcheck xmllint yamllint jsonlint hadolint cppcheck cpplint cpplint.py clang-tidy run-clang-tidy clang-format scan-build sparse flawfinder
	go gofmt staticcheck golangci-lint revive errcheck rubocop ruby php phpcs phpstan psalm luacheck luac perl perlcritic
	checkstyle pmd ktlint detekt swiftlint credo hlint vale codespell typos proselint actionlint ansible-lint tflint
	pytest py.test jest vitest mocha ava tap karma jasmine rspec minitest phpunit prove bats ctest tox nox nosetests unittest`)

// builders leave out what has not changed since their last call, and say nothing of it.
var builders = names(`make gmake bmake nmake mingw32-make remake kmake ninja ninja-build samu cmake meson muon scons waf jam bjam b2 tup redo bazel bazelisk buck buck2 pants
	gradle gradlew mvn mvnw ant sbt mill bloop lein rake turbo nx lage wireit moon cabal stack dune jbuilder mix rebar3 rebar gprbuild alr
	xcodebuild swift dotnet msbuild node-gyp pip pip3 uv poetry hatch flit setup.py build.py waf.py R perl ./Build Build dub nimble fpm zig conan`)

// simple are programs that do all that they do each time.
var simple = names(`cat echo printf true false test head tail sed awk grep sort tee sleep date env cp mv rm mkdir touch exit`)

// wrappers stand before a command and run it.
var wrappers = names(`env time nice ionice nohup setsid stdbuf chronic timeout ccache sccache distcc icecc buildcache gomacc command exec sudo doas
	npx bunx pnpx xcrun libtool glibtool ltmain.sh faketime unbuffer xvfb-run strace`)

// shells run a text or a script.
var shells = names("sh bash dash ash zsh ksh mksh busybox fish")

func union(sets ...map[string]bool) map[string]bool {
	all := map[string]bool{}
	for _, set := range sets {
		maps.Copy(all, set)
	}
	return all
}

func names(list string) map[string]bool {
	set := map[string]bool{}
	for _, w := range strings.Fields(list) {
		set[w] = true
	}
	return set
}

// valued are the options of compilers whose value is the next word.
var valued = names(`-o -I -L -D -U -MF -MT -MQ -include -imacros -isystem -iquote -idirafter -iprefix -iwithprefix -isysroot --sysroot -x -arch -target -Xlinker -Xassembler
	-Xpreprocessor -Xclang -T -u -z -e -l -F -framework -G -aux-info --param -b -V -wrapper -specs -dumpdir -dumpbase -package -package-id -package-db -odir -hidir -cp -classpath
	-d -s -h -sourcepath --release -source -encoding -processorpath -bootclasspath -endorseddirs -extdirs -pp -ppx -open`)

// commandsIn returns the commands of a line of a shell, in order. dir is the folder that it is typed in.
func commandsIn(line, dir string) []command {
	var found []command
	if !strings.ContainsAny(line, "'\"`$;&|()<>\\*?[]{}~#!") { // as most are
		if c := commandOf(strings.Fields(line), dir); c.tool != "" {
			found = append(found, c)
		}
		return found
	}
	file, err := syntax.NewParser(syntax.Variant(syntax.LangBash)).Parse(strings.NewReader(line), "")
	if err != nil {
		// A line that was cut, or is no shell's: its words are taken as they are.
		if c := commandOf(strings.Fields(line), dir); c.work != nothing {
			found = append(found, c)
		}
		return found
	}
	syntax.Walk(file, func(n syntax.Node) bool {
		call, ok := n.(*syntax.CallExpr)
		if !ok {
			return true
		}
		words := make([]string, 0, len(call.Args))
		for _, w := range call.Args {
			words = append(words, literal(w.Parts))
		}
		if len(words) > 1 && words[0] == "cd" {
			dir = joined(dir, words[len(words)-1])
			return false
		}
		if c := commandOf(words, dir); c.tool != "" {
			found = append(found, c)
		}
		return false // what is put into a word, as by `test -f a.c`, does not compile
	})
	return found
}

// literal returns what stands literally in a word, without what a shell puts into it.
func literal(parts []syntax.WordPart) string {
	var b strings.Builder
	for _, p := range parts {
		switch p := p.(type) {
		case *syntax.Lit:
			b.WriteString(unescaped(p.Value))
		case *syntax.SglQuoted:
			b.WriteString(p.Value)
		case *syntax.DblQuoted:
			b.WriteString(literal(p.Parts))
		}
	}
	return b.String()
}

func unescaped(s string) string {
	if strings.IndexByte(s, '\\') < 0 {
		return s
	}
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] == '\\' && i+1 < len(s) {
			i++
		}
		b.WriteByte(s[i])
	}
	return b.String()
}

// joined returns a path of a command as the paths of a Reach are: absolute, or as it was printed.
func joined(dir, name string) string {
	if path.IsAbs(name) {
		return path.Clean(name)
	}
	return path.Join(dir, name)
}

// commandOf reads the words of a command. Its tool is empty if there are none.
func commandOf(words []string, dir string) command {
	for len(words) > 0 {
		w := words[0]
		base := path.Base(w)
		switch {
		case strings.HasPrefix(w, "-"), assigns(w), wrappers[base]: // "env -i A=b nice -n"
			words = words[1:]
			continue
		case shells[base]:
			if i := slices.IndexFunc(words, func(w string) bool { return strings.HasSuffix(path.Base(w), "libtool") }); i > 0 {
				words = words[i+1:]
				continue
			}
			if len(words) > 2 && strings.HasPrefix(words[1], "-") && strings.HasSuffix(words[1], "c") {
				if in := commandsIn(words[2], dir); len(in) > 0 {
					return in[0]
				}
				return command{tool: base, dir: dir}
			}
		case strings.HasPrefix(base, "python") && len(words) > 2 && words[1] == "-m":
			words = words[2:]
			continue
		case strings.HasPrefix(base, "python") && len(words) > 1 && builders[path.Base(words[1])]:
			words = words[1:]
			continue
		case len(words) > 2 && (base == "uv" || base == "poetry" || base == "pdm" || base == "hatch" || base == "rye" || base == "pipenv") && words[1] == "run",
			len(words) > 2 && (base == "bundle" || base == "pnpm" || base == "npm" || base == "yarn") && words[1] == "exec":
			words = words[2:]
			continue
		}
		break
	}
	if len(words) == 0 {
		return command{}
	}
	c := command{dir: dir, tool: path.Base(words[0])}
	args := words[1:]
	c.args = args
	switch {
	case isCompiler(c.tool):
		c.compiler(args)
	case c.tool == "ocamlfind" && len(args) > 0:
		c.tool = args[0]
		c.compiler(args[1:])
	case c.tool == "ld" || strings.HasPrefix(c.tool, "ld.") || c.tool == "collect2" || c.tool == "lld":
		c.compiler(args)
		c.work = links
	case builders[c.tool] || builders[words[0]]:
		c.work = builds
	case c.tool == "cargo":
		c.work = checks
		c.given(nil)
	case linters[c.tool]:
		c.work = checks
		c.given(args)
	}
	return c
}

// onlyShows reports whether a build system is asked to print what it would do, and not to do it (POSIX make, options -n, -q and -t;
// ninja -n).
func (c command) onlyShows() bool {
	return c.work == builds && slices.ContainsFunc(c.args, func(a string) bool {
		switch a {
		case "--dry-run", "--just-print", "--recon", "--question", "--touch":
			return true
		}
		makes := strings.HasSuffix(c.tool, "make") && c.tool != "cmake" || c.tool == "ninja"
		return makes && len(a) > 1 && a[0] == '-' && a[1] != '-' && strings.Trim(a[1:], "bBeikLnqrRsStvw") == "" && strings.ContainsAny(a, "nqt")
	})
}

// assigns reports whether a word sets a variable of the environment.
func assigns[word string | []byte](w word) bool {
	for i := range len(w) {
		switch c := w[i]; {
		case c == '=':
			return i > 0
		case c != '_' && !(c >= 'A' && c <= 'Z') && !(c >= 'a' && c <= 'z') && !(c >= '0' && c <= '9'):
			return false
		}
	}
	return false
}

// given takes the files and folders among the arguments of a linter.
func (c *command) given(args []string) {
	for i, a := range args {
		a = strings.TrimSuffix(a, "::")
		a, _, _ = strings.Cut(a, "::") // a test of a file
		if strings.HasPrefix(a, "-") || a == "" || i == 0 && strings.Trim(a, "abcdefghijklmnopqrstuvwxyz-") == "" && subcommands[a] {
			continue
		}
		c.of = append(c.of, joined(c.dir, a))
	}
}

// subcommands are words in the calls of linters that do not name folders.
var subcommands = names("check vet test build run lint format list fix")

// compiler reads the arguments of a compiler.
func (c *command) compiler(args []string) {
	mode, objects, sources := "", false, []string(nil)
	c.asks.tool = c.tool
	for i := 0; i < len(args); i++ {
		a := args[i]
		switch {
		case a == "-c" || a == "-S" || a == "-fsyntax-only" || a == "-C":
			mode = "-c"
		case a == "-E" || a == "-M" || a == "-MM" || a == "--version" || a == "-dumpversion" || a == "-dumpmachine" || a == "-###" || strings.HasPrefix(a, "-print-"):
			mode = a
		case a == "-o" && i+1 < len(args):
			c.into = joined(c.dir, args[i+1])
		case strings.HasPrefix(a, "-o") && len(a) > 2 && !strings.HasPrefix(a, "-omit") && !strings.Contains(a[2:], "-"):
			c.into = joined(c.dir, a[2:])
		case strings.HasPrefix(a, "-"):
			value := ""
			if valued[a] && i+1 < len(args) {
				value = args[i+1]
			}
			c.asks.take(a, value)
		case isSource(a):
			sources = append(sources, joined(c.dir, a))
		case path.Ext(a) != "" && objectEndings[strings.ToLower(path.Ext(a)[1:])], strings.HasSuffix(a, ".a"), strings.Contains(path.Base(a), ".so"):
			objects = true
		}
		if valued[a] {
			i++
		}
	}
	switch {
	case mode == "-c" || mode == "" && len(sources) > 0:
		c.work, c.of = compiles, sources
	case mode == "" && (objects || c.into != ""):
		c.work = links
	}
}

// asks is what a compiler was asked to warn of, and for what it compiled: what decides whether its silence means
// that there is nothing to say.
type asks struct {
	tool string
	same []string // must be the same: macros, the standard, the level of optimization
	more []string // there must be no fewer: warnings
	less []string // there must be no more: warnings that are switched off
}

// take takes an option.
func (a *asks) take(option, value string) {
	switch {
	case option == "-w":
		a.less = append(a.less, option)
	case strings.HasPrefix(option, "-Wl,"), strings.HasPrefix(option, "-Wa,"), strings.HasPrefix(option, "-Wp,"):
	case strings.HasPrefix(option, "-Wno-") && !strings.HasPrefix(option, "-Wno-error"):
		a.less = append(a.less, option)
	case strings.HasPrefix(option, "-W"), strings.HasPrefix(option, "-pedantic"), option == "-fanalyzer", strings.HasPrefix(option, "-Xlint"):
		a.more = append(a.more, strings.TrimPrefix(option, "-Werror="))
	case strings.HasPrefix(option, "-D"), strings.HasPrefix(option, "-U"):
		if option != "-D" && option != "-U" {
			value = option[2:]
		}
		// A text, such as a version or a date, selects no code.
		if name, text, ok := strings.Cut(value, "="); ok && strings.ContainsAny(text, `"'`) {
			value = name
		}
		a.same = append(a.same, option[:2]+value)
	case strings.HasPrefix(option, "-std"), strings.HasPrefix(option, "-O"), strings.HasPrefix(option, "-m"), option == "-x":
		a.same = append(a.same, option+value)
	}
}

// String packs what was asked, for the history; readAsks reads it.
func (a asks) String() string {
	if a.tool == "" {
		return ""
	}
	return strings.Join([]string{a.tool, strings.Join(packed(a.same), "\x1f"), strings.Join(packed(a.more), "\x1f"), strings.Join(packed(a.less), "\x1f")}, "\x1e")
}

func packed(words []string) []string {
	words = slices.Clone(words)
	slices.Sort(words)
	return slices.Compact(words)
}

func readAsks(s string) asks {
	parts := strings.Split(s, "\x1e")
	if len(parts) != 4 {
		return asks{tool: parts[0]}
	}
	list := func(s string) []string {
		if s == "" {
			return nil
		}
		return strings.Split(s, "\x1f")
	}
	return asks{parts[0], list(parts[1]), list(parts[2]), list(parts[3])}
}

// covers reports whether what was asked now would have found what was found by what was asked then.
func (a asks) covers(then asks) bool {
	in := func(list []string) func(string) bool {
		return func(w string) bool { return !slices.Contains(list, w) }
	}
	return a.tool == then.tool && slices.Equal(packed(a.same), packed(then.same)) &&
		!slices.ContainsFunc(then.more, in(a.more)) && !slices.ContainsFunc(a.less, in(then.less))
}
