package session

import (
	"flag"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"tidytally/core/history"
	"tidytally/core/plan"
	"tidytally/core/problem"
	"tidytally/core/run"
	"tidytally/core/task"
	"tidytally/internal/testtree"
)

// everyOrder lets TestLives mend the mistakes in all orders that there are, which takes minutes.
var everyOrder = flag.Bool("orders", false, "mend mistakes in every order")

// A life is a project in which mistakes are planted, one in each of its units, and mended one after the other.
type life struct {
	tools []string
	// files as they are first; mended has the better text of those that hold a mistake.
	files, mended map[string]string
	run           string
	// late says that the build does not know that a file was mended until it compiles what includes it for another
	// reason.
	late map[string]bool
	// ahead is how much newer than now files are made when they are mended: a tool may take one for unchanged that is
	// hardly newer than what it made of it.
	ahead time.Duration
	slow  bool // it takes long, and is like another: only with -orders
}

func unitOf(name, unused string) string {
	return fmt.Sprintf("int %s(int n);\nint %s(int n)\n{\n%s\treturn n + 1;\n}\n", name, name, unused)
}

// inC returns a project of three units in C and the files more.
func inC(more map[string]string, run string, tools ...string) life {
	l := life{tools: append(tools, "gcc"), run: run, files: map[string]string{"m.c": "int main(void) { return 0; }\n"}, mended: map[string]string{}}
	for _, name := range []string{"a", "b", "c"} {
		l.files[name+".c"] = unitOf(name, "\tint unused_"+name+";\n")
		l.mended[name+".c"] = unitOf(name, "")
	}
	maps.Copy(l.files, more)
	return l
}

// throughHeader is inC with a mistake in a header that two units include.
func throughHeader(makefile string) life {
	l := inC(map[string]string{"Makefile": makefile}, "make", "make")
	if !strings.Contains(makefile, "-MMD") {
		l.late = map[string]bool{"h.h": true}
	}
	l.files["h.h"] = "static inline int h(int n)\n{\n\tint unused_h;\n\treturn n;\n}\n"
	l.mended["h.h"] = "static inline int h(int n)\n{\n\treturn n;\n}\n"
	for _, name := range []string{"a.c", "b.c"} {
		l.files[name] = "#include \"h.h\"\n" + l.files[name]
		l.mended[name] = "#include \"h.h\"\n" + l.mended[name]
	}
	return l
}

func slowly(l life) life {
	l.slow = true
	return l
}

const objects = "m.o a.o b.o c.o"

