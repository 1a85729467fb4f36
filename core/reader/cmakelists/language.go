package cmakelists

import (
	"strings"

	"tidytally/core/reader/declare"
)

// The text of CMake's language (cmake-language(7)): commands, their arguments, and what is replaced in these.

type cmakeCommand struct {
	name string
	args []cmakeArg
	line int
}

type cmakeArg struct {
	text   string
	quoted bool
	raw    bool // a bracket argument: nothing is replaced in it
}

// parse reads the commands of a file.
func (c *cmakeReader) parse(file string, data []byte) (out []cmakeCommand) {
	s := strings.TrimPrefix(string(data), "\ufeff")
	line := 1
	i := 0
	skip := func() bool { // blanks and comments
		for i < len(s) {
			switch {
			case s[i] == '\n':
				line++
				i++
			case s[i] == ' ' || s[i] == '\t' || s[i] == '\r':
				i++
			case s[i] == '#':
				if body, n := bracket(s[i+1:]); n > 0 {
					line += strings.Count(body, "\n")
					i += 1 + n
					continue
				}
				for i < len(s) && s[i] != '\n' {
					i++
				}
			default:
				return true
			}
		}
		return false
	}
	for skip() {
		start := i
		for i < len(s) && (s[i] == '_' || s[i]|0x20 >= 'a' && s[i]|0x20 <= 'z' || s[i] >= '0' && s[i] <= '9') {
			i++
		}
		cmd := cmakeCommand{name: strings.ToLower(s[start:i]), line: line}
		if i == start {
			c.fault(file, line, "a command should stand here; the commands before were read")
			return out
		}
		for i < len(s) && (s[i] == ' ' || s[i] == '\t') {
			i++
		}
		if i >= len(s) || s[i] != '(' {
			c.fault(file, line, "a bracket should stand behind %s; the commands before were read", cmd.name)
			return out
		}
		i++
		for depth := 1; depth > 0; {
			if !skip() {
				c.fault(file, cmd.line, "the bracket behind %s is not closed; the commands before were read", cmd.name)
				return out
			}
			switch s[i] {
			case '(':
				depth++
				cmd.args = append(cmd.args, cmakeArg{text: "("})
				i++
			case ')':
				if depth--; depth > 0 {
					cmd.args = append(cmd.args, cmakeArg{text: ")"})
				}
				i++
			case '"':
				j := i + 1
				for j < len(s) && s[j] != '"' {
					if s[j] == '\\' {
						j++
					}
					j++
				}
				j = min(j, len(s))
				text := s[min(i+1, j):j]
				line += strings.Count(text, "\n")
				cmd.args = append(cmd.args, cmakeArg{text: text, quoted: true})
				i = min(j+1, len(s))
			default:
				if body, n := bracket(s[i:]); n > 0 {
					line += strings.Count(body, "\n")
					cmd.args = append(cmd.args, cmakeArg{text: body, quoted: true, raw: true})
					i += n
					continue
				}
				j := i
				for j < len(s) && strings.IndexByte(" \t\r\n()#\"", s[j]) < 0 {
					if s[j] == '\\' {
						j++
					}
					if j+1 < len(s) && s[j] == '$' && s[j+1] == '(' { // a legacy reference to make's variables
						for j < len(s) && s[j] != ')' {
							j++
						}
					}
					j++
				}
				j = min(j, len(s))
				cmd.args = append(cmd.args, cmakeArg{text: s[i:j]})
				i = j
			}
		}
		out = append(out, cmd)
	}
	return out
}

// bracket reads a bracket argument [=[…]=] and returns its length.
func bracket(s string) (body string, n int) {
	if len(s) < 4 || s[0] != '[' {
		return "", 0
	}
	k := 1
	for k < len(s) && s[k] == '=' {
		k++
	}
	if k >= len(s) || s[k] != '[' {
		return "", 0
	}
	end := strings.Index(s[k+1:], "]"+strings.Repeat("=", k-1)+"]")
	if end < 0 {
		return "", 0
	}
	return s[k+1 : k+1+end], k + 1 + end + k + 1
}

// maxValue is the length in bytes to which a value grows.
const maxValue = 1 << 18

// expand replaces the references to variables in an argument, and its escapes. What cannot be known stands in the
// result as declare.Unknown.
func (s *scope) expand(text string) string {
	if strings.IndexByte(text, '$') < 0 && strings.IndexByte(text, '\\') < 0 {
		return text
	}
	out, _ := s.expandTo(text, 0, 0)
	s.reader.steps += len(out) / 256 // to copy them is work too
	return out
}

// expandTo expands text from i on, to a closing brace if depth is not 0. It returns where it ended.
func (s *scope) expandTo(text string, i, depth int) (string, int) {
	var b strings.Builder
	for i < len(text) && b.Len() < maxValue {
		rest := text[i:]
		switch {
		case depth > 0 && text[i] == '}':
			return b.String(), i
		case text[i] == '\\' && len(rest) > 1:
			switch rest[1] {
			case 'n':
				b.WriteByte('\n')
			case 't':
				b.WriteByte('\t')
			case 'r':
				b.WriteByte('\r')
			case '\n': // a line that goes on
			case ';':
				b.WriteString("\\;")
			default:
				b.WriteByte(rest[1])
			}
			i += 2
		case strings.HasPrefix(rest, "${"), strings.HasPrefix(rest, "$ENV{"), strings.HasPrefix(rest, "$CACHE{"):
			open := strings.IndexByte(rest, '{')
			name, end := "", len(text)
			if depth < 20 {
				name, end = s.expandTo(text, i+open+1, depth+1)
			}
			if end >= len(text) { // it is not closed
				b.WriteString(rest)
				return b.String(), len(text)
			}
			switch {
			case strings.Contains(name, declare.Unknown) || rest[1] == 'E' && everywhere[name]:
				b.WriteString(declare.Unknown)
			case rest[1] == 'E':
			case rest[1] == 'C':
				v, _ := s.reader.cached(name)
				b.WriteString(v)
			default:
				b.WriteString(s.value(name))
			}
			i = end + 1
		default:
			b.WriteByte(text[i])
			i++
		}
	}
	if b.Len() >= maxValue {
		return declare.Unknown, len(text)
	}
	return b.String(), len(text)
}

// words expands arguments to words: an argument without quotes is a list.
func (s *scope) words(args []cmakeArg) (out []string) {
	for _, a := range args {
		text := a.text
		if !a.raw {
			text = s.expand(text)
		}
		if a.quoted {
			out = append(out, text)
			continue
		}
		for _, w := range items(text) {
			if w != "" {
				out = append(out, w)
			}
		}
	}
	return out
}

// items splits a list. A semicolon in square brackets or behind a backslash divides nothing.
func items(list string) (out []string) {
	if list == "" {
		return nil
	}
	depth, from := 0, 0
	for i := 0; i < len(list); i++ {
		switch list[i] {
		case '[':
			depth++
		case ']':
			depth--
		case ';':
			if depth <= 0 && (i == 0 || list[i-1] != '\\') {
				out = append(out, strings.ReplaceAll(list[from:i], "\\;", ";"))
				from = i + 1
			}
		}
	}
	return append(out, strings.ReplaceAll(list[from:], "\\;", ";"))
}

// unknown reports whether a part of a text is not known.
func unknown(texts ...string) bool {
	for _, t := range texts {
		if strings.Contains(t, declare.Unknown) {
			return true
		}
	}
	return false
}
