package workspace

import (
	"cmp"
	"fmt"
	"os"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"tidytally/core/files"
)

// ignoreList is one ignore file: its patterns in order (gitignore(5)).
type ignoreList struct {
	from     string // the file, as it is shown
	base     string // the folder that patterns start from, relative, "" for the root
	patterns []ignorePattern
	parent   *ignoreList
	digest   uint64 // of it and those above it
}

type ignorePattern struct {
	glob     string
	literal  bool // no wildcard: compare
	negated  bool
	folders  bool // matches folders only
	anchored bool // matches from the base, else the last name at any depth
	line     int
	text     string
}

// parseIgnore reads the lines of an ignore file.
func parseIgnore(data []byte, from, base string, parent *ignoreList) *ignoreList {
	l := &ignoreList{from: from, base: base, parent: parent}
	for n, text := range strings.Split(string(data), "\n") {
		text = strings.TrimSuffix(text, "\r")
		if n == 0 {
			text = strings.TrimPrefix(text, "\ufeff")
		}
		if p, ok := parsePattern(text); ok {
			p.line = n + 1
			l.patterns = append(l.patterns, p)
		}
	}
	if len(l.patterns) == 0 {
		return parent
	}
	if parent != nil {
		l.digest = parent.digest
	}
	l.digest = mixText(mixText(mixText(l.digest, from), base), string(data))
	return l
}

func parsePattern(text string) (p ignorePattern, ok bool) {
	p.text = text
	for strings.HasSuffix(text, " ") && !strings.HasSuffix(text, `\ `) {
		text = text[:len(text)-1]
	}
	if text == "" || text[0] == '#' {
		return p, false
	}
	if text[0] == '!' {
		p.negated, text = true, text[1:]
	}
	if strings.HasSuffix(text, "/") {
		p.folders, text = true, strings.TrimSuffix(text, "/")
	}
	if strings.Contains(text, "/") {
		p.anchored, text = true, strings.TrimPrefix(text, "/")
	}
	if text == "" {
		return p, false
	}
	p.literal = !strings.ContainsAny(text, `*?[\`)
	// Braces are no wildcards to git.
	p.glob = strings.NewReplacer("{", `\{`, "}", `\}`).Replace(text)
	if p.literal {
		p.glob = text
	} else if !doublestar.ValidatePattern(p.glob) {
		return p, false
	}
	return p, true
}

// match finds the pattern that decides on a path relative to the workspace.
// The last pattern of the deepest ignore file wins.
func (l *ignoreList) match(path, name string, folder bool) (rule string, ignored bool) {
	for ; l != nil; l = l.parent {
		rel := path
		if l.base != "" {
			rel = strings.TrimPrefix(path, l.base+"/")
		}
		for i := len(l.patterns) - 1; i >= 0; i-- {
			p := &l.patterns[i]
			if p.folders && !folder {
				continue
			}
			subject := name
			if p.anchored {
				subject = rel
			}
			hit := subject == p.glob
			if !p.literal {
				hit, _ = doublestar.Match(p.glob, subject)
				// "a/**" matches what is inside of a, not a itself.
				if hit && strings.HasSuffix(p.glob, "/**") && doublestarSame(p.glob, subject) {
					hit = false
				}
			}
			if hit {
				return fmt.Sprintf("%s:%d: %s", l.from, p.line, p.text), !p.negated
			}
		}
	}
	return "", false
}

func doublestarSame(glob, subject string) bool {
	same, _ := doublestar.Match(strings.TrimSuffix(glob, "/**"), subject)
	return same
}

// baseIgnores reads the ignore files that are outside of the folders: the user's and
// the repository's own.
func baseIgnores(root string, off map[string]bool) *ignoreList {
	var list *ignoreList
	config := os.Getenv("XDG_CONFIG_HOME")
	if config == "" {
		if home, err := os.UserHomeDir(); err == nil {
			config = home + "/.config"
		}
	}
	own := config + "/git/ignore"
	home, _ := os.UserHomeDir()
	for _, settings := range []string{config + "/git/config", home + "/.gitconfig", root + "/.git/config"} {
		if data, err := files.Read(settings, 1<<20); err == nil {
			own = cmp.Or(excludesFile(data, home), own)
		}
	}
	for _, f := range []struct{ path, from string }{
		{own, "your git/ignore"},
		{root + "/.git/info/exclude", ".git/info/exclude"},
	} {
		if off[f.from] {
			continue
		}
		if data, err := files.Read(f.path, 1<<20); err == nil {
			list = parseIgnore(data, f.from, "", list)
		}
	}
	return list
}

// excludesFile reads core.excludesFile from a git configuration (git-config(1),
// "Syntax"); "" if it is not set.
func excludesFile(data []byte, home string) (file string) {
	section := ""
	for _, line := range strings.Split(string(data), "\n") {
		line = strings.TrimSpace(line)
		if strings.HasPrefix(line, "[") {
			if i := strings.IndexByte(line, ']'); i > 0 {
				section, line = strings.ToLower(strings.TrimSpace(line[1:i])), strings.TrimSpace(line[i+1:])
			}
		}
		key, value, ok := strings.Cut(line, "=")
		if !ok || section != "core" || !strings.EqualFold(strings.TrimSpace(key), "excludesfile") {
			continue
		}
		value = strings.TrimSpace(value)
		if strings.HasPrefix(value, `"`) {
			value, _, _ = strings.Cut(value[1:], `"`)
		} else if i := strings.IndexAny(value, "#;"); i >= 0 {
			value = strings.TrimSpace(value[:i])
		}
		if rest, ok := strings.CutPrefix(value, "~/"); ok {
			value = home + "/" + rest
		}
		file = value
	}
	return file
}
