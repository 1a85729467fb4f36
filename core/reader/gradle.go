package reader

import (
	"fmt"
	"path"
	"regexp"
	"strings"

	"tidytally/core/reader/declare"
	"tidytally/core/task"
	"tidytally/internal/lazyregexp"
)

// Gradle builds in both script languages (Gradle User Manual: "Build Script
// Basics", "Authoring Tasks", "Organizing Gradle Projects"). Scripts are not
// run: tasks with a plain name, and those of well-known plugins, are read.

func gradleWants(name string) bool { return name == "build.gradle" || name == "build.gradle.kts" }

var gradleTask = []func() *regexp.Regexp{
	lazyregexp.New(`\btasks?\s*(?:\.\s*(?:register|create))?\s*\(\s*(?:\w+\s*:\s*[\w.]+\s*,\s*)*name\s*:\s*["']([^"'$]+)["']`),
	lazyregexp.New(`^\s*task\s*\(?\s*["']([^"'$]+)["']`),
	lazyregexp.New(`^\s*task(?:\s+|\s*\(\s*)([A-Za-z_][\w-]*)`),
	lazyregexp.New(`\btasks\s*\.\s*(?:register|create)\s*(?:<[^>]*>)?\s*\(\s*["']([^"'$]+)["']`),
	lazyregexp.New(`^\s*(?:register|create)\s*(?:<[^>]*>)?\s*\(\s*["']([^"'$]+)["']`),
	lazyregexp.New(`\bval\s+(\w+)(?:\s*:[^=]+)?\s+by\s+(?:project\.)?tasks\.(?:registering|creating)`),
	lazyregexp.New(`\bval\s+(\w+)\s+by\s+(?:registering|creating)`),
	lazyregexp.New(`^\s*tasks\s*\.\s*(?:register|create)\s+["']([^"'$]+)["']`),
}

var (
	// gradleEach matches a loop over a literal list, and gradleTemplate a task name
	// made of a variable.
	gradleEach     = lazyregexp.New(`(?:\[|\blistOf\s*\()([^\[\]()]*)[\])]\s*\.\s*(?:each|forEach)\s*\{\s*(?:(\w+)\s*->)?`)
	gradleTemplate = lazyregexp.New(`(?:\btask\s*\(?\s*|\btasks\s*\.\s*(?:register|create)\s*(?:<[^>]*>)?\s*\(?\s*)"([^"]*\$[^"]*)"`)
	gradleItem     = lazyregexp.New(`["']([^"'$]+)["']`)
)

// gradleLoop is a loop over names that is under way.
type gradleLoop struct {
	variable string
	items    []string
	depth    int // of the braces around it
}

// expandGradle returns the names that a template stands for inside of loops.
func expandGradle(template string, loops []gradleLoop) []string {
	names := []string{template}
	for _, l := range loops {
		var more []string
		for _, name := range names {
			if !strings.Contains(name, "$"+l.variable) && !strings.Contains(name, "${"+l.variable+"}") {
				more = append(more, name)
				continue
			}
			for _, item := range l.items {
				more = append(more, strings.ReplaceAll(strings.ReplaceAll(name, "${"+l.variable+"}", item), "$"+l.variable, item))
			}
		}
		if names = more; len(names) > 200 {
			return nil
		}
	}
	return names
}

var gradleAbout = lazyregexp.New(`\bdescription\s*(?:=|\()?\s*["']([^"']*)["']`)

// gradlePlugins bring tasks of their own.
var gradlePlugins = []struct {
	id    func() *regexp.Regexp
	tasks string
}{
	{lazyregexp.New(`["'\x60(](java|java-library|groovy|scala)["'\x60)]|\x60java(-library)?\x60|^\s*java\s*$|kotlin\(["']jvm["']\)|org\.jetbrains\.kotlin\.jvm`), "build test check assemble jar clean"},
	{lazyregexp.New(`["'](application)["']|^\s*application\s*$`), "run installDist distZip"},
	{lazyregexp.New(`org\.springframework\.boot`), "bootRun bootJar"},
	{lazyregexp.New(`["'](war)["']`), "war"},
	{lazyregexp.New(`com\.android\.application`), "assembleDebug assembleRelease installDebug lint"},
}

