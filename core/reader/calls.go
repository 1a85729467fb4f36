package reader

import (
	"path"
	"slices"
	"strings"

	"mvdan.cc/sh/v3/syntax"

	"tidytally/core/task"
)

// Call is a command that the script of a task executes, and the task of the
// workspace that it comes down to, if it does.
type Call struct {
	Text string `json:"text"`
	ID   string `json:"id,omitempty"`
	// Hook says that the package manager adds it: "before" or "after".
	Hook string `json:"hook,omitempty"`
}

// Called finds the tasks that scripts call.
type Called struct {
	Tasks    []*task.Task
	Packages map[string]string // folders of packages, by name
}

// maxCalls bounds the calls of one task.
const maxCalls = 200

// Calls returns the commands that the script of a task executes, in the order of the
// script. It reads the script as a shell would (POSIX.1, "Shell Command Language")
// and executes nothing.
func (s *Called) Calls(t *task.Task) (out []Call) {
	add := func(c Call) {
		if len(out) < maxCalls {
			out = append(out, c)
		}
	}
	hook := func(name, when string) {
		if h := s.script(t.Folder(), name); h != nil && t.Source == "npm" {
			add(Call{Text: h.Script, ID: h.ID(), Hook: when})
		}
	}
	text := t.Script
	if text == "" {
		text = t.Command.Shell
	}
	if t.Source == "make" || text == "" {
		return nil
	}
	hook("pre"+t.Name, "before")
	for _, c := range shellCalls(text) {
		ids := s.called(t, c.argv)
		if len(ids) == 0 {
			add(Call{Text: c.text})
		}
		for _, id := range ids {
			add(Call{Text: c.text, ID: id})
		}
	}
	hook("post"+t.Name, "after")
	if len(out) == 1 && out[0].ID == "" && out[0].Text == strings.TrimSpace(text) {
		return nil // the line itself says as much
	}
	return out
}

// script finds a package script of a member.
func (s *Called) script(member, name string) *task.Task {
	file := path.Join(member, "package.json")
	for _, t := range s.Tasks {
		if t.File == file && t.Name == name && t.Source == "npm" {
			return t
		}
	}
	return nil
}

type shellCall struct {
	text string
	argv []string // a word that is not plain is empty
}

// shellCalls returns the simple commands of a shell line. A line that is not valid
// is returned as one call.
func shellCalls(line string) (out []shellCall) {
	file, err := syntax.NewParser(syntax.Variant(syntax.LangBash)).Parse(strings.NewReader(line), "")
	if err != nil {
		return []shellCall{{text: strings.TrimSpace(line)}}
	}
	syntax.Walk(file, func(n syntax.Node) bool {
		call, ok := n.(*syntax.CallExpr)
		if !ok || len(call.Args) == 0 {
			return true
		}
		c := shellCall{text: line[call.Pos().Offset():call.End().Offset()]}
		for _, w := range call.Args {
			c.argv = append(c.argv, plainWord(w))
		}
		out = append(out, c)
		return true
	})
	return out
}