var allLives = map[string]life{
	"make": inC(map[string]string{"Makefile": "CFLAGS = -Wall\nprog: " + objects + "\n\t$(CC) -o $@ $^\n"}, "make", "make"),
	"make, archive, size, count and copy": inC(map[string]string{
		"Makefile": "CFLAGS = -Wall\nall: prog\n\tsize a.o b.o c.o\n\twc -l a.c b.c c.c\n\tcp b.c b.bak\nprog: m.o lib.a\n\t$(CC) -o $@ $^\nlib.a: a.o b.o c.o\n\tar rc $@ a.o b.o c.o\n"}, "make", "make"),
	"make, silent":                 inC(map[string]string{"Makefile": "CFLAGS = -Wall\nprog: " + objects + "\n\t@$(CC) -o $@ $^\n%.o: %.c\n\t@$(CC) $(CFLAGS) -c -o $@ $<\n"}, "make", "make"),
	"make -s":                      slowly(inC(map[string]string{"Makefile": "CFLAGS = -Wall\nprog: " + objects + "\n\t$(CC) -o $@ $^\n"}, "make -s", "make")),
	"make, labels":                 slowly(inC(map[string]string{"Makefile": "CFLAGS = -Wall\nprog: " + objects + "\n\t@echo '  LD      '$@; $(CC) -o $@ $^\n%.o: %.c\n\t@echo '  CC      '$@; $(CC) $(CFLAGS) -c -o $@ $<\n"}, "make", "make")),
	"make, in a folder of its own": slowly(inC(map[string]string{"Makefile": "CFLAGS = -Wall\nprog: $(addprefix out/,m.o a.o b.o c.o)\n\t@$(CC) -o $@ $^\nout/%.o: %.c\n\t@mkdir -p out\n\t@$(CC) $(CFLAGS) -c -o $@ $<\n"}, "make", "make")),
	"make, recursive": {tools: []string{"make", "gcc"}, run: "make",
		files: map[string]string{
			"Makefile": "all:\n\t$(MAKE) -C x\n\t$(MAKE) -C y\n\tgcc -o prog x/a.o y/a.o\n", "x/Makefile": "CFLAGS=-Wall\na.o:\n", "y/Makefile": "CFLAGS=-Wall\na.o:\n",
			"x/a.c": unitOf("main", "\tint unused_x;\n"), "y/a.c": unitOf("ya", "\tint unused_y;\n")},
		mended: map[string]string{"x/a.c": unitOf("main", ""), "y/a.c": unitOf("ya", "")}},
	"make, keeps going":                   inC(map[string]string{"Makefile": "CFLAGS = -Wall\nprog: " + objects + "\n\t$(CC) -o $@ $^\n", "m.c": "int main(void) { return none; }\n"}, "make -k", "make"),
	"make, one call":                      inC(map[string]string{"Makefile": "prog: m.c a.c b.c c.c\n\t@$(CC) -Wall -o $@ $^\n"}, "make", "make"),
	"make, a header, its users known":     throughHeader("CFLAGS = -Wall -MMD\nprog: " + objects + "\n\t$(CC) -o $@ $^\n-include *.d\n"),
	"make, a header, its users not known": throughHeader("CFLAGS = -Wall\nprog: " + objects + "\n\t$(CC) -o $@ $^\n"),
	"make, a header, silent":              slowly(throughHeader("CFLAGS = -Wall -MMD\nprog: " + objects + "\n\t@$(CC) -o $@ $^\n%.o: %.c\n\t@$(CC) $(CFLAGS) -c -o $@ $<\n-include *.d\n")),
	"make, one check for all":             inC(map[string]string{"Makefile": "all: .checked\n.checked: a.c b.c c.c\n\tgcc -Wall -fsyntax-only $^\n\ttouch $@\n"}, "make", "make"),
	"make, in two tools": {tools: []string{"make", "gcc", "shellcheck"}, run: "make",
		files: map[string]string{"Makefile": "all: a.o .checked\nCFLAGS=-Wall\n.checked: s.sh\n\t-shellcheck -f gcc s.sh\n\t@touch $@\n",
			"a.c": unitOf("a", "\tint unused_a;\n"), "s.sh": "#!/bin/sh\necho $1\n"},
		mended: map[string]string{"a.c": unitOf("a", ""), "s.sh": "#!/bin/sh\necho \"$1\"\n"}},
	"the compiler itself":  inC(nil, "gcc -Wall -o prog m.c a.c b.c c.c"),
	"a script":             inC(map[string]string{"build.sh": "for f in a b c; do gcc -Wall -c $f.c; done\n"}, "sh build.sh"),
	"a script around make": slowly(inC(map[string]string{"build.sh": "make -s\n", "Makefile": "CFLAGS = -Wall\nprog: " + objects + "\n\t$(CC) -o $@ $^\n"}, "sh build.sh", "make")),
	"CMake and make": slowly(inC(map[string]string{"CMakeLists.txt": "cmake_minimum_required(VERSION 3.10)\nproject(p C)\nadd_compile_options(-Wall)\nadd_executable(prog m.c a.c b.c c.c)\n"},
		"cmake --build out", "cmake", "make")),
	"CMake and make, verbose": slowly(inC(map[string]string{"CMakeLists.txt": "cmake_minimum_required(VERSION 3.10)\nproject(p C)\nadd_compile_options(-Wall)\nadd_executable(prog m.c a.c b.c c.c)\n"},
		"cmake --build out --verbose", "cmake", "make")),
	"CMake and ninja": inC(map[string]string{"CMakeLists.txt": "cmake_minimum_required(VERSION 3.10)\nproject(p C)\nadd_compile_options(-Wall)\nadd_executable(prog m.c a.c b.c c.c)\n"},
		"ninja -C out", "cmake", "ninja"),
	"Meson": slowly(inC(map[string]string{"meson.build": "project('p', 'c', default_options: ['warning_level=2'])\nexecutable('prog', 'm.c', 'a.c', 'b.c', 'c.c')\n"},
		"ninja -C out", "meson", "ninja")),
	"cargo": {tools: []string{"cargo"}, run: "cargo build --offline",
		files: map[string]string{"Cargo.toml": "[package]\nname = \"p\"\nversion = \"0.1.0\"\nedition = \"2021\"\n",
			"src/main.rs": "mod a;\nmod b;\nfn main() { a::a(); b::b(); }\n", "src/a.rs": "pub fn a() { let unused_a = 1; }\n", "src/b.rs": "pub fn b() { let unused_b = 1; }\n"},
		mended: map[string]string{"src/a.rs": "pub fn a() {}\n", "src/b.rs": "pub fn b() {}\n"}},
	"go vet": {tools: []string{"go"}, run: "go vet ./...",
		files:  map[string]string{"go.mod": "module p\n\ngo 1.20\n", "a/a.go": "package a\n\nimport \"fmt\"\n\nfunc A() { fmt.Printf(\"%d\\n\", \"x\") }\n", "b/b.go": "package b\n\nimport \"fmt\"\n\nfunc B() { fmt.Printf(\"%s\\n\", 1) }\n"},
		mended: map[string]string{"a/a.go": "package a\n", "b/b.go": "package b\n"}},
	"go test": {tools: []string{"go"}, run: "go test ./...", slow: true,
		files:  map[string]string{"go.mod": "module p\n\ngo 1.20\n", "a/a_test.go": "package a\n\nimport \"testing\"\n\nfunc TestA(t *testing.T) { t.Error(\"cold\") }\n", "b/b_test.go": "package b\n\nimport \"testing\"\n\nfunc TestB(t *testing.T) { t.Errorf(\"at %p\", t) }\n"},
		mended: map[string]string{"a/a_test.go": "package a\n\nimport \"testing\"\n\nfunc TestA(t *testing.T) {}\n", "b/b_test.go": "package b\n"}},
	"shellcheck": {tools: []string{"shellcheck"}, run: "shellcheck -f gcc a.sh b.sh",
		files:  map[string]string{"a.sh": "#!/bin/sh\necho $1\n", "b.sh": "#!/bin/sh\ncd $1\n"},
		mended: map[string]string{"a.sh": "#!/bin/sh\necho \"$1\"\n", "b.sh": "#!/bin/sh\necho\n"}},
	"shellcheck, one after the other": {tools: []string{"shellcheck"}, run: "shellcheck -f gcc a.sh && shellcheck -f gcc b.sh && shellcheck -f gcc c.sh",
		files:  map[string]string{"a.sh": "#!/bin/sh\necho \"$1\"\n", "b.sh": "#!/bin/sh\ncd $1\n", "c.sh": "#!/bin/sh\necho $1\n"},
		mended: map[string]string{"b.sh": "#!/bin/sh\necho\n", "c.sh": "#!/bin/sh\necho \"$1\"\n"}},
	"javac by ant": {tools: []string{"ant", "javac"}, run: "ant -q build", ahead: 2 * time.Second, slow: true,
		files: map[string]string{"build.xml": "<project><target name=\"build\"><mkdir dir=\"out\"/><javac srcdir=\"src\" destdir=\"out\" includeantruntime=\"false\"><compilerarg value=\"-Xlint:all\"/></javac></target></project>\n",
			"src/A.java": "import java.util.*;\nclass A { List<String> a = new ArrayList(); }\n", "src/B.java": "import java.util.*;\nclass B { List<String> b = new ArrayList(); }\n"},
		mended: map[string]string{"src/A.java": "class A { }\n", "src/B.java": "class B { }\n"}},
	"gfortran by make": {tools: []string{"make", "gfortran"}, run: "make",
		files:  map[string]string{"Makefile": "FFLAGS=-Wall\nall: a.o b.o\n%.o: %.f90\n\tgfortran $(FFLAGS) -c $<\n", "a.f90": "subroutine a\n  integer :: unused_a\nend subroutine\n", "b.f90": "subroutine b\n  integer :: unused_b\nend subroutine\n"},
		mended: map[string]string{"a.f90": "subroutine a\nend subroutine\n", "b.f90": "subroutine b\nend subroutine\n"}},
}