func readGradle(f *declare.File) (found declare.Found) {
	dir := path.Dir(f.Path)
	root := dir
	for at := dir; ; at = path.Dir(at) {
		if f.Exists(path.Join(at, "settings.gradle")) || f.Exists(path.Join(at, "settings.gradle.kts")) {
			root = at
			break
		}
		if at == "." {
			break
		}
	}
	program := "gradle"
	if f.Exists(path.Join(root, "gradlew")) {
		program = "./gradlew"
	}
	lead := ":"
	if dir != root {
		rel := strings.TrimPrefix(dir, root+"/")
		if root == "." {
			rel = dir
		}
		lead = ":" + strings.ReplaceAll(rel, "/", ":") + ":"
	}
	g := gradleReader{main: f, found: &found, dir: dir, root: root, command: program, lead: lead, names: map[string]bool{}, files: map[string]bool{}}
	g.script(f.Path, f.Data, 0)
	return found
}

type gradleReader struct {
	main      *declare.File
	found     *declare.Found
	dir, root string // of the project and of the whole build
	command   string
	lead      string // the project's path, before the name of a task
	names     map[string]bool
	files     map[string]bool // scripts that were read
}

// add adds a task of a script. via is the line of the main script that applied it, 0 for
// the main script itself.
func (g *gradleReader) add(file string, via int, name, about string, line int, manner task.Manner) {
	if g.names[name] || name == "" || strings.ContainsAny(name, " \n:/") {
		return
	}
	g.names[name] = true
	t := &task.Task{
		Name: name, Source: "gradle", File: g.main.Path, Line: line, Manner: manner, Dir: g.root, About: declare.Shorten(about), Kind: task.KindOf(splitCamel(name)),
		Command: task.Command{Argv: []string{g.command, g.lead + name}},
	}
	if via > 0 {
		t.Line = via
		t.SetOrigin("name", task.Origin{File: file, Line: line, Manner: manner, Note: "applied by " + path.Base(g.main.Path)})
	}
	g.found.Tasks = append(g.found.Tasks, t)
}

// gradleApply matches a script that is applied to the project (Gradle User Manual, "Script
// plugins").
var gradleApply = lazyregexp.New(`\bapply\s*\(?\s*(?:\w+\s*:\s*\w+\s*,\s*)?from\s*[:=]\s*(?:(?:rootProject\.)?file\s*\(\s*)?["']([^"']+)["']`)

// gradleFolders are the ways in which scripts name the folders of a build.
var gradleFolders = []struct {
	names []string
	root  bool
}{
	{[]string{"${rootDir}/", "$rootDir/", "${rootProject.projectDir}/", "${rootProject.rootDir}/", "$rootProject.projectDir/", "${project.rootDir}/"}, true},
	{[]string{"${projectDir}/", "$projectDir/", "${project.projectDir}/"}, false},
}

// maxGradleScripts bounds the scripts that one build script applies.
const maxGradleScripts = 200

// apply reads a script that another one applies. Its path starts at the project.
func (g *gradleReader) apply(from, name string, via, line int) {
	rel := path.Join(g.dir, name)
	if strings.HasPrefix(name, "/") {
		return
	}
	for _, f := range gradleFolders {
		for _, lead := range f.names {
			if rest, ok := strings.CutPrefix(name, lead); ok {
				name, rel = rest, path.Join(g.dir, rest)
				if f.root {
					rel = path.Join(g.root, rest)
				}
			}
		}
	}
	if strings.Contains(name, "$") || strings.Contains(name, "://") || len(g.files) >= maxGradleScripts {
		return // known only when gradle runs, or elsewhere
	}
	data, err := g.main.Open(rel)
	if err != nil {
		g.found.Faults = append(g.found.Faults, task.Fault{File: from, Line: line, Message: fmt.Sprintf("apply from %s: %v; the rest of the file was read", name, err)})
		return
	}
	g.script(rel, data, via)
}

