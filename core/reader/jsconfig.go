package reader

import "strings"

// Configurations written in JavaScript are programs, and are not run. Plain data in
// them is read all the same: a string, or a list of strings, under keys of nested
// object literals (ECMA-262, "Object Initializer"). Everything else is unknown.

// setting is the value of one key of a configuration.
type setting struct {
	there bool     // the key stands there
	plain bool     // and its value is plain data
	texts []string // the string, or the strings of a list
	line  int
}

// jsFrame is an open bracket of the text.
type jsFrame struct {
	kind byte   // '{' of an object literal, 'b' of a block, '[' or '('
	key  string // of an object: the key whose value is being read
}

// jsSetting looks for the value under the dotted keys, in any object literal that is
// not itself a value. If the keys occur twice with different values, the setting is
// not plain.
func jsSetting(data []byte, keys string) (found setting) {
	s := jsScanner{text: string(data), line: 1}
	var stack []jsFrame
	path := func() string {
		var parts []string
		for _, f := range stack {
			if f.kind == '{' && f.key != "" {
				parts = append(parts, f.key)
			}
		}
		return strings.Join(parts, ".")
	}
	last, before := jsToken{}, jsToken{}
	for {
		t := s.next(last)
		if t.kind == 0 {
			return found
		}
		top := len(stack) - 1
		inObject := top >= 0 && stack[top].kind == '{'
		switch {
		case t.is("{"):
			kind := byte('{')
			// Behind ")", "=>" or a word that is no operator there is a block.
			if last.is(")") || last.is("=>") || last.is(";") || last.is("}") || last.kind == 0 ||
				last.kind == 'w' && last.text != "return" && last.text != "default" {
				kind = 'b'
			}
			stack = append(stack, jsFrame{kind: kind})
		case t.is("["), t.is("("):
			stack = append(stack, jsFrame{kind: t.text[0]})
		case t.is("}"), t.is("]"), t.is(")"):
			if top >= 0 {
				stack = stack[:top]
			}
		case t.is(",") && inObject:
			stack[top].key = ""
		case t.is(":") && inObject && stack[top].key == "" && (last.kind == 'w' || last.kind == 's') && (before.is("{") || before.is(",")):
			stack[top].key = last.text
			if path() != keys {
				break
			}
			value := setting{there: true, line: last.line}
			value.texts, value.plain = s.plain()
			if found.there && strings.Join(found.texts, "\n") != strings.Join(value.texts, "\n") {
				value.plain = false
			}
			found = value
		}
		before, last = last, t
		if len(stack) > 500 {
			return found
		}
	}
}

type jsToken struct {
	kind byte // 'w' a word or number, 's' a string, 't' a template with a value in it, 'p' other; 0 the end
	text string
	line int
}

func (t jsToken) is(text string) bool { return t.kind == 'p' && t.text == text }

type jsScanner struct {
	text string
	i    int
	line int
}

// next returns the next token. The last one decides between a division and a regular
// expression.
func (s *jsScanner) next(last jsToken) jsToken {
	for s.i < len(s.text) {
		c := s.text[s.i]
		switch {
		case c == '\n':
			s.line++
			s.i++
		case c == ' ' || c == '\t' || c == '\r':
			s.i++
		case strings.HasPrefix(s.text[s.i:], "//"):
			s.skip(strings.IndexByte(s.text[s.i:], '\n'))
		case strings.HasPrefix(s.text[s.i:], "/*"):
			n := strings.Index(s.text[s.i+2:], "*/")
			if n >= 0 {
				n += 4
			}
			s.skip(n)
		default:
			return s.token(c, last)
		}
	}
	return jsToken{}
}

// skip advances by n bytes, or to the end if n is negative.
func (s *jsScanner) skip(n int) {
	if n < 0 {
		n = len(s.text) - s.i
	}
	s.line += strings.Count(s.text[s.i:s.i+n], "\n")
	s.i += n
}

func jsWord(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '_' || c == '$' || c >= 0x80
}

func (s *jsScanner) token(c byte, last jsToken) jsToken {
	t := jsToken{kind: 'p', line: s.line}
	start := s.i
	switch {
	case jsWord(c):
		for s.i < len(s.text) && jsWord(s.text[s.i]) {
			s.i++
		}
		t.kind, t.text = 'w', s.text[start:s.i]
	case c == '"' || c == '\'' || c == '`':
		t.kind, t.text = s.quoted(c)
	case c == '/' && last.kind != 'w' && last.kind != 's' && !last.is(")") && !last.is("]"):
		s.expression()
		t.text = "/"
	case strings.HasPrefix(s.text[s.i:], "=>"):
		s.i += 2
		t.text = "=>"
	default:
		s.i++
		t.text = s.text[start:s.i]
	}
	return t
}

// quoted reads a string or template.
func (s *jsScanner) quoted(quote byte) (kind byte, text string) {
	kind = 's'
	var b strings.Builder
	for s.i++; s.i < len(s.text); s.i++ {
		switch c := s.text[s.i]; {
		case c == quote:
			s.i++
			return kind, b.String()
		case c == '\n':
			s.line++
			if quote != '`' {
				return 't', b.String() // not closed on its line
			}
			b.WriteByte(c)
		case c == '\\':
			if s.i++; s.i < len(s.text) {
				b.WriteByte(s.text[s.i])
			}
		case quote == '`' && strings.HasPrefix(s.text[s.i:], "${"):
			kind = 't'
		default:
			b.WriteByte(c)
		}
	}
	return 't', b.String()
}

// expression passes over a regular expression.
func (s *jsScanner) expression() {
	class := false
	for s.i++; s.i < len(s.text) && s.text[s.i] != '\n'; s.i++ {
		switch s.text[s.i] {
		case '\\':
			s.i++
		case '[':
			class = true
		case ']':
			class = false
		case '/':
			if !class {
				s.i++
				return
			}
		}
	}
	s.i = min(s.i, len(s.text))
}

// plain looks ahead for a value that is plain data: a string, a list of them,
// or a path from the file's own folder that is put together of them.
func (s *jsScanner) plain() (texts []string, ok bool) {
	ahead := *s
	next := func() jsToken { return ahead.next(jsToken{}) }
	ends := func(t jsToken) bool { return t.kind == 0 || t.is(",") || t.is("}") }
	t := next()
	switch {
	case t.kind == 's':
		return []string{t.text}, ends(next())
	case t.is("["):
		for {
			t = next()
			if t.is("]") {
				return texts, ends(next())
			}
			if t.kind != 's' {
				return nil, false
			}
			texts = append(texts, t.text)
			if t = next(); t.is("]") {
				return texts, ends(next())
			} else if !t.is(",") {
				return nil, false
			}
		}
	case t.kind == 'w' && t.text == "path":
		if !next().is(".") {
			return nil, false
		}
		if t = next(); t.text != "resolve" && t.text != "join" {
			return nil, false
		}
		if !next().is("(") || next().text != "__dirname" {
			return nil, false
		}
		var parts []string
		for {
			if t = next(); t.is(")") {
				return []string{strings.Join(parts, "/")}, len(parts) > 0 && ends(next())
			} else if !t.is(",") {
				return nil, false
			}
			if t = next(); t.kind != 's' {
				return nil, false
			}
			parts = append(parts, t.text)
		}
	}
	return nil, false
}