// prepare configures a project whose build needs that first.
func (l *life) prepare(t *testing.T, root string) {
	t.Helper()
	var cmd *exec.Cmd
	switch {
	case strings.HasPrefix(l.run, "cmake --build"):
		cmd = exec.Command("cmake", "-S", ".", "-B", "out", "-G", "Unix Makefiles")
	case l.run == "ninja -C out" && l.files["meson.build"] != "":
		cmd = exec.Command("meson", "setup", "out")
	case l.run == "ninja -C out":
		cmd = exec.Command("cmake", "-S", ".", "-B", "out", "-G", "Ninja")
	default:
		return
	}
	cmd.Dir = root
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
}

// name says which problem it is, wherever it stands in its file.
func nameOf(p *problem.Problem) string {
	if p.Test != "" {
		return p.File + " " + p.Test
	}
	return p.File + " " + p.Message
}

// judged runs the command of a life and returns the verdict.
func (l *life) judged(t *testing.T, s *sitting) *Verdict {
	t.Helper()
	r := s.start("try")
	select {
	case <-r.Done():
	case <-time.After(2 * time.Minute):
		t.Fatal("it does not end")
	}
	return s.Verdict(r)
}

// Mistakes are mended one after the other, and each time the verdict is compared with what a build from
// nothing finds in a copy: what is there is new or still there, or not checked where this run did not print it, and
// what is not there any more is gone.
func TestLives(t *testing.T) {
	t.Setenv("XDG_STATE_HOME", testtree.Folder(t))
	for name, l := range allLives {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			if l.slow && !*everyOrder {
				t.Skip("it takes long: -orders runs it")
			}
			for _, tool := range l.tools {
				if _, err := exec.LookPath(tool); err != nil {
					t.Skip(tool + " is not installed")
				}
				if err := exec.Command(tool, "--version").Run(); err != nil && tool == "cargo" {
					t.Skip("cargo has no toolchain here")
				}
			}
			clean := map[string]map[string]bool{} // what a build from nothing finds, by what the files are then
			truth := func(files map[string]string) map[string]bool {
				key := fmt.Sprint(files)
				if clean[key] == nil {
					root := testtree.Lay(t, files)
					l.prepare(t, root)
					clean[key] = map[string]bool{}
					for _, p := range l.judged(t, sit(t, root, Options{NoHistory: true})).Found {
						clean[key][nameOf(&p)] = true
					}
				}
				return clean[key]
			}
			orders := permutations(slices.Sorted(maps.Keys(l.mended)))
			if !*everyOrder {
				l.live(t, orders[len(orders)-1], len(name)%2 == 0, truth)
				return
			}
			for i, order := range orders {
				l.live(t, order, i%2 == 0, truth)
			}
		})
	}
}