// script reads one script. via is as for add.
func (g *gradleReader) script(file string, data []byte, via int) {
	if g.files[file] {
		return
	}
	g.files[file] = true
	lines := strings.Split(withoutComments(string(data)), "\n")
	g.declared(file, lines, via)
	for n, l := range lines {
		if m := gradleApply().FindStringSubmatch(l); m != nil {
			at := via
			if at == 0 {
				at = n + 1
			}
			g.apply(file, m[1], at, n+1)
			continue
		}
		if !strings.ContainsAny(l, "\"'`") && len(strings.Fields(l)) != 1 {
			continue // names no plugin
		}
		for _, p := range gradlePlugins {
			if p.id().MatchString(l) {
				for _, name := range strings.Fields(p.tasks) {
					g.add(file, via, name, "", n+1, task.Inferred)
				}
			}
		}
	}
}

// declared adds the tasks that a script makes itself.
func (g *gradleReader) declared(file string, lines []string, via int) {
	var loops []gradleLoop
	depth := 0
	for n, l := range lines {
		if m := gradleEach().FindStringSubmatch(l); m != nil {
			loop := gradleLoop{variable: m[2], depth: depth}
			if loop.variable == "" {
				loop.variable = "it"
			}
			for _, item := range gradleItem().FindAllStringSubmatch(m[1], -1) {
				loop.items = append(loop.items, item[1])
			}
			loops = append(loops, loop)
		}
		if m := gradleTemplate().FindStringSubmatch(l); m != nil {
			for _, name := range expandGradle(m[1], loops) {
				if !strings.Contains(name, "$") {
					g.add(file, via, name, "", n+1, task.Declared)
				}
			}
		}
		depth += strings.Count(l, "{") - strings.Count(l, "}")
		for len(loops) > 0 && depth <= loops[len(loops)-1].depth {
			loops = loops[:len(loops)-1]
		}
		if !strings.Contains(l, "task") && !strings.Contains(l, "register") && !strings.Contains(l, "create") {
			continue
		}
		for _, re := range gradleTask {
			m := re().FindStringSubmatch(l)
			if m == nil || m[1] == "wrapper" && !strings.Contains(l, "task") {
				continue
			}
			about := ""
			for k := n; k < min(len(lines), n+8); k++ {
				if d := gradleAbout().FindStringSubmatch(lines[k]); d != nil {
					about = d[1]
					break
				}
				if k > n && strings.TrimSpace(lines[k]) == "}" {
					break
				}
			}
			g.add(file, via, m[1], about, n+1, task.Declared)
			break
		}
	}
}

// splitCamel puts blanks between the words of a name: integrationTest.
func splitCamel(s string) string {
	var b strings.Builder
	for i, r := range s {
		if r >= 'A' && r <= 'Z' && i > 0 {
			b.WriteByte(' ')
		}
		b.WriteRune(r)
	}
	return b.String()
}

// withoutComments replaces the comments of a C-like script by blanks, so that lines
// keep their numbers.
func withoutComments(s string) string {
	b := []byte(s)
	for i := 0; i < len(b); i++ {
		switch {
		case b[i] == '"' || b[i] == '\'':
			end, _ := stringEnd(s, i)
			i = end - 1
		case b[i] == '/' && i+1 < len(b) && b[i+1] == '/':
			for i < len(b) && b[i] != '\n' {
				b[i] = ' '
				i++
			}
		case b[i] == '/' && i+1 < len(b) && b[i+1] == '*':
			end := strings.Index(s[i+2:], "*/")
			stop := len(b)
			if end >= 0 {
				stop = i + 2 + end + 2
			}
			for ; i < stop; i++ {
				if b[i] != '\n' {
					b[i] = ' '
				}
			}
			i--
		}
	}
	return string(b)
}
