package reader

import (
	"cmp"
	"path"
	"strings"

	"tidytally/core/reader/declare"
	"tidytally/core/task"
	"tidytally/internal/lazyregexp"
)

// Rake files (Rake documentation: "Rakefile Format"). Ruby is not run: tasks
// with a plain name are read, in the namespaces that plainly enclose them.

func rakeWants(name string) bool {
	switch name {
	case "Rakefile", "rakefile", "Rakefile.rb", "rakefile.rb":
		return true
	}
	return strings.HasSuffix(name, ".rake")
}

var (
	rakeTask      = lazyregexp.New(`^(task|multitask|file|directory)[ \t(]+(?::?"([^"#]+)"|:?'([^']+)'|:([A-Za-z_][\w?!]*)|([A-Za-z_]\w*):)(.*)$`)
	rakeDesc      = lazyregexp.New(`^desc[ \t(]+(?:"((?:[^"\\]|\\.)*)"|'((?:[^'\\]|\\.)*)')`)
	rakeNamespace = lazyregexp.New(`^namespace[ \t(]+(?::?"([^"#]+)"|:?'([^']+)'|:([A-Za-z_]\w*))`)
	rakeOpens     = lazyregexp.New(`^(if|unless|case|while|until|for|begin|def|class|module)\b`)
	rakeDo        = lazyregexp.New(`\bdo\b[ \t]*(\|[^|]*\|)?[ \t]*$`)
	rakeHeredoc   = lazyregexp.New(`<<[-~]?["']?([A-Z_]\w*)["']?`)
	rakeNeeds     = lazyregexp.New(`:([A-Za-z_][\w:]*)|["']([\w:.-]+)["']`)
)

func readRake(f *declare.File) (found declare.Found) {
	dir := path.Dir(f.Path)
	if strings.HasSuffix(f.Path, ".rake") {
		// Read with the Rakefile above its rakelib folder, or by a library.
		parent := path.Dir(dir)
		if path.Base(dir) != "rakelib" {
			if i := strings.Index(dir+"/", "lib/tasks/"); i >= 0 && f.Exists(path.Join(dir[:i], "Rakefile")) {
				parent = path.Clean(dir[:i] + ".")
			} else if parent = loadedBy(f, dir); parent == "" {
				return found
			}
		}
		dir = parent
	}
	var blocks []string // the namespace, with its colons, that holds in each
	namespace := func() string {
		if len(blocks) == 0 {
			return ""
		}
		return blocks[len(blocks)-1]
	}
	open := func(s string) {
		in := namespace()
		if m := rakeNamespace().FindStringSubmatch(s); m != nil && len(in) < 1000 {
			in += cmp.Or(m[1], m[2], m[3]) + ":"
		}
		blocks = append(blocks, in)
	}
	about, heredoc := "", ""
	comment := false
	seen := map[string]bool{}
	for n, raw := range strings.Split(string(f.Data), "\n") {
		s := strings.TrimSpace(raw)
		switch {
		case heredoc != "":
			if s == heredoc {
				heredoc = ""
			}
			continue
		case strings.HasPrefix(raw, "=begin"):
			comment = true
		case strings.HasPrefix(raw, "=end"):
			comment = false
			continue
		case s == "__END__":
			return found
		}
		if comment || s == "" || s[0] == '#' {
			continue
		}
		if m := rakeHeredoc().FindStringSubmatch(s); m != nil {
			heredoc = m[1]
		}
		if m := rakeDesc().FindStringSubmatch(s); m != nil {
			about = m[1] + m[2]
			continue
		}
		code := strings.TrimSpace(rubyCode(s))
		if m := rakeTask().FindStringSubmatch(s); m != nil {
			name := cmp.Or(m[2], m[3], m[4], m[5])
			full := namespace() + name
			if !seen[full] && !strings.Contains(name, "#{") {
				seen[full] = true
				t := &task.Task{
					Name: full, Source: "rake", File: f.Path, Line: n + 1, Manner: task.Declared, Dir: dir, About: declare.Shorten(about),
					Kind: task.KindOf(full), Command: task.Command{Argv: []string{"rake", full}}, Default: full == "default",
					Hidden: m[1] == "file" || m[1] == "directory",
				}
				needs := m[6]
				if i := strings.Index(needs, "=>"); i >= 0 {
					needs = needs[i:]
				} else if m[5] == "" {
					needs = ""
				}
				if i := strings.Index(needs, " do"); i >= 0 {
					needs = needs[:i]
				}
				for _, d := range rakeNeeds().FindAllStringSubmatch(needs, -1) {
					t.Prerequisites = append(t.Prerequisites, cmp.Or(d[1], d[2]))
				}
				found.Tasks = append(found.Tasks, t)
			}
			about = ""
		}
		switch {
		case code == "end" || strings.HasPrefix(code, "end ") || strings.HasPrefix(code, "end.") || strings.HasPrefix(code, "end)") || code == "}":
			if len(blocks) > 0 {
				blocks = blocks[:len(blocks)-1]
			}
		case rakeDo().MatchString(code):
			open(s)
		case rakeOpens().MatchString(code) && !strings.HasSuffix(code, " end") && !strings.HasSuffix(code, ";end"):
			open("")
		case strings.HasSuffix(code, "{") || strings.HasSuffix(code, "|") && strings.Contains(code, "{ |"):
			open(s)
		}
	}
	return found
}

// rubyCode is a line without its strings' content and its comment.
func rubyCode(s string) string {
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		switch c := s[i]; c {
		case '"', '\'':
			b.WriteByte(c)
			for i++; i < len(s) && s[i] != c; i++ {
				if s[i] == '\\' {
					i++
				}
			}
			b.WriteByte(c)
		case '#':
			return b.String()
		default:
			b.WriteByte(c)
		}
	}
	return b.String()
}

// loadedBy finds the folder of the Rakefile that names the folder of a .rake
// file.
func loadedBy(f *declare.File, dir string) string {
	for at := dir; ; {
		data, err := f.Open(path.Join(at, "Rakefile"))
		if err == nil && at != dir && strings.Contains(string(data), path.Base(dir)+"/") {
			return at
		}
		if at == "." {
			return ""
		}
		at = path.Dir(at)
	}
}
