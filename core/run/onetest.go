package run

import (
	"errors"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"tidytally/core/problem"
	"tidytally/core/task"
)

// One failed test that is run again alone.

// A testRunner makes the command with which a tool runs one test.
type testRunner struct {
	families []string // of the problems that it reports
	// command returns the command and the folder, relative to the workspace, for a test that a
	// task ran. words are the task's own command, or its script; file is that of the test,
	// relative to the workspace, or "".
	command func(t *task.Task, words []string, file, test string) (argv []string, dir string, err error)
}

// testRunners are the tools that can run one test. The forms are from "go help testflag", pytest's
// "Specifying which tests to run", "cargo help test", the manuals of vitest, jest and mocha,
// Node's "Filtering tests by name", ctest(1), and the help of rspec, minitest, test-unit and phpunit.
var testRunners = []testRunner{
	{[]string{"gotest"}, oneGoTest},
	{[]string{"pytest"}, onePytest},
	{[]string{"rust"}, oneCargoTest},
	{[]string{"specs"}, oneSpec},
	{[]string{"nodetest", "tap"}, oneNodeTest},
	{[]string{"ctest"}, oneCTest},
	{[]string{"rspec"}, oneExample},
	{[]string{"minitest"}, oneMinitest},
	{[]string{"phpunit"}, onePHPUnit},
}

// ErrNoTest is returned for a problem that is not of a test.
var ErrNoTest = errors.New("the problem does not name a test")

// OneTest returns a task that runs only the test that failed with a problem, with the folder and
// the environment of the task that reported it.
func OneTest(t *task.Task, p *problem.Problem) (*task.Task, error) {
	if p.Test == "" {
		return nil, ErrNoTest
	}
	i := slices.IndexFunc(testRunners, func(r testRunner) bool { return slices.Contains(r.families, p.Family) })
	if i < 0 && slices.ContainsFunc([]string{t.Command.String(), t.Script}, func(s string) bool { return strings.Contains(s, "ctest") }) { // which other tools report in the output of one of its tests
		i = slices.IndexFunc(testRunners, func(r testRunner) bool { return r.families[0] == "ctest" })
	}
	if i < 0 {
		return nil, fmt.Errorf("it is not known how one test of this tool is run alone")
	}
	words := t.Command.Argv
	text := t.Command.Shell
	if t.Script != "" && !t.ScriptInFile {
		words, text = nil, t.Script
	}
	if len(words) == 0 {
		words, _ = task.SplitWords(text) // what is no plain list of words names no runner
	}
	argv, dir, err := testRunners[i].command(t, words, testFile(p), p.Test)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", t.ShownID(), err)
	}
	name := t.Name + " " + p.Test
	return &task.Task{
		Name: name, Source: t.Source, File: t.File, Line: t.Line, Manner: t.Manner, Dir: dir, Kind: task.Test,
		About: "The test " + p.Test + " alone", Env: t.Env, EnvFile: t.EnvFile, Via: t.Via, With: t.With, Before: t.Before, Sieves: t.Sieves,
		Origins: t.Origins, Setup: t.Setup, Of: t.ID(), OfTest: p.Test, OfFile: p.File, Command: literally(argv),
	}, nil
}

// isTestFile matches the names that the tools' own rules give to files of tests.
var isTestFile = regexp.MustCompile(`(^|/)(test_[^/]*\.py|[^/]*_(test|spec)\.(py|go|rb)|[^/]*Test\.php|[^/]*[._-](test|spec)\.[cm]?[jt]sx?)$|(^|/)(tests?|__tests__|spec)/`)

// testFile returns the file of the test among the places of a problem, or "".
func testFile(p *problem.Problem) string {
	if isTestFile.MatchString(p.File) {
		return p.File
	}
	for _, r := range p.Related {
		if isTestFile.MatchString(r.File) {
			return r.File
		}
	}
	return ""
}

// below returns a file relative to a folder that it is in; both are relative to the workspace.
func below(dir, file string) string {
	if dir == "." {
		return file
	}
	return strings.TrimPrefix(file, dir+"/")
}

// goValued are the flags of go test whose value may be the next word.
var goValued = map[string]bool{
	"-run": true, "-skip": true, "-bench": true, "-count": true, "-timeout": true, "-tags": true, "-cpu": true, "-parallel": true, "-p": true, "-exec": true,
	"-coverprofile": true, "-covermode": true, "-coverpkg": true, "-ldflags": true, "-gcflags": true, "-mod": true, "-modfile": true, "-shuffle": true, "-vet": true,
}

// oneGoTest keeps the flags of the task's own "go test".
func oneGoTest(t *task.Task, words []string, file, test string) ([]string, string, error) {
	argv := []string{"go", "test"}
	for i := 2; len(words) > 2 && words[0] == "go" && words[1] == "test" && i < len(words); i++ {
		w := words[i]
		name, _, has := strings.Cut(w, "=")
		if !strings.HasPrefix(w, "-") || w == "-args" {
			if w == "-args" {
				break
			}
			continue // a package
		}
		own := name == "-run" || name == "-skip" || name == "-bench"
		if !own {
			argv = append(argv, w)
		}
		if goValued[name] && !has && i+1 < len(words) {
			i++
			if !own {
				argv = append(argv, words[i])
			}
		}
	}
	var pattern []string
	for _, part := range strings.Split(test, "/") {
		pattern = append(pattern, "^"+regexp.QuoteMeta(part)+"$")
	}
	argv = append(argv, "-run", strings.Join(pattern, "/"))
	if file == "" {
		return append(argv, "./..."), t.Dir, nil
	}
	return append(argv, "."), path.Dir(file), nil
}