// live mends the mistakes of a project in an order.
func (l *life) live(t *testing.T, order []string, terminal bool, truth func(files map[string]string) map[string]bool) {
	files := map[string]string{"tidytally.toml": fmt.Sprintf("[task.try]\nrun = %q\n", l.run)}
	maps.Copy(files, l.files)
	root := testtree.Lay(t, files)
	l.prepare(t, root)
	o := Options{NoHistory: true}
	if o.Run.Terminal = terminal; terminal {
		o.Run.Cols, o.Run.Rows = 100, 30
	}
	s := sit(t, root, o)
	known := map[string]bool{}
	check := func(after string) {
		t.Helper()
		v := l.judged(t, s)
		there := truth(files)
		got, want := map[string]string{}, map[string]string{}
		for i := range v.Found {
			got[nameOf(&v.Found[i])] = v.States[i].String()
		}
		for i := range v.NotChecked {
			got[nameOf(&v.NotChecked[i])] = "not checked"
		}
		for i := range v.Gone {
			got[nameOf(&v.Gone[i])] = "gone"
		}
		for p := range known {
			switch {
			case !there[p] && got[p] == "not checked" && l.late[strings.Fields(p)[0]]:
				want[p] = "not checked"
			case !there[p] && got[p] != "still": // one that is printed is there, whatever a clean build says
				want[p] = "gone"
			case got[p] == "still":
				want[p] = "still"
			default:
				want[p] = "not checked"
			}
		}
		for p := range there {
			if !known[p] {
				want[p] = "new"
			}
		}
		for p := range got {
			if want[p] == "" {
				want[p] = "nothing"
			}
		}
		for _, p := range slices.Sorted(maps.Keys(want)) {
			if got[p] != want[p] {
				t.Errorf("%s, %v (terminal %v), %s: %q is %s, not %s", l.run, order, terminal, after, p, got[p], want[p])
			}
		}
		known = map[string]bool{}
		for p, state := range got {
			if state != "gone" {
				known[p] = true
			}
		}
	}
	check("at first")
	if len(known) == 0 {
		t.Fatalf("%s finds nothing", l.run)
	}
	for _, name := range order {
		files[name] = l.mended[name]
		writeLater(t, root, name, l.mended[name])
		if l.ahead > 0 {
			if err := os.Chtimes(filepath.Join(root, name), time.Time{}, time.Now().Add(l.ahead)); err != nil {
				t.Fatal(err)
			}
		}
		check("with " + name + " mended")
		check("and again")
	}
	if len(known) > 0 && l.late == nil && l.files["m.c"] == inC(nil, "").files["m.c"] {
		t.Errorf("%s, %v: at the end %v", l.run, order, slices.Sorted(maps.Keys(known)))
	}
}

