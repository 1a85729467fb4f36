package reader

import (
	"path"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"tidytally/core/datatext"
	"tidytally/core/jsontext"
	"tidytally/core/reader/declare"
	"tidytally/core/task"
)

// Many tools can be run wherever they are configured: a linter, a formatter, a
// bundler, a test runner. Their tasks are inferred from the configuration and named
// like the tool. Their source is "config".

// configured is a tool that can be run where it is configured.
type configured struct {
	// word is the program.
	word string
	// files are the names of its configurations; "name.*" stands for the name
	// with any of the usual extensions.
	files string
	// within are places in files that hold the configurations of many tools:
	// "package.json key", "pyproject.toml table", "setup.cfg section".
	within []string
	// through is the program that starts it.
	through through
	// verbs are what the tool does, one for each task.
	verbs []verb
	// output is the key of the configuration that names the folder it writes to, and
	// outputElse the folder if the key is missing.
	output, outputElse string
	// specs are the patterns of the files of a test suite; specsKey is the key
	// in the configuration with other patterns.
	specs, specsKey string
}

// verb is one way to call a tool.
type verb struct {
	args  string
	about string
	kind  task.Kind
	// serves: it stays up; ready is the expression of its ready line.
	serves bool
	ready  string
	// makes: it writes the output folder.
	makes bool
	// suite: it runs the whole test suite, and takes the name of one of its files as
	// last argument.
	suite bool
}

type through int

const (
	byItself    through = iota
	packages            // the package manager of the nearest package.json
	environment         // the virtual environment beside it, if there is one
	bundle              // the bundle of the nearest Gemfile
	vendor              // vendor/bin
)

const webAddress = `(?P<url>https?://(?:localhost|127\.0\.0\.1|\[::1?\]|0\.0\.0\.0)[^\s]*)`