// onePytest keeps the task's own interpreter and options before the first path.
func onePytest(t *task.Task, words []string, file, test string) ([]string, string, error) {
	argv := []string{"python3", "-m", "pytest"}
	if i := slices.IndexFunc(words, func(w string) bool { return path.Base(w) == "pytest" || path.Base(w) == "py.test" }); i >= 0 {
		argv = slices.Clone(words[:i+1])
	}
	if file == "" {
		return append(argv, "-k", test), t.Dir, nil
	}
	name, parameters, has := strings.Cut(test, "[")
	name = strings.ReplaceAll(name, ".", "::")
	if has {
		name += "[" + parameters
	}
	return append(argv, below(t.Dir, file)+"::"+name), t.Dir, nil
}

func oneCargoTest(t *task.Task, words []string, _, test string) ([]string, string, error) {
	argv := []string{"cargo", "test"}
	if len(words) > 1 && words[0] == "cargo" && words[1] == "test" {
		end := slices.Index(words, "--")
		if end < 0 {
			end = len(words)
		}
		argv = slices.Clone(words[:end])
	}
	return append(argv, test, "--", "--exact"), t.Dir, nil
}

// oneSpec hands the name to the runner that the task's script names, by the way that the task takes
// arguments.
func oneSpec(t *task.Task, words []string, file, test string) ([]string, string, error) {
	names := func(runner string) bool {
		return slices.ContainsFunc(words, func(w string) bool { return path.Base(w) == runner })
	}
	full := strings.NewReplacer(" > ", " ", " › ", " ").Replace(test)
	var more []string
	if file != "" {
		more = append(more, below(t.Dir, file))
	}
	switch {
	case names("vitest"):
		if !slices.Contains(words, "run") && !slices.Contains(words, "--run") {
			more = append(more, "--run")
		}
		more = append(more, "-t", "^ ?"+regexp.QuoteMeta(full)+"$")
	case names("jest"):
		more = append(more, "-t", "^"+regexp.QuoteMeta(full)+"$")
	case names("mocha"):
		more = append(more, "--fgrep", full)
	default:
		return nil, "", errors.New("its script names neither vitest, jest nor mocha, so it is not known how one test is run alone")
	}
	c := t.Full(more)
	return c.Words(), t.Dir, nil
}

func oneNodeTest(t *task.Task, words []string, file, test string) ([]string, string, error) {
	at := slices.Index(words, "--test")
	if at < 1 || path.Base(words[0]) != "node" {
		return nil, "", errors.New("its script is not node --test, so it is not known how one test is run alone")
	}
	names := strings.Split(test, " > ")
	argv := slices.Clone(words[:at+1])
	argv = append(argv, "--test-name-pattern", "^"+regexp.QuoteMeta(names[len(names)-1])+"$")
	if file != "" {
		argv = append(argv, below(t.Dir, file))
	}
	return argv, t.Dir, nil
}

func oneCTest(t *task.Task, words []string, _, test string) ([]string, string, error) {
	argv := []string{"ctest"}
	switch {
	case len(words) > 0 && words[0] == "ctest":
		argv = slices.Clone(words)
	case len(words) > 2 && words[0] == "cmake" && words[1] == "--build":
		argv = append(argv, "--test-dir", words[2])
	case strings.HasSuffix(t.Setup.Path, "/CMakeFiles/TargetDirectories.txt"):
		argv = append(argv, "--test-dir", path.Dir(path.Dir(t.Setup.Path)))
	}
	if !slices.Contains(argv, "--output-on-failure") {
		argv = append(argv, "--output-on-failure")
	}
	return append(argv, "-R", "^"+regexp.QuoteMeta(test)+"$"), t.Dir, nil
}

// upTo returns the words up to a program, which others may start: bundle exec rspec.
func upTo(words []string, program string) []string {
	if i := slices.IndexFunc(words, func(w string) bool { return path.Base(w) == program }); i >= 0 {
		return slices.Clone(words[:i+1])
	}
	return []string{program}
}

func oneExample(t *task.Task, words []string, file, test string) ([]string, string, error) {
	argv := append(upTo(words, "rspec"), "--example", test)
	if file != "" {
		argv = append(argv, below(t.Dir, file))
	}
	return argv, t.Dir, nil
}

func oneMinitest(t *task.Task, words []string, file, test string) ([]string, string, error) {
	if file == "" {
		return nil, "", errors.New("it is not known in which file the test stands")
	}
	file = below(t.Dir, file)
	if i := slices.IndexFunc(words, func(w string) bool { return path.Base(w) == "rails" }); i >= 0 {
		return append(slices.Clone(words[:i+1]), "test", file, "-n", test), t.Dir, nil
	}
	argv := []string{"ruby", "-Ilib:test", file}
	if len(words) > 1 && path.Base(words[0]) == "ruby" { // with its own options
		if i := slices.IndexFunc(words, func(w string) bool { return strings.HasSuffix(w, ".rb") }); i > 0 {
			argv = append(slices.Clone(words[:i]), file)
		}
	}
	if name, class, ok := strings.Cut(strings.TrimSuffix(test, ")"), "("); ok && len(name)+len(class)+2 == len(test) { // of test-unit
		return append(argv, "--name", name, "--testcase", class), t.Dir, nil
	}
	return append(argv, "-n", test), t.Dir, nil
}

func onePHPUnit(t *task.Task, words []string, file, test string) ([]string, string, error) {
	if !strings.Contains(test, "::") {
		return nil, "", errors.New("it is not known of which class the test is")
	}
	argv := append(upTo(words, "phpunit"), "--filter", "/^"+strings.ReplaceAll(regexp.QuoteMeta(test), "/", `\/`)+"$/")
	if file != "" {
		argv = append(argv, below(t.Dir, file))
	}
	return argv, t.Dir, nil
}