// writeLater writes a file whose time is after now: the clock of files goes in steps, and make takes a source as old as
// its object for one that has not changed.
func writeLater(t *testing.T, root, name, text string) {
	t.Helper()
	for now := time.Now(); ; time.Sleep(time.Millisecond) {
		write(t, root, name, text)
		if info, err := os.Stat(filepath.Join(root, name)); err != nil {
			t.Fatal(err)
		} else if info.ModTime().After(now) {
			return
		}
	}
}

func permutations(of []string) (all [][]string) {
	if len(of) == 0 {
		return [][]string{nil}
	}
	for i, first := range of {
		rest := slices.Concat(of[:i], of[i+1:])
		for _, p := range permutations(rest) {
			all = append(all, append([]string{first}, p...))
		}
	}
	return all
}

// A problem of one task is settled by a later run of another that compiles its file as that did: then it is gone from what
// stands, in this session and in others, while the run's own verdict in the history stays.
func TestAnotherTaskSettles(t *testing.T) {
	for _, tool := range []string{"make", "gcc"} {
		if _, err := exec.LookPath(tool); err != nil {
			t.Skip(tool + " is not installed")
		}
	}
	root := lay(t, map[string]string{
		"Makefile": "build:\n\tgcc -Wall -c -o a.o a.c\n\tgcc -Wall -c -o b.o b.c\ncheck:\n\tgcc -Wall -Wextra -c -o t.o a.c\n\techo b.c\nloose:\n\tgcc -c -o l.o b.c\n",
		"a.c":      unitOf("a", "\tint unused_a;\n"), "b.c": unitOf("b", "\tint unused_b;\n"),
	})
	s, other := sit(t, root, Options{}), sit(t, root, Options{Follow: true, Known: true})
	if got := s.ran("Makefile#build"); got != "before 0 new 2 gone 0 not checked 0 now 2" {
		t.Fatalf("at first: %s", got)
	}
	build := s.Runs()[0]
	writeLater(t, root, "a.c", unitOf("a", ""))
	writeLater(t, root, "b.c", unitOf("b", ""))
	s.ran("Makefile#loose") // asks for less
	s.ran("Makefile#check")
	if err := s.Refresh(); err != nil {
		t.Fatal(err)
	}
	if got := words(s.Verdict(build)); got != "before 0 new 2 gone 1 not checked 0 now 1" || s.Verdict(build).Left[0].Problem.File != "a.c" {
		t.Errorf("what stands of the build: %s", got)
	}
	if v, err := s.Store().Verdict(s.RunID(build)); err != nil || v.Now != 2 || v.Balance.Gone != 0 {
		t.Errorf("its verdict in the history: %+v, %v", v, err)
	}
	eventually(t, "what stands in another session", func() bool {
		stands := other.Standing()["Makefile#build"]
		return len(stands) == 1 && stands[0].Problem.File == "b.c"
	})
	if got := s.ran("Makefile#build"); got != "before 1 new 0 gone 1 not checked 0 now 0" {
		t.Errorf("the build again: %s", got)
	}
}