var configuredTools = []configured{
	{word: "eslint", files: "eslint.config.* .eslintrc .eslintrc.*", within: []string{"package.json eslintConfig"}, through: packages, verbs: []verb{
		{args: ".", about: "Lint", kind: task.Check}, {args: ". --fix", about: "Lint, and mend what can be mended", kind: task.Check},
	}},
	{word: "prettier", files: "prettier.config.* .prettierrc .prettierrc.*", within: []string{"package.json prettier"}, through: packages, verbs: []verb{
		{args: "--check .", about: "Tell which files are not formatted", kind: task.Check}, {args: "--write .", about: "Format", kind: task.Other},
	}},
	{word: "stylelint", files: "stylelint.config.* .stylelintrc .stylelintrc.*", within: []string{"package.json stylelint"}, through: packages, verbs: []verb{
		{args: "'**/*.{css,scss}'", about: "Lint the style sheets", kind: task.Check},
	}},
	{word: "biome", files: "biome.json biome.jsonc", through: packages, verbs: []verb{
		{args: "check .", about: "Lint, and tell what is not formatted", kind: task.Check}, {args: "format --write .", about: "Format", kind: task.Other},
	}},
	{word: "vite", files: "vite.config.*", through: packages, output: "build.outDir", outputElse: "dist", verbs: []verb{
		{args: "dev", about: "Serve while developing", kind: task.Serve, serves: true, ready: webAddress},
		{args: "build", about: "Bundle for production", kind: task.Build, makes: true},
		{args: "preview", about: "Serve the bundle", kind: task.Serve, serves: true, ready: webAddress},
	}},
	{word: "webpack", files: "webpack.config.*", through: packages, output: "output.path", outputElse: "dist", verbs: []verb{
		{args: "build", about: "Bundle", kind: task.Build, makes: true},
		{args: "watch", about: "Bundle at each change", kind: task.Build, serves: true, makes: true},
		{args: "serve", about: "Serve while developing", kind: task.Serve, serves: true, ready: webAddress},
	}},
	{word: "rollup", files: "rollup.config.*", through: packages, output: "output.dir", verbs: []verb{
		{args: "-c", about: "Bundle", kind: task.Build, makes: true}, {args: "-c --watch", about: "Bundle at each change", kind: task.Build, serves: true, makes: true},
	}},
	{word: "rspack", files: "rspack.config.*", through: packages, output: "output.path", outputElse: "dist", verbs: []verb{
		{args: "build", about: "Bundle", kind: task.Build, makes: true}, {args: "serve", about: "Serve while developing", kind: task.Serve, serves: true, ready: webAddress},
	}},
	{word: "tsup", files: "tsup.config.*", through: packages, output: "outDir", outputElse: "dist", verbs: []verb{
		{about: "Bundle", kind: task.Build, makes: true}, {args: "--watch", about: "Bundle at each change", kind: task.Build, serves: true, makes: true},
	}},
	{word: "next", files: "next.config.*", through: packages, output: "distDir", outputElse: ".next", verbs: []verb{
		{args: "dev", about: "Serve while developing", kind: task.Serve, serves: true, ready: webAddress},
		{args: "build", about: "Build for production", kind: task.Build, makes: true},
		{args: "start", about: "Serve what was built", kind: task.Serve, serves: true, ready: webAddress},
	}},
	{word: "astro", files: "astro.config.*", through: packages, output: "outDir", outputElse: "dist", verbs: []verb{
		{args: "dev", about: "Serve while developing", kind: task.Serve, serves: true, ready: webAddress},
		{args: "build", about: "Build the site", kind: task.Build, makes: true},
	}},
	{word: "nuxt", files: "nuxt.config.*", through: packages, verbs: []verb{
		{args: "dev", about: "Serve while developing", kind: task.Serve, serves: true, ready: webAddress}, {args: "build", about: "Build for production", kind: task.Build},
	}},
	{word: "eleventy", files: "eleventy.config.* .eleventy.js", through: packages, outputElse: "_site", output: "dir.output", verbs: []verb{
		{about: "Build the site", kind: task.Build, makes: true}, {args: "--serve", about: "Serve the site", kind: task.Serve, serves: true, ready: webAddress},
	}},
	{word: "vitest", files: "vitest.config.*", through: packages, specs: "*.test.* *.spec.*", specsKey: "test.include", verbs: []verb{
		{args: "run", about: "Run the tests", kind: task.Test, suite: true}, {args: "watch", about: "Run the tests at each change", kind: task.Test, serves: true},
	}},
	{word: "jest", files: "jest.config.*", within: []string{"package.json jest"}, through: packages, specs: "*.test.* *.spec.* __tests__/*.*", specsKey: "testMatch", verbs: []verb{
		{about: "Run the tests", kind: task.Test, suite: true}, {args: "--watch", about: "Run the tests at each change", kind: task.Test, serves: true},
	}},
	{word: "mocha", files: ".mocharc.*", within: []string{"package.json mocha"}, through: packages, specs: "test/*.js test/*.cjs test/*.mjs", specsKey: "spec", verbs: []verb{
		{about: "Run the tests", kind: task.Test, suite: true},
	}},
	{word: "ava", files: "ava.config.*", within: []string{"package.json ava"}, through: packages, specs: "*.test.* *.spec.* test/*", specsKey: "files", verbs: []verb{
		{about: "Run the tests", kind: task.Test, suite: true}, {args: "--watch", about: "Run the tests at each change", kind: task.Test, serves: true},
	}},
	{word: "playwright", files: "playwright.config.*", through: packages, specs: "*.spec.* *.test.*", specsKey: "testMatch", verbs: []verb{
		{args: "test", about: "Run the tests in browsers", kind: task.Test, suite: true},
	}},
	{word: "cypress", files: "cypress.config.*", through: packages, specs: "*.cy.*", specsKey: "e2e.specPattern", verbs: []verb{
		{args: "run --spec", about: "Run the tests in a browser", kind: task.Test, suite: true},
	}},
	{word: "karma", files: "karma.conf.*", through: packages, verbs: []verb{{args: "start --single-run", about: "Run the tests in a browser", kind: task.Test}}},

	{word: "ruff", files: "ruff.toml .ruff.toml", within: []string{"pyproject.toml tool.ruff"}, through: environment, verbs: []verb{
		{args: "check", about: "Lint", kind: task.Check}, {args: "format", about: "Format", kind: task.Other},
	}},
	{word: "flake8", files: ".flake8", within: []string{"setup.cfg flake8", "tox.ini flake8"}, through: environment, verbs: []verb{{about: "Lint", kind: task.Check}}},
	{word: "pylint", files: "pylintrc .pylintrc", within: []string{"pyproject.toml tool.pylint"}, through: environment, verbs: []verb{{args: "--recursive=y .", about: "Lint", kind: task.Check}}},
	{word: "mypy", files: "mypy.ini .mypy.ini", within: []string{"pyproject.toml tool.mypy", "setup.cfg mypy"}, through: environment, verbs: []verb{{args: ".", about: "Check the types", kind: task.Check}}},
	{word: "pyright", files: "pyrightconfig.json", within: []string{"pyproject.toml tool.pyright"}, through: environment, verbs: []verb{{about: "Check the types", kind: task.Check}}},
	{word: "black", within: []string{"pyproject.toml tool.black"}, through: environment, verbs: []verb{
		{args: "--check .", about: "Tell which files are not formatted", kind: task.Check}, {args: ".", about: "Format", kind: task.Other},
	}},
	{word: "isort", files: ".isort.cfg", within: []string{"pyproject.toml tool.isort"}, through: environment, verbs: []verb{{args: "--check .", about: "Tell whose imports are not in order", kind: task.Check}}},
	{word: "mkdocs", files: "mkdocs.yml mkdocs.yaml", through: environment, verbs: []verb{
		{args: "serve", about: "Serve the documentation", kind: task.Serve, serves: true, ready: webAddress}, {args: "build", about: "Build the documentation", kind: task.Build},
	}},

	{word: "golangci-lint", files: ".golangci.*", verbs: []verb{{args: "run", about: "Lint", kind: task.Check}}},
	{word: "cargo", files: "rustfmt.toml .rustfmt.toml", verbs: []verb{{args: "fmt --check", about: "Tell which files are not formatted", kind: task.Check}}},
	{word: "cargo", files: "clippy.toml .clippy.toml", verbs: []verb{{args: "clippy", about: "Lint", kind: task.Check}}},
	{word: "yamllint", files: ".yamllint .yamllint.*", verbs: []verb{{args: ".", about: "Lint the YAML files", kind: task.Check}}},
	{word: "rubocop", files: ".rubocop.yml", through: bundle, verbs: []verb{{about: "Lint", kind: task.Check}}},
	{word: "rspec", files: ".rspec", through: bundle, specs: "*_spec.rb", verbs: []verb{{about: "Run the tests", kind: task.Test, suite: true}}},
	{word: "phpunit", files: "phpunit.xml phpunit.xml.dist", through: vendor, specs: "*Test.php", verbs: []verb{{about: "Run the tests", kind: task.Test, suite: true}}},
	{word: "perl", files: "Makefile.PL", verbs: []verb{{args: "Makefile.PL", about: "Write the Makefile", kind: task.Build}}},
	{word: "perl", files: "Build.PL", verbs: []verb{{args: "Build.PL", about: "Write Build", kind: task.Build}, {args: "Build", about: "Build", kind: task.Build}}},
	{word: "prove", files: "Makefile.PL Build.PL dist.ini cpanfile", specs: "t/*.t", verbs: []verb{{args: "-lr", about: "Run the tests", kind: task.Test, suite: true}}},
	{word: "mix", files: "mix.exs", specs: "test/*_test.exs", verbs: []verb{
		{args: "compile", about: "Compile", kind: task.Build}, {args: "test", about: "Run the tests", kind: task.Test, suite: true}, {args: "format --check-formatted", about: "Tell which files are not formatted", kind: task.Check},
	}},
	{word: "rebar3", files: "rebar.config", verbs: []verb{
		{args: "compile", about: "Compile", kind: task.Build}, {args: "eunit", about: "Run the unit tests", kind: task.Test}, {args: "dialyzer", about: "Check the types", kind: task.Check},
	}},
	{word: "phpstan", files: "phpstan.neon phpstan.neon.dist", through: vendor, verbs: []verb{{args: "analyse", about: "Analyse", kind: task.Check}}},
	{word: "hugo", files: "hugo.toml hugo.yaml", verbs: []verb{
		{args: "server", about: "Serve the site", kind: task.Serve, serves: true, ready: webAddress}, {about: "Build the site", kind: task.Build},
	}},
}

