package task

import (
	"fmt"
	"path"
	"strings"
)

// Values give placeholders their text.
type Values struct {
	// File is the current file as an absolute path, Line the line in it; empty
	// and 0 when there is none.
	File string
	Line int
	Root string // the workspace, absolute
	Dir  string // the task's folder, absolute
	Env  func(name string) (string, bool)
	Set  map[string]string
	Ask  map[string]string
}

// Lookup returns the text of the placeholder named, without its braces.
func (v *Values) Lookup(name string) (string, error) {
	field, rest, _ := strings.Cut(name, ".")
	switch field {
	case "file":
		if v.File == "" {
			return "", fmt.Errorf("{%s}: there is no current file; choose one, or give it with --file", name)
		}
		base := path.Base(v.File)
		ext := path.Ext(base)
		switch rest {
		case "":
			return v.File, nil
		case "rel":
			return strings.TrimPrefix(v.File, strings.TrimSuffix(v.Root, "/")+"/"), nil
		case "dir":
			return path.Dir(v.File), nil
		case "base":
			return base, nil
		case "stem":
			return strings.TrimSuffix(base, ext), nil
		case "ext":
			return strings.TrimPrefix(ext, "."), nil
		}
	case "line":
		if rest == "" {
			if v.Line == 0 {
				return "", fmt.Errorf("{line}: there is no current line")
			}
			return fmt.Sprint(v.Line), nil
		}
	case "root":
		if rest == "" {
			return v.Root, nil
		}
	case "dir":
		if rest == "" {
			return v.Dir, nil
		}
	case "env":
		if text, ok := v.Env(rest); ok {
			return text, nil
		}
		return "", fmt.Errorf("{%s}: the environment has no %s", name, rest)
	case "set":
		if text, ok := v.Set[rest]; ok {
			return text, nil
		}
		return "", fmt.Errorf("{%s}: no [set] table has %s", name, rest)
	case "ask":
		if text, ok := v.Ask[rest]; ok {
			return text, nil
		}
		return "", fmt.Errorf("{%s}: it asks for a value; give it among the arguments: %s=…", name, rest)
	}
	return "", fmt.Errorf("{%s}: no such placeholder", name)
}

// Expand replaces the placeholders of a text. With quoted, the text is a shell's
// and each value is quoted for it, in the way of the quotes that it stands in.
// "{{" and "}}" are literal braces; a brace behind '$' is the shell's own and is
// left alone, as are braces around what cannot be a placeholder's name.
func (v *Values) Expand(text string, quoted bool) (string, error) {
	var b strings.Builder
	var in byte // the quote that is open
	for i := 0; i < len(text); i++ {
		c := text[i]
		switch {
		case quoted && c == '\\' && in != '\'' && i+1 < len(text):
			b.WriteString(text[i : i+2])
			i++
		case quoted && (c == '"' || c == '\'') && (in == 0 || in == c):
			b.WriteByte(c)
			if in == 0 {
				in = c
			} else {
				in = 0
			}
		case c == '$' && i+1 < len(text) && text[i+1] == '{':
			end := strings.IndexByte(text[i:], '}')
			if end < 0 {
				end = len(text) - i - 1
			}
			b.WriteString(text[i : i+end+1])
			i += end
		case (c == '{' || c == '}') && i+1 < len(text) && text[i+1] == c:
			b.WriteByte(c)
			i++
		case c == '{':
			end := strings.IndexByte(text[i:], '}')
			if end < 0 || !PlaceholderName(text[i+1:i+end]) {
				b.WriteByte(c)
				continue
			}
			value, err := v.Lookup(text[i+1 : i+end])
			if err != nil {
				return "", err
			}
			if quoted {
				value = quoteIn(in, value)
			}
			b.WriteString(value)
			i += end
		default:
			b.WriteByte(c)
		}
	}
	return b.String(), nil
}

// quoteIn quotes a value for a place in a shell's text. open is the quote that is
// open there, or 0 (POSIX.1-2024, XCU 2.2).
func quoteIn(open byte, value string) string {
	switch open {
	case '"':
		return strings.NewReplacer(`\`, `\\`, `"`, `\"`, "$", `\$`, "`", "\\`").Replace(value)
	case '\'':
		return strings.ReplaceAll(value, "'", `'\''`)
	}
	return Quote(value)
}

// ExpandCommand replaces the placeholders of a command: in a shell string each
// value is quoted, in a list it is one argument as it is.
func (v *Values) ExpandCommand(c Command) (Command, error) {
	if len(c.Argv) == 0 {
		shell, err := v.Expand(c.Shell, true)
		return Command{Shell: shell}, err
	}
	argv := make([]string, len(c.Argv))
	for i, a := range c.Argv {
		text, err := v.Expand(a, false)
		if err != nil {
			return Command{}, err
		}
		argv[i] = text
	}
	return Command{Argv: argv}, nil
}

// PlaceholderName reports whether a text could name a placeholder: letters, digits,
// '_', '-' and dots, beginning with a letter.
func PlaceholderName(s string) bool {
	for i := 0; i < len(s); i++ {
		c := s[i]
		switch {
		case c >= 'a' && c <= 'z', c >= 'A' && c <= 'Z':
		case i > 0 && (c >= '0' && c <= '9' || c == '_' || c == '-' || c == '.'):
		default:
			return false
		}
	}
	return s != ""
}

// PlaceholderNames are all placeholders; NAME stands for any name.
var PlaceholderNames = []string{
	"file", "file.rel", "file.dir", "file.base", "file.stem", "file.ext", "line", "root", "dir", "env.NAME", "set.NAME", "ask.NAME", "command",
}

// KnownPlaceholder reports whether there is a placeholder of this name.
func KnownPlaceholder(name string) bool {
	for _, p := range PlaceholderNames {
		if p == name {
			return true
		}
		if lead, ok := strings.CutSuffix(p, "NAME"); ok && strings.HasPrefix(name, lead) && len(name) > len(lead) {
			return true
		}
	}
	return false
}

// Placeholders names the placeholders in a text, in order.
func Placeholders(text string) (names []string) {
	for i := 0; i < len(text); i++ {
		switch {
		case text[i] == '$' && i+1 < len(text) && text[i+1] == '{':
			if end := strings.IndexByte(text[i:], '}'); end >= 0 {
				i += end
			}
		case text[i] == '{' && i+1 < len(text) && text[i+1] == '{':
			i++
		case text[i] == '{':
			end := strings.IndexByte(text[i:], '}')
			if end > 0 && PlaceholderName(text[i+1:i+end]) {
				names = append(names, text[i+1:i+end])
				i += end
			}
		}
	}
	return names
}