// plainWord returns the text of a word without expansions, "" of others.
func plainWord(w *syntax.Word) string {
	var b strings.Builder
	for _, p := range w.Parts {
		switch p := p.(type) {
		case *syntax.Lit:
			b.WriteString(strings.ReplaceAll(p.Value, `\`, ""))
		case *syntax.SglQuoted:
			b.WriteString(p.Value)
		case *syntax.DblQuoted:
			for _, q := range p.Parts {
				l, ok := q.(*syntax.Lit)
				if !ok {
					return ""
				}
				b.WriteString(l.Value)
			}
		default:
			return ""
		}
	}
	return b.String()
}

// called finds the tasks that a command of t's script runs.
func (s *Called) called(t *task.Task, argv []string) (ids []string) {
	for len(argv) > 0 && strings.Contains(argv[0], "=") && len(argv) > 1 { // env A=b command
		argv = argv[1:]
	}
	if len(argv) == 0 {
		return nil
	}
	if program := path.Base(argv[0]); program == "make" {
		return s.calledMake(t, argv[1:])
	} else if isPackageManager(program) {
		member, names := s.packageCall(t, program, argv[1:])
		return s.scripts(member, names)
	}
	if t.Source == "composer" && strings.HasPrefix(argv[0], "@") {
		if other, err := task.Find(s.Tasks, t.File+"#"+argv[0][1:]); err == nil {
			return []string{other.ID()}
		}
	}
	return s.severalScripts(t, argv[1:])
}

// severalScripts reads the arguments of a program that starts several package
// scripts: each argument names some, with "npm:" before it or without, or is a
// command line of its own. Where one that is no option does neither, the
// program is something else.
func (s *Called) severalScripts(t *task.Task, args []string) (ids []string) {
	if t.Source != "npm" {
		return nil
	}
	for _, a := range args {
		if strings.HasPrefix(a, "-") {
			continue
		}
		var found []string
		if name, marked := strings.CutPrefix(a, "npm:"); marked || !strings.Contains(a, " ") {
			found = s.scripts(t.Folder(), []string{name})
		} else {
			for _, c := range shellCalls(a) {
				if len(c.argv) > 0 && isPackageManager(c.argv[0]) {
					found = append(found, s.called(t, c.argv)...)
				}
			}
		}
		if len(found) == 0 && !strings.Contains(a, " ") {
			return nil
		}
		ids = append(ids, found...)
	}
	return ids
}

func isPackageManager(program string) bool {
	return slices.ContainsFunc(packageManagers, func(m packageManagerOf) bool { return m.name == program })
}

// packageCall reads the arguments of a package manager. It returns the folder of the
// package and the scripts; with -r or --workspaces the folder is "*".
func (s *Called) packageCall(t *task.Task, program string, args []string) (member string, names []string) {
	member = t.Folder()
	if t.Dir != "" {
		member = t.Dir
	}
	run := false
	for i := 0; i < len(args); i++ {
		a := args[i]
		flag, value, joined := strings.Cut(a, "=")
		switch flag {
		case "-w", "--workspace", "--filter", "-F", "--prefix", "-C", "--dir", "--cwd":
			if !joined && i+1 < len(args) {
				i++
				value = args[i]
			}
			member = s.member(t, value)
		case "-r", "--recursive", "-ws", "--workspaces":
			member = "*"
		case "--":
			return member, names
		case "run", "run-script":
			run = true
		case "workspace": // yarn workspace NAME …
			if i+1 < len(args) {
				i++
				member = s.member(t, args[i])
			}
		default:
			if strings.HasPrefix(a, "-") || len(names) > 0 {
				continue
			}
			if !run && program == "npm" {
				switch a {
				case "test", "start", "stop", "restart":
				case "t", "tst":
					a = "test"
				default:
					return member, nil
				}
			}
			names = []string{a}
		}
	}
	return member, names
}

// member finds the folder of a member by its path or the name in its package.
func (s *Called) member(t *task.Task, name string) string {
	folder := path.Join(t.Folder(), name)
	for _, k := range s.Tasks {
		if k.Source == "npm" && k.Folder() == folder {
			return folder
		}
	}
	return s.Packages[name]
}

// scripts returns the ids of package scripts by name or pattern. In a pattern, a
// star matches a part between colons, two stars any number of parts.
func (s *Called) scripts(member string, patterns []string) (ids []string) {
	for _, p := range patterns {
		for _, t := range s.Tasks {
			if t.Source == "npm" && p != "" && (member == "*" || t.Folder() == member) && scriptMatches(p, t.Name) {
				ids = append(ids, t.ID())
			}
		}
	}
	return ids
}

func scriptMatches(pattern, name string) bool {
	if !strings.Contains(pattern, "*") {
		return pattern == name
	}
	if strings.Contains(pattern, "**") {
		before, after, _ := strings.Cut(pattern, "**")
		return strings.HasPrefix(name, before) && strings.HasSuffix(name, after)
	}
	// path.Match has slashes where scripts have colons.
	colons := strings.NewReplacer(":", "/", "/", ":")
	hit, _ := path.Match(colons.Replace(pattern), colons.Replace(name))
	return hit
}

func (s *Called) calledMake(t *task.Task, args []string) (ids []string) {
	dir, file := t.Dir, ""
	var targets []string
	for i := 0; i < len(args); i++ {
		switch a := args[i]; {
		case (a == "-C" || a == "--directory") && i+1 < len(args):
			i++
			dir = path.Join(dir, args[i])
		case (a == "-f" || a == "--file") && i+1 < len(args):
			i++
			file = args[i]
		case strings.HasPrefix(a, "-"), strings.Contains(a, "="):
		default:
			targets = append(targets, a)
		}
	}
	for _, k := range s.Tasks {
		if k.Source != "make" || k.Folder() != path.Clean(dir) || file != "" && path.Base(k.File) != path.Base(file) {
			continue
		}
		if slices.Contains(targets, k.Name) || len(targets) == 0 && k.Default {
			ids = append(ids, k.ID())
		}
	}
	return ids
}

// HideDoubles hides inferred tasks if a script of the package runs the same command:
// what people wrote down comes first.
func (s *Called) HideDoubles() {
	wanted := map[string]bool{}
	for _, t := range s.Tasks {
		if t.Source == "config" {
			wanted[t.Folder()] = true
		}
	}
	if len(wanted) == 0 {
		return
	}
	calls := map[string][]scriptCall{}
	for _, t := range s.Tasks {
		if t.Source == "npm" && wanted[t.Folder()] {
			for _, c := range shellCalls(t.Script) {
				calls[t.Folder()] = append(calls[t.Folder()], scriptCall{t.Name, withoutLead(c.argv)})
			}
		}
	}
	for _, t := range s.Tasks {
		if t.Source != "config" {
			continue
		}
		argv := withoutLead(t.Command.Argv)
		for _, c := range calls[t.Folder()] {
			if sameCall(argv, c.argv) {
				t.Hidden = true
				o := t.Origin("name")
				o.Note = "hidden, as the script " + c.name + " runs it"
				t.SetOrigin("name", o)
				break
			}
		}
	}
}

type scriptCall struct {
	name string
	argv []string
}

// withoutLead cuts the words that only start a program of the package.
func withoutLead(argv []string) []string {
	for len(argv) > 1 {
		switch argv[0] {
		case "npx", "--no", "--", "--no-install", "exec":
		case "pnpm", "yarn":
			if argv[1] != "exec" && argv[1] != "run" {
				return argv
			}
		case "run":
		default:
			return argv
		}
		argv = argv[1:]
	}
	return argv
}

// sameCall reports whether a script calls a tool for the same: the same program, the
// same first word that is no option or path, the same --watch, --fix and the like.
func sameCall(inferred, script []string) bool {
	if len(inferred) == 0 || len(script) == 0 || inferred[0] != script[0] {
		return false
	}
	told := func(argv []string) string {
		var words []string
		for i, a := range argv[1:] {
			switch a = strings.TrimPrefix(a, "--"); a {
			case "w":
				a = "watch"
			case "watch", "fix", "check", "write", "noEmit", "build", "b", "-b", "-w", "serve", "dev", "preview", "test", "run", "start", "format":
			default:
				if i > 0 || strings.HasPrefix(argv[1], "-") || strings.ContainsAny(a, "./*") {
					continue
				}
			}
			switch a {
			case "-w":
				a = "watch"
			case "-b", "b":
				a = "build"
			case "run": // vitest runs either way
				continue
			}
			words = append(words, a)
		}
		if slices.Contains(words, "watch") { // who watches does not mind what is written
			words = slices.DeleteFunc(words, func(w string) bool { return w == "noEmit" })
		}
		slices.Sort(words)
		return strings.Join(words, " ")
	}
	return told(inferred) == told(script)
}