// pytestSuite is split by file as those above; the reader of Python projects
// finds the suite itself.
const pytestSuite = "test_*.py *_test.py"

// maxParts bounds how many files of a suite become tasks of their own.
const maxParts = 2000

var configurationExtensions = map[string]bool{
	".js": true, ".cjs": true, ".mjs": true, ".ts": true, ".cts": true, ".mts": true,
	".json": true, ".jsonc": true, ".yml": true, ".yaml": true, ".toml": true,
}

// configuredBy returns the tools by the names of their configurations.
var configuredBy = func() map[string][]*configured {
	m := map[string][]*configured{}
	for i := range configuredTools {
		c := &configuredTools[i]
		for _, name := range strings.Fields(c.files) {
			m[name] = append(m[name], c)
		}
		for _, w := range c.within {
			name, _, _ := strings.Cut(w, " ")
			if !slices.Contains(m[name], c) {
				m[name] = append(m[name], c)
			}
		}
	}
	return m
}()

func configuredHere(name string) []*configured {
	if list := configuredBy[name]; list != nil {
		return list
	}
	if ext := path.Ext(name); configurationExtensions[ext] {
		return configuredBy[strings.TrimSuffix(name, ext)+".*"]
	}
	return nil
}

func configuredWants(name string) bool { return configuredHere(name) != nil }