// One test that is run alone keeps or mends the problem of its suite; a part of a suite says that it is one.
func TestPartsOfASuite(t *testing.T) {
	if _, err := exec.LookPath("go"); err != nil {
		t.Skip("go is not installed")
	}
	const fails = "package x\n\nimport \"testing\"\n\nfunc TestA(t *testing.T) { t.Error(\"cold\") }\n\nfunc TestB(t *testing.T) { t.Error(\"dull\") }\n"
	root := lay(t, map[string]string{"go.mod": "module p\n\ngo 1.20\n", "x/x_test.go": fails, "y/y_test.go": strings.ReplaceAll(fails, "package x", "package y")})
	s := sit(t, root, Options{})
	suite := s.find("go.mod#test")
	run1 := s.start(suite.ID())
	<-run1.Done()
	of := s.Verdict(run1)
	if len(of.Found) != 4 {
		t.Fatalf("found: %+v", of.Found)
	}
	i := slices.IndexFunc(of.Found, func(p problem.Problem) bool { return p.File == "x/x_test.go" && p.Test == "TestA" })
	alone, err := run.OneTest(suite, &of.Found[i])
	if err != nil {
		t.Fatal(err)
	}
	again := func() *run.Run {
		t.Helper()
		job, err := s.Start([]*task.Task{alone}, alone, nil)
		if err != nil {
			t.Fatal(err)
		}
		<-job.Done()
		if err := s.Refresh(); err != nil {
			t.Fatal(err)
		}
		return job.Main
	}
	if got := words(s.Verdict(again())); got != "before 1 new 0 gone 0 not checked 0 now 1" {
		t.Errorf("it fails alone too: %s", got)
	}
	if got := words(s.Verdict(run1)); got != "before 0 new 4 gone 0 not checked 0 now 4" {
		t.Errorf("what stands of the suite then: %s", got)
	}
	writeLater(t, root, "x/x_test.go", strings.Replace(fails, "t.Error(\"cold\")", "", 1))
	if got := words(s.Verdict(again())); got != "before 1 new 0 gone 1 not checked 0 now 0" {
		t.Errorf("mended, alone: %s", got)
	}
	if got := words(s.Verdict(run1)); got != "before 0 new 4 gone 1 not checked 0 now 3" {
		t.Errorf("what stands of the suite when it is mended: %s", got)
	}
	p, err := plan.OfSuite(s.Snapshot().Survey.Tasks, suite, plan.Split{Shard: 1, Shards: 2})
	if err != nil {
		t.Fatal(err)
	}
	job, err := s.StartPlan(p, nil)
	if err != nil {
		t.Fatal(err)
	}
	<-job.Done()
	snap := job.Main.Snapshot()
	if got := snap.Words(); got != "failed (1), 1 of 2 files" && got != "skipped, 1 of 2 files" {
		t.Errorf("a share of the suite: %s", got)
	}
	kept, err := s.Store().Runs(history.Wanted{Task: suite.ID(), Limit: 1})
	if err != nil || len(kept) != 1 || kept[0].Words() != snap.Words() {
		t.Errorf("kept: %+v, %v", kept, err)
	}
}