func readConfigured(f *declare.File) (found declare.Found) {
	var parsed parsedConfiguration
	for _, c := range configuredHere(path.Base(f.Path)) {
		if line := c.lineIn(f, &parsed); line > 0 {
			c.add(f, line, &found)
		}
	}
	return found
}

// parsedConfiguration caches the content of a file of several tools.
type parsedConfiguration struct {
	json *jsontext.Value
	toml *datatext.Node
}

// lineIn returns the line where the tool's configuration begins in the file, or 0 if
// it has none.
func (c *configured) lineIn(f *declare.File, parsed *parsedConfiguration) int {
	base := path.Base(f.Path)
	shared := false
	for _, w := range c.within {
		name, key, _ := strings.Cut(w, " ")
		if name != base {
			continue
		}
		shared = true
		switch path.Ext(name) {
		case ".json":
			if parsed.json == nil {
				parsed.json, _ = jsontext.Parse(f.Data, false)
			}
			for _, m := range membersOf(parsed.json, key) {
				line, _ := jsontext.NewPlaces(f.Data).At(m.Offset)
				return line
			}
		case ".toml":
			if parsed.toml == nil {
				parsed.toml = datatext.ReadTOML(f.Data, func(int, int, string) {})
			}
			n := parsed.toml
			for _, k := range strings.Split(key, ".") {
				n = n.Get(k)
			}
			if n != nil {
				return n.Line
			}
		default:
			for i, l := range strings.Split(string(f.Data), "\n") {
				if strings.TrimSpace(l) == "["+key+"]" {
					return i + 1
				}
			}
		}
	}
	if shared {
		return 0
	}
	return 1
}

func (c *configured) add(f *declare.File, line int, found *declare.Found) {
	dir := path.Dir(f.Path)
	lead, origin := c.through.lead(f, c.word)
	here := task.Origin{File: f.Path, Line: line, Manner: task.Inferred}
	output, outputAt := c.outputFolder(f, here)
	for _, v := range c.verbs {
		args, _ := task.SplitWords(v.args)
		t := &task.Task{
			Name: strings.TrimSpace(c.word + " " + v.args), Source: "config", File: f.Path, Line: line, Manner: task.Inferred, Dir: dir, About: v.about, Kind: v.kind,
			LongRunning: v.serves, Ready: v.ready, Command: task.Command{Argv: append(append([]string(nil), lead...), args...)},
		}
		if origin.File != "" {
			t.SetOrigin("command", origin)
		}
		if v.makes {
			t.Makes = output
			t.SetOrigin("makes", outputAt)
		}
		if v.suite {
			c.split(f, t, here, found)
			continue
		}
		found.Tasks = append(found.Tasks, t)
	}
}

// outputFolder reads from the configuration which folder the tool writes to. If that
// is not plain data, the folder is unknown, and the origin says so.
func (c *configured) outputFolder(f *declare.File, here task.Origin) ([]string, task.Origin) {
	if c.output == "" {
		return nil, task.Origin{}
	}
	s := jsSetting(f.Data, c.output)
	switch {
	case s.plain && len(s.texts) == 1:
		return s.texts, task.Origin{File: f.Path, Line: s.line, Manner: task.Inferred, Note: "from " + c.output}
	case s.there:
		return nil, task.Origin{File: f.Path, Line: s.line, Manner: task.Inferred, Note: c.output + " is no plain data"}
	case c.outputElse == "":
		here.Note = c.output + " does not stand here"
		return nil, here
	}
	here.Note = c.word + " writes there unless " + c.output + " says otherwise"
	return []string{c.outputElse}, here
}

// split adds a test suite, and each file of it as a task of its own.
func (c *configured) split(f *declare.File, suite *task.Task, here task.Origin, found *declare.Found) {
	patterns := strings.Fields(c.specs)
	from := here
	if s := jsSetting(f.Data, c.specsKey); s.plain && len(s.texts) > 0 {
		patterns = s.texts
		from = task.Origin{File: f.Path, Line: s.line, Manner: task.Inferred, Note: "from " + c.specsKey}
	}
	splitSuite(f, suite, patterns, from, found)
	if c.word == "cypress" { // --spec only stands before a file
		suite.Command.Argv = suite.Command.Argv[:len(suite.Command.Argv)-1]
		suite.Name = strings.TrimSuffix(suite.Name, " --spec")
	}
}

// splitSuite adds a test suite and a hidden task for each of its files: those in or
// below the suite's folder that match a pattern.
func splitSuite(f *declare.File, suite *task.Task, patterns []string, from task.Origin, found *declare.Found) {
	found.Tasks = append(found.Tasks, suite)
	parts := matching(f, suite.Dir, patterns)
	for _, p := range parts[:min(len(parts), maxParts)] {
		part := *suite
		part.Name = suite.Name + " " + p
		part.Command = suite.Command.With([]string{p})
		part.About = "This file of the suite alone"
		part.Hidden, part.PartOf = true, strings.TrimSuffix(suite.Name, " --spec")
		part.Origins = nil
		part.SetOrigin("command", from)
		found.Tasks = append(found.Tasks, &part)
	}
	if len(parts) > 0 {
		suite.Parts = len(parts)
		suite.SetOrigin("parts", from)
	}
}

// lead returns the words before the arguments of a tool, with their origin.
func (by through) lead(f *declare.File, word string) ([]string, task.Origin) {
	dir := path.Dir(f.Path)
	switch by {
	case packages:
		if upward(f, "package.json") == "" {
			return []string{word}, task.Origin{}
		}
		manager, origin := packageManager(f, nil)
		switch manager {
		case "pnpm":
			return []string{"pnpm", "exec", word}, origin
		case "yarn":
			return []string{"yarn", "run", word}, origin
		}
		return []string{"npx", "--no", "--", word}, origin
	case environment:
		for _, env := range []string{".venv", "venv"} {
			if bin := path.Join(dir, env, "bin", word); f.Exists(bin) {
				return []string{path.Join(env, "bin", word)}, task.Origin{File: bin, Manner: task.Inferred, Note: "from the virtual environment"}
			}
		}
	case bundle:
		if gemfile := upward(f, "Gemfile"); gemfile != "" {
			return []string{"bundle", "exec", word}, task.Origin{File: gemfile, Manner: task.Inferred, Note: "through the bundle"}
		}
	case vendor:
		if bin := path.Join(dir, "vendor/bin", word); f.Exists(bin) {
			return []string{"vendor/bin/" + word}, task.Origin{File: bin, Manner: task.Inferred}
		}
	}
	return []string{word}, task.Origin{}
}

// SpecLike reports whether a file may belong to a test suite. The walk records such
// files, so that a suite is split without another walk.
func SpecLike(name string) bool {
	for _, word := range []string{".test.", ".spec.", ".cy.", "_test.py", "_spec.rb", "Test.php", "_test.exs"} {
		if strings.Contains(name, word) {
			return true
		}
	}
	return strings.HasPrefix(name, "test_") && strings.HasSuffix(name, ".py")
}

// matching returns the files below dir that any of the patterns matches, relative to
// it and sorted. A pattern without a slash matches by the name alone.
func matching(f *declare.File, dir string, patterns []string) (out []string) {
	f.Note(declare.Look{What: declare.Below, Path: dir})
	files, folders := f.Walked()
	for _, p := range patterns {
		p = strings.TrimPrefix(strings.TrimPrefix(p, "<rootDir>/"), "./")
		if p == "" || strings.HasPrefix(p, "!") || !doublestar.ValidatePattern(p) {
			continue
		}
		candidates := below(files, dir)
		if !SpecLike(strings.ReplaceAll(path.Base(p), "*", "x")) {
			candidates = inFolders(f, below(folders, dir), dir, path.Dir(p))
		}
		for _, name := range candidates {
			subject := name
			if !strings.Contains(p, "/") {
				subject = path.Base(name)
			}
			hit, _ := doublestar.Match(p, subject)
			if !hit && strings.Count(p, "/") == 1 && !strings.Contains(p, "**") {
				hit, _ = doublestar.Match("**/"+p, subject)
			}
			if hit {
				out = append(out, name)
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// below returns those of the sorted names that are in or below a folder, relative to
// it.
func below(names []string, dir string) (out []string) {
	if dir == "." {
		return names
	}
	from, _ := slices.BinarySearch(names, dir+"/")
	for _, n := range names[from:] {
		rel, ok := strings.CutPrefix(n, dir+"/")
		if !ok {
			break
		}
		out = append(out, rel)
	}
	return out
}

// inFolders lists the files of the entered folders below dir that a pattern
// without stars in front may mean; at most of some hundred folders.
func inFolders(f *declare.File, entered []string, dir, pattern string) (out []string) {
	first, _, _ := strings.Cut(pattern, "/")
	folders := 0
	for _, folder := range entered {
		if !strings.Contains("/"+folder+"/", "/"+first+"/") && !strings.ContainsAny(first, "*?[{") {
			continue
		}
		if folders++; folders > 500 {
			break
		}
		for _, e := range f.List(path.Join(dir, folder)) {
			if e.Type.IsRegular() {
				out = append(out, path.Join(folder, e.Name))
			}
		}
	}
	return out
}

// upward finds a file of a name beside this one, or in the nearest folder above that
// has one; "" if there is none in the workspace.
func upward(f *declare.File, name string) string {
	for dir := path.Dir(f.Path); ; dir = path.Dir(dir) {
		if file := path.Join(dir, name); f.Exists(file) {
			return file
		}
		if dir == "." {
			return ""
		}
	}
}
